"""Vesk: conform dailies."""

VERSION = "0.26.0"
