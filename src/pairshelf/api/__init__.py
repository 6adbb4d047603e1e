"""The web API: one module a resource. No rules here; they are in the core."""
