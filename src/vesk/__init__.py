"""Vesk: conform dailies."""

VERSION = "0.32.0"
