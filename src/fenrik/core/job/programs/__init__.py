"""From operations to the text of a program and what that text means: ordered, turned to their sides, written,
read back."""
