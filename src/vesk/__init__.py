"""Vesk: conform dailies."""

VERSION = "0.36.0"
