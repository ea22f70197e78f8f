"""Vesk: conform dailies."""

VERSION = "0.17.0"
