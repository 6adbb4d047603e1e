"""Changes of what writes to volumes."""
