"""Which addresses of a pool are free, and giving them to volumes: lowest first, in as few pieces as that allows."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from pairshelf.core.errors import NoRoom


@dataclass(frozen=True, slots=True, order=True)
class Piece:
    """Extents of a volume from ``at`` on, lying at pool addresses from ``first`` on."""

    at: int
    first: int
    count: int


def gaps(capacity: int, taken: Iterable[tuple[int, int]]) -> list[tuple[int, int]]:
    """Free stretches (first, count) of addresses below ``capacity``; ``taken`` are (first, count)."""
    found = []
    end = 0
    for first, count in sorted(taken):
        if first > end:
            found.append((end, first - end))
        end = max(end, first + count)
    if end < capacity:
        found.append((end, capacity - end))
    return found


def allocate(free: Sequence[tuple[int, int]], at: int, count: int) -> list[Piece]:
    """Pieces for ``count`` extents of a volume from ``at`` on; NotPossible when so many are not free."""
    pieces = []
    left = count
    for first, room in free:
        if not left:
            break
        some = min(left, room)
        pieces.append(Piece(at + count - left, first, some))
        left -= some
    if left:
        raise NoRoom(
            f"The pool has {count - left} GiB left, {left} GiB too few.", needed=count, left=count - left, field=None
        )
    return pieces


def spans(pieces: Sequence[Piece], at: int, count: int) -> list[tuple[int, int, int]]:
    """Where the volume's extents ``at`` to ``at + count`` lie: (volume extent, pool address, extents).

    Extents that have no place yet are left out.
    """
    found = []
    for piece in sorted(pieces):
        low, high = max(at, piece.at), min(at + count, piece.at + piece.count)
        if low < high:
            found.append((low, piece.first + low - piece.at, high - low))
    return found


def unplaced(pieces: Sequence[Piece], at: int, count: int) -> list[tuple[int, int]]:
    """Stretches (volume extent, extents) of a volume that have no place yet."""
    return [(at + first, n) for first, n in gaps(count, ((s - at, n) for s, _, n in spans(pieces, at, count)))]


def without(pieces: Sequence[Piece], at: int, count: int) -> list[Piece]:
    """The pieces once a stretch of the volume has been given back."""
    kept = []
    for piece in pieces:
        end = piece.at + piece.count
        if piece.at < at:
            kept.append(Piece(piece.at, piece.first, min(end, at) - piece.at))
        if end > at + count:
            start = max(piece.at, at + count)
            kept.append(Piece(start, piece.first + start - piece.at, end - start))
    return [p for p in kept if p.count > 0]


def beyond(taken: Sequence[tuple[int, int]]) -> int:
    """Extents that stand beyond what all of them together need: as many must move for the rest to be free in one
    stretch."""
    whole = sum(count for _, count in taken)
    return sum(max(0, first + count - max(first, whole)) for first, count in taken)


def next_move(taken: Sequence[tuple[int, int]]) -> tuple[int, int, int] | None:
    """What is moved next so that all stands together below: (from address, to address, extents); None when it does.

    Only what stands beyond the end of what all need together is moved, once, into the gaps before that end.
    """
    whole = sum(count for _, count in taken)
    gap = next(((first, count) for first, count in gaps(whole, taken) if count > 0), None)
    if gap is None:
        return None
    first, count = max(taken)
    source = max(first, whole)
    moved = min(gap[1], first + count - source)
    # From the end, so that what is left of the piece stays one.
    return first + count - moved, gap[0], moved


def moved(pieces: Sequence[Piece], source: int, to: int, count: int) -> list[Piece]:
    """The pieces once a stretch of addresses, all within one of them, stands elsewhere."""
    piece = next(p for p in pieces if p.first <= source and source + count <= p.first + p.count)
    at = piece.at + source - piece.first
    found: list[Piece] = []
    for one in sorted([*without(pieces, at, count), Piece(at, to, count)]):
        last = found[-1] if found else None
        if last and (last.at + last.count, last.first + last.count) == (one.at, one.first):
            found[-1] = Piece(last.at, last.first, last.count + one.count)
        else:
            found.append(one)
    return found
