"""The reader: what a control makes of a text. It knows nothing of the path or of what wrote the text."""
