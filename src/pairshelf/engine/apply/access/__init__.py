"""Approved changes of who reaches what."""
