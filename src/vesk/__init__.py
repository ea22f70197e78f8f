"""Vesk: conform dailies."""

VERSION = "0.28.0"
