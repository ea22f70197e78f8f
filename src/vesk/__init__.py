"""Vesk: conform dailies."""

VERSION = "0.35.0"
