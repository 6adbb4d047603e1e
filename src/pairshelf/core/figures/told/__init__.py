"""The figures of a layout, a module a subject."""
