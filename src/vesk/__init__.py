"""Vesk: conform dailies."""

VERSION = "0.37.0"
