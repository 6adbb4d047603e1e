"""Names that people give: pools, volumes, mount points. One rule each, refused at its field."""

from __future__ import annotations

import re
import unicodedata

from pairshelf.core.errors import BadInput

_NAME = re.compile(r"^[^\W_][\w.-]*$")


def check_name(name: str, what: str, *, field: str) -> str:
    """A name of letters, digits, dots, hyphens and underscores, at most 60, beginning with a letter or digit."""
    cleaned = unicodedata.normalize("NFC", name.strip())
    if not cleaned:
        raise BadInput(f"Give the {what} a name.", field=field)
    if len(cleaned) > 60:
        raise BadInput(f"A {what}'s name has at most 60 characters; this has {len(cleaned)}.", field=field)
    if not _NAME.match(cleaned) or any(
        unicodedata.bidirectional(c) in {"R", "AL", "RLE", "RLO", "LRO", "LRE"} for c in cleaned
    ):
        raise BadInput(
            f"A {what}'s name begins with a letter or digit and goes on with letters, digits, dots, hyphens "
            "or underscores, without spaces.",
            field=field,
        )
    return cleaned


def check_mount_point(path: str, *, field: str = "mount_point") -> str:
    """An absolute path without ``..`` or empty parts, or a drive letter such as ``S:``."""
    path = path.strip()
    if re.fullmatch(r"[D-Zd-z]:\\?", path):
        return path[0].upper() + ":"
    if not path.startswith("/"):
        raise BadInput("A mount point is a full path such as /srv/scans, or a drive letter such as S:.", field=field)
    if len(path) > 255:
        raise BadInput("A mount point has at most 255 characters.", field=field)
    parts = path.rstrip("/").split("/")[1:]
    if not parts or parts == [""]:
        raise BadInput("The root folder itself cannot be a mount point.", field=field)
    if any(p in {"", ".", ".."} for p in parts):
        raise BadInput("A mount point may not contain “..”, “.” or empty parts.", field=field)
    if not path.isprintable() or any(c.isspace() for c in path):
        raise BadInput("A mount point may not contain spaces or characters that cannot be printed.", field=field)
    return "/" + "/".join(parts)
