"""Approved changes of single drives."""
