"""Pair Shelf: choose, build and look after protected storage."""

__version__ = "0.1.0"
