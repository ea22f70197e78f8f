"""Vesk: conform dailies."""

VERSION = "0.19.0"
