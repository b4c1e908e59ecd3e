"""Strategies that clear levels of the plan view."""
