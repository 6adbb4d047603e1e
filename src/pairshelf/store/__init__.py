"""Tables, constraints, repositories and migrations."""
