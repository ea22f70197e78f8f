"""Vesk: conform dailies."""

VERSION = "0.24.0"
