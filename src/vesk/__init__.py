"""Vesk: conform dailies."""

VERSION = "0.33.0"
