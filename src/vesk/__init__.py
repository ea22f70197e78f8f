"""Vesk: conform dailies."""

VERSION = "0.25.0"
