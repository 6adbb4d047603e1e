"""Approved changes of pools."""
