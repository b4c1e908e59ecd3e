"""Posting: programs as planned, dialects as data, writing, and reading back."""
