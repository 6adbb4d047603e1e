"""Kinds of change, one module each: what is there and what is asked, in; a change sheet, out."""
