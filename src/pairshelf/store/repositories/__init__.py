"""What is in the tables, as the core sees it; and back."""
