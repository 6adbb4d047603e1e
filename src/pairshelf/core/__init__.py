"""The rules and the arithmetic: pure functions from what is there and what is asked."""
