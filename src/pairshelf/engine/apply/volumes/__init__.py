"""Approved changes of volumes."""
