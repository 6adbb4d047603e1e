"""Names that people give: pools, volumes, mount points. One rule each, refused at its field."""

from __future__ import annotations

import difflib
import re
import unicodedata
from collections.abc import Iterable

from pairshelf.core.errors import BadInput

_NAME = re.compile(r"^[^\W_][\w.-]*$")


def file_name(text: str, otherwise: str = "drive") -> str:
    """A name for a file of something called like this: plain letters that no system and no header trips over."""
    plain = "".join(c if c.isascii() and (c.isalnum() or c in "-_.") else "_" for c in text).lstrip(".")[:80]
    return plain if plain.strip("_.") else otherwise


def is_number(text: str) -> bool:
    """Whether a text is a whole number in plain digits: not every digit there is can be reckoned with."""
    return text.isascii() and text.isdigit()


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


def as_path(text: str) -> str:
    """A typed path in the one way it is written here: by slashes, also behind a drive letter."""
    path = text.strip()
    if re.match(r"[A-Za-z]:", path):
        path = path[0].upper() + path[1:].replace("\\", "/")
    return path.rstrip("/")


def on_letter(path: str) -> bool:
    """Whether a path begins with a drive letter."""
    return path[1:2] == ":"


def check_mount_point(path: str, *, field: str = "mount_point") -> str:
    """An absolute path without ``..`` or empty parts, a drive letter such as ``S:``, or a folder behind one."""
    typed, path = path.strip(), as_path(path)
    if re.fullmatch(r"[D-Z]:", path):
        return path
    if not re.match(r"/|[A-Z]:/", path):
        if not typed.startswith("/"):
            raise BadInput(
                "A mount point is a full path such as /srv/scans, a drive letter such as S:, or a folder behind one "
                "such as C:/scans.",
                field=field,
            )
        raise BadInput("The root folder itself cannot be a mount point.", field=field)
    if len(path) > 255:
        raise BadInput("A mount point has at most 255 characters.", field=field)
    parts = path.split("/")[1:]
    if any(len(p.encode("utf-8", "replace")) > 200 for p in parts):
        raise BadInput("A folder's name in a mount point has at most 200 bytes.", field=field)
    if any(p in {"", ".", ".."} for p in parts):
        raise BadInput("A mount point may not contain “..”, “.” or empty parts.", field=field)
    if not path.isprintable() or any(c.isspace() for c in path):
        raise BadInput("A mount point may not contain spaces or characters that cannot be printed.", field=field)
    return path


_IQN = re.compile(r"iqn\.(\d{4})-(\d{2})\.([a-z0-9-]+(?:\.[a-z0-9-]+)+)(:[a-z0-9.:-]+)?")
#: Longest name in bytes (RFC 7143, 4.2.7.1).
MOST_IQN = 223


def check_iqn(name: str, *, field: str) -> str:
    """A target's or initiator's name: iqn, eui or naa (RFC 7143, 4.2.7; RFC 3720, 3.2.6.3)."""
    name = name.strip()
    if not name:
        raise BadInput("Give the name, such as iqn.2026-01.example.fernhollow:sorrel.", field=field)
    if len(name.encode()) > MOST_IQN:
        raise BadInput(f"A name has at most {MOST_IQN} bytes; this has {len(name.encode())}.", field=field)
    if any(c.isspace() for c in name) or "_" in name:
        raise BadInput("A name has no spaces and no underscores; use hyphens.", field=field)
    if name != name.lower():
        raise BadInput(f"Names are written in lower case: {name.lower()}.", field=field)
    if re.fullmatch(r"eui\.[0-9a-f]{16}|naa\.([0-9a-f]{16}|[0-9a-f]{32})", name):
        return name
    if name.startswith(("eui.", "naa.")):
        raise BadInput("After eui. come 16 hexadecimal digits, after naa. 16 or 32.", field=field)
    match = _IQN.fullmatch(name)
    if not match:
        raise BadInput(
            "A name is iqn.YEAR-MONTH.DOMAIN-BACKWARDS:ANYTHING, such as iqn.2026-01.example.fernhollow:sorrel, "
            "of lower-case letters, digits, dots, hyphens and colons.",
            field=field,
        )
    if not 1 <= int(match[2]) <= 12:
        raise BadInput(f"{match[2]} is no month; after the year comes 01 to 12.", field=field)
    if int(match[1]) < 1986:
        raise BadInput(f"{match[1]} is no year in which a domain could have been held.", field=field)
    if match[3].startswith("com.example") or match[3] in ("com.domain", "org.example", "net.example"):
        raise BadInput(
            f"{name} is an example name out of a document, not changed yet; put your own domain into it.",
            code="example-name", field=field,
        )  # fmt: skip
    return name


def near_misses(name: str, known: Iterable[str]) -> list[str]:
    """Known names that differ from this one by a slip or two, the nearest first; none when it is known itself."""
    known = list(dict.fromkeys(known))
    if name in known:
        return []
    return [one for one in difflib.get_close_matches(name, known, n=3, cutoff=0.88) if _slips(name, one) <= SLIPS]


#: Characters that are wrong, missing or too many, in a name that was meant for another.
SLIPS = 2


def _slips(one: str, other: str) -> int:
    """How many characters are wrong, missing or too many; two that changed places are two."""
    changes = difflib.SequenceMatcher(None, one, other, autojunk=False).get_opcodes()
    return sum(max(i2 - i1, j2 - j1) for what, i1, i2, j1, j2 in changes if what != "equal")


def as_folder(text: str) -> str:
    """A typed folder on a volume in the one way it is written here."""
    return unicodedata.normalize("NFC", text.strip().strip("/"))


def check_folder(path: str, *, field: str = "folder") -> str:
    """A folder on a volume, relative to its top; empty for the top itself."""
    cleaned = as_folder(path)
    if not cleaned:
        return ""
    if len(cleaned) > 200:
        raise BadInput("A folder's path has at most 200 characters.", field=field)
    if any(part in ("", ".", "..") for part in cleaned.split("/")):
        raise BadInput("A folder may not contain “..”, “.” or empty parts.", field=field)
    for part in cleaned.split("/"):
        check_name(part, "folder", field=field)
    return cleaned


_NUMBERS = re.compile(r"(\d+)")


def natural(text: str) -> list[tuple[int, str]]:
    """Sorts bay 2 before bay 10."""
    return [(int(part), "") if part.isdecimal() else (-1, part) for part in _NUMBERS.split(text.lower())]
