"""Vesk: conform dailies."""

VERSION = "0.11.0"
