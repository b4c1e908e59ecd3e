"""Setups: up direction, stock, program zero, work offset."""
