"""The job document and how it is run, step by step."""
