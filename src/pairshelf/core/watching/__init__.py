"""What is seen of a house as time passes: what is recorded, how it is condensed, when something will be full."""
