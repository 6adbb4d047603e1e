"""Layouts: how drives are divided and protected. One module a family, one registry of schemes."""

from pairshelf.core.layouts.model import Band, Family, Group, Layout, Scheme
from pairshelf.core.layouts.registry import DIVIDED, SCHEMES, build_layout, scheme_of

__all__ = ["DIVIDED", "SCHEMES", "Band", "Family", "Group", "Layout", "Scheme", "build_layout", "scheme_of"]
