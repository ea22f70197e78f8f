"""Watching: a moment, every camera that ran then, one chosen sound."""
