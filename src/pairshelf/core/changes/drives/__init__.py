"""Changes of single drives."""
