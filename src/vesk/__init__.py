"""Vesk: conform dailies."""

VERSION = "0.10.0"
