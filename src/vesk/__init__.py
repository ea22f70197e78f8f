"""Vesk: conform dailies."""

VERSION = "0.14.0"
