"""Writing a program's text in a dialect."""
