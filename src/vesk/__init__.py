"""Vesk: conform dailies."""

VERSION = "0.20.0"
