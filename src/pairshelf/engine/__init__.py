"""Carries change sheets out: steps, their journal, and the workers that take them."""
