"""Changes of who reaches what over the network."""
