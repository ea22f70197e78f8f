"""Vesk: conform dailies."""

VERSION = "0.27.0"
