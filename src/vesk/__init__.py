"""Vesk: conform dailies."""

VERSION = "0.34.0"
