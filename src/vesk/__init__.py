"""Vesk: conform dailies."""

VERSION = "0.13.0"
