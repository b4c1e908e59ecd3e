"""HTTP: routes, errors to status codes, streaming of progress."""
