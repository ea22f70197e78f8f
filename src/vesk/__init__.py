"""Vesk: conform dailies."""

VERSION = "0.18.0"
