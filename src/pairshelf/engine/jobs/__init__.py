"""Jobs, one module a kind: how it is started, what a step of it does, and what it found in the end."""
