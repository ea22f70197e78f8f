"""Vesk: conform dailies."""

VERSION = "0.12.0"
