"""Vesk: conform dailies."""

VERSION = "0.16.0"
