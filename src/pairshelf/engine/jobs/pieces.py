"""How much is worked on in one go."""

from __future__ import annotations

#: Extents written or read in one go, about.
PIECE = 8192
#: Files made while those before them are written.
MADE_AHEAD = 256
