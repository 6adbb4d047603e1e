"""Changes of volumes, and of where they are mounted."""
