"""The bytes of pools, volumes and files."""
