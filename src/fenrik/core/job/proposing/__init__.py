"""Proposals: recipes, tools and whole plans for the features of a part."""
