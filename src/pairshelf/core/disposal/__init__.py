"""Letting drives go: what reaches what on which drive, how long it takes, and what a sample can miss."""
