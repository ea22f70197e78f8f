"""Vesk: conform dailies."""

VERSION = "0.15.0"
