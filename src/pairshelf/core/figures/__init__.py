"""Figures of a layout: one module each, a layout in, numbers out."""
