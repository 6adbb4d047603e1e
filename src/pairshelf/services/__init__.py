"""Use cases that more than one front has: API, console, demo. They hold no rules and know no requests."""
