"""Compiled code of the stock."""
