"""Strategies for round holes and bosses."""
