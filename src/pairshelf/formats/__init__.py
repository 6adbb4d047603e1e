"""Readers and writers of open formats, one module each: tolerant reading, strict writing."""
