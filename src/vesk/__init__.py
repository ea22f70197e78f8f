"""Vesk: conform dailies."""

VERSION = "0.30.0"
