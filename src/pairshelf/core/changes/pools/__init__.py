"""Changes of pools."""
