"""Patterns of file names, edited with a live view of what they catch."""
