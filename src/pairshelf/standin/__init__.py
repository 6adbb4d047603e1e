"""Simulated devices that ship with the product: media with real bytes, faults, and their controls."""
