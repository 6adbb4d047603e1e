"""A pool in trouble, for somebody who stands in front of the shelf: what happened, what may still fail, the one right act,
and what must not be done now, with the reason."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pairshelf.core.domain.estate import EstatePlace, EstatePool
from pairshelf.core.domain.words import listed
from pairshelf.core.figures.survival import PoolState, now_in_words, state_of


@dataclass(frozen=True, slots=True)
class Concerned:
    """A drive that the trouble is about, or that must be left alone."""

    slot: int
    drive_id: int | None
    serial: str | None
    #: Where it is, or was: shelf and bay, in words.
    place: str
    #: failed, missing, failing, rebuilding.
    word: str
    #: In its bay, and out of reach with its shelf or host.
    offline: bool = False


@dataclass(frozen=True, slots=True)
class Must:
    """The one right act: in words, and where it is done; nowhere, if it is done by hand or by itself."""

    words: str
    why: str
    link: str | None = None


@dataclass(frozen=True, slots=True)
class Blocked:
    """Something dangerous, and why it must not be done now."""

    act: str
    why: str


@dataclass(frozen=True, slots=True)
class Trouble:
    """All that is on the page."""

    pool_id: int
    pool: str
    state: str
    title: str
    still: str
    #: The gravest first.
    drives: tuple[Concerned, ...]
    must: Must
    blocked: tuple[Blocked, ...]
    #: Members without which data could not be read: pulling one of these now is what turns trouble into loss of use.
    keep_in: tuple[Concerned, ...]


def trouble_of(pool: EstatePool) -> Trouble | None:
    """The trouble a pool is in; None where every drive serves and none of them warns."""
    concerned = [(word, p) for p in pool.places if (word := _word(p))]
    if not concerned:
        return None
    order = ("failed", "missing", "failing", "rebuilding")
    concerned.sort(key=lambda one: (order.index(one[0]), one[1].slot))
    failed = [p.designed.id for w, p in concerned if w in ("failed", "rebuilding")]
    missing = [p.designed.id for w, p in concerned if w == "missing"]
    gone = {w for w, _ in concerned}
    drives = tuple(_concerned(w, p) for w, p in concerned)
    keep = tuple(_concerned("", p) for p in _needed(pool, failed, missing))
    return Trouble(
        pool.id, pool.name, pool.state, _title(pool, drives), now_in_words(pool.layout, failed, missing), drives,
        _must(pool, drives, gone), tuple(_blocked(pool, keep, gone)), keep,
    )  # fmt: skip


def _word(place: EstatePlace) -> str:
    if place.state in ("failed", "missing", "rebuilding"):
        return place.state
    return "failing" if place.drive is not None and place.drive.condition == "failing" else ""


def _concerned(word: str, place: EstatePlace) -> Concerned:
    drive = place.drive
    return Concerned(
        place.slot, drive.id if drive else None, drive.serial if drive else None,
        drive.place if drive else "an empty place", word, drive is not None and drive.offline,
    )  # fmt: skip


def _needed(pool: EstatePool, failed: Sequence[str], missing: Sequence[str]) -> list[EstatePlace]:
    """Members that answer and whose absence, now, would leave data unreadable."""
    there = [p for p in pool.places if p.state == "active"]
    if pool.state in (PoolState.LOST, PoolState.UNREACHABLE):
        return there
    return [
        p for p in there
        if state_of(pool.layout, failed, [*missing, p.designed.id]) in (PoolState.LOST, PoolState.UNREACHABLE)
    ]  # fmt: skip


def _title(pool: EstatePool, drives: Sequence[Concerned]) -> str:
    if pool.state == "lost":
        return f"Pool {pool.name} is lost"
    if pool.state == "unreachable":
        return f"Pool {pool.name} is away, not lost"
    first, more = drives[0], len(drives) - 1
    what = {
        "failed": "has failed", "missing": "is offline" if first.offline else "is away", "failing": "still works, but is failing", "rebuilding": "is being rebuilt",
    }[first.word]  # fmt: skip
    also = f", and {more} more" if more else ""
    return f"The drive in {first.place.removeprefix('out of ')} {what}{also}"


def _must(pool: EstatePool, drives: Sequence[Concerned], gone: set[str]) -> Must:
    link = f"/pools/{pool.id}"
    if pool.state == "lost":
        return Must("Bring back the backup", "More drives have failed than this pool survives.", link)
    away = [d for d in drives if d.word == "missing"]
    if pool.state == "unreachable" or (away and "failed" not in gone):
        where = "; ".join(f"{d.serial} into {d.place.removeprefix('out of ')}" for d in away[:4])
        if not away:
            return Must("See what stands in the way", "Too much is gone to read or write now.", link)
        if all(d.offline for d in away):
            shelves = listed(sorted({d.place.rpartition(" bay ")[0] for d in away}))
            return Must(
                f"Reconnect {shelves}: check power and cable",
                "Its drives are in their bays and out of reach. Once it answers, they get only what changed meanwhile.",
            )
        return Must(
            f"Put {'it' if len(away) == 1 else 'them'} back: {where}",
            "What is away may come back as it was, and then gets only what changed meanwhile. Any bay will do.",
        )
    first = drives[0]
    if first.word == "failed":
        return Must(
            f"Replace the drive in {first.place.removeprefix('out of ')}",
            "Its content is computed from the others and written to the new one, while everything is used.",
            f"{link}?replace={first.drive_id}" if first.drive_id is not None else link,
        )
    if first.word == "failing" and any(slot == first.slot for slot, _ in pool.copies):
        return Must(
            "Let the copying end",
            "What stands on it is being copied while it reads. Then another drive has its place, and it can be wiped and pulled.",
            link,
        )
    if first.word == "failing":
        return Must(
            f"Replace the drive in {first.place} while it still reads",
            "It is copied while it is read, and the pool stays as protected as it is.",
            f"{link}?replace={first.drive_id}",
        )
    return Must("Let the rebuild end", "It goes on by itself, and can be made fast or gentle.", link)


def _blocked(pool: EstatePool, keep: Sequence[Concerned], gone: set[str]) -> list[Blocked]:
    found = []
    if keep:
        found.append(Blocked(
            "Pulling another drive",
            "Without any one of these, data could not be read or written: look at the serial, and light the lamp, before you pull.",
        ))  # fmt: skip
    if pool.state == "unreachable":
        found.append(Blocked(
            "Building anew on its drives",
            "Nothing is lost: once what is away is back, the pool goes on where it was. Built anew, it would be lost. It is not "
            "taken apart unless somebody says that it goes all the same.",
        ))  # fmt: skip
    elif pool.state in ("degraded", "unprotected"):
        found.append(Blocked(
            "Taking the pool apart, or building anew", "All data can be read. A replacement is all that is missing. It is not taken apart "
            "unless somebody says that it goes all the same.",
        ))  # fmt: skip
    if "missing" in gone and pool.state != "lost":
        found.append(Blocked(
            "Wiping what was pulled",
            "It is this pool's, and is wanted back as it was. It cannot be chosen for wiping while it is.",
        ))  # fmt: skip
    return found
