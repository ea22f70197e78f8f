"""Vesk: conform dailies."""

VERSION = "0.23.0"
