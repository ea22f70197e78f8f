"""Vesk: conform dailies."""

VERSION = "0.21.0"
