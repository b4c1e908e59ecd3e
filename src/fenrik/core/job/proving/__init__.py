"""The proof of a release: what was cut is measured, every check looks at it, findings are what comes out."""
