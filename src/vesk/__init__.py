"""Vesk: conform dailies."""

VERSION = "0.22.0"
