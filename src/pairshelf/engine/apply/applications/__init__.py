"""Approved changes of what writes to volumes."""
