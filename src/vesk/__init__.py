"""Vesk: conform dailies."""

VERSION = "0.29.0"
