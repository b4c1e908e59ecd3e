"""The letters that ship with Fenrik, as single lines for engraving."""
