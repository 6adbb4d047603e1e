"""What may run beside what: one table of what becomes of work that meets other work under way."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum


class Where(StrEnum):
    """How close two pieces of work have to come to meet."""

    #: Both in one pool.
    POOL = "pool"
    #: Both on one volume.
    VOLUME = "volume"
    #: Both for one place of a pool.
    PLACE = "place"


class Then(StrEnum):
    """What becomes of them."""

    #: The new one is not begun.
    REFUSED = "refused"
    #: The one under way is what was wanted.
    JOINED = "joined"
    #: The one under way begins anew.
    ANEW = "anew"
    #: The one under way ends, unfinished.
    ENDED = "ended"


@dataclass(frozen=True, slots=True)
class Under:
    """Work under way: a kind of job, with the volume and the place it is about."""

    kind: str
    volume_id: int | None = None
    slot: int | None = None


@dataclass(frozen=True, slots=True)
class Meeting:
    """A kind of new work that meets kinds under way (none named: any)."""

    new: str
    under_way: tuple[str, ...]
    where: Where
    then: Then
    code: str = "already-running"
    said: str = ""


#: The new work is a kind of job, or a kind of change that is carried out at once. What is not here runs side by side.
MEETINGS = (
    Meeting("check", ("first-sync", "self-repair"), Where.POOL, Then.REFUSED, "not-synced",
            "The first sync is still under way; check when it has finished."),
    Meeting("check", ("check",), Where.POOL, Then.REFUSED, said="A check of this pool is under way already."),
    Meeting("check", ("restripe",), Where.POOL, Then.REFUSED, "restriping",
            "The pool is being restriped; check it when that has ended."),
    *(
        Meeting(new, (kind,), Where.POOL, Then.REFUSED, "busy", f"{what} is under way in this pool; {then}.")
        for new in ("restripe", "add-sets")
        for kind, what, then in (
            ("restripe", "A restripe", "one at a time: wait for it, or turn it round"),
            ("rebuild", "A rebuild", "it goes first"),
            ("copy", "The copying of a drive", "wait for it, or leave it off"),
            ("self-repair", "A self-repair", "it goes first"),
            ("check", "A check", "wait for it"),
            ("move-together", "Moving together", "wait for it"),
        )
    ),
    Meeting("move-together", ("move-together",), Where.POOL, Then.REFUSED, said="It is being moved together already."),
    Meeting("move-together", ("restripe",), Where.POOL, Then.REFUSED, "restriping",
            "The pool is being restriped; move together when that has ended."),
    Meeting("restripe", ("first-sync",), Where.POOL, Then.REFUSED, "not-synced",
            "The first sync is still under way; restripe when it has finished."),
    Meeting("copy", ("restripe",), Where.POOL, Then.REFUSED, "restriping",
            "The pool is being restriped; exchange a drive that works when that has ended."),
    Meeting("copy", ("copy",), Where.PLACE, Then.REFUSED, "busy", "Its drive is being copied already."),
    Meeting("copy", ("drain",), Where.POOL, Then.REFUSED, "busy",
            "Drives of this pool are being drained; exchange one that works when that has ended."),
    Meeting("drain", ("drain",), Where.POOL, Then.REFUSED, "busy",
            "Other drives of it are being drained; one at a time: wait for that, or leave it off."),
    Meeting("drain", ("copy",), Where.POOL, Then.REFUSED, "busy",
            "The copying of a drive is under way; wait for it, or leave it off."),
    Meeting("drain", ("even-out",), Where.POOL, Then.ENDED, said="Drives are being drained."),
    *(
        Meeting("even-out", (kind,), Where.POOL, Then.REFUSED, "busy", f"{what} is under way in this pool; {then}.")
        for kind, what, then in (
            ("even-out", "Evening out", "wait for it"),
            ("drain", "Draining", "it spreads what it moves"),
            ("copy", "The copying of a drive", "wait for it, or leave it off"),
            ("check", "A check", "wait for it"),
        )
    ),
    *(
        Meeting(new, old, Where.POOL, Then.REFUSED, "busy", said)
        for new, old, said in (
            ("check", ("drain", "even-out"), "Stripes are being moved in this pool; check it when that has ended."),
            ("drain", ("check",), "A check of this pool is under way; wait for it."),
        )
    ),
    *(
        Meeting("scan", (kind,), Where.POOL, Then.REFUSED, code, f"{what}; scan {then}.")
        for kind, code, what, then in (
            ("scan", "already-running", "A surface scan of this pool is under way already", "again when it has ended"),
            ("check", "busy", "A check of this pool is under way, which reads everything too", "when it has ended"),
            ("first-sync", "not-synced", "The first sync is still under way", "when it has finished"),
            ("rebuild", "busy", "A rebuild is under way in this pool, and goes first", "when it has ended"),
            ("self-repair", "busy", "A self-repair is under way in this pool, and goes first", "when it has ended"),
            ("copy", "busy", "The copying of a drive is under way in this pool", "when it has ended"),
            ("restripe", "restriping", "The pool is being restriped", "when that has ended"),
            ("drain", "busy", "Stripes are being moved in this pool", "when that has ended"),
            ("even-out", "busy", "Stripes are being moved in this pool", "when that has ended"),
        )
    ),
    *(
        Meeting(new, ("scan",), Where.POOL, Then.REFUSED, "busy",
                "A surface scan of this pool is under way; wait for it.")
        for new in ("check", "restripe", "add-sets", "even-out")
    ),
    Meeting("fill", ("fill",), Where.VOLUME, Then.REFUSED, said="Files are being written to this volume already."),
    Meeting("read-files", ("read-files",), Where.VOLUME, Then.REFUSED,
            said="The files of this volume are being read already."),
    Meeting("check-files", ("check-files",), Where.VOLUME, Then.REFUSED,
            said="The files of this volume are being read already."),
    Meeting("self-repair", ("self-repair",), Where.PLACE, Then.JOINED),
    Meeting("rebuild", ("self-repair",), Where.PLACE, Then.ENDED, said="A drive has come to the place."),
    Meeting("rebuild", ("rebuild",), Where.PLACE, Then.ANEW),
    Meeting("move-volume", ("move-volume",), Where.VOLUME, Then.REFUSED, said="This volume is being moved already."),
    Meeting("move-volume", ("move-application", "undo-move"), Where.VOLUME, Then.REFUSED, "busy",
            "An application is being moved to it, or from it; wait for that."),
    Meeting("move-application", ("move-volume",), Where.VOLUME, Then.REFUSED, "busy",
            "This volume is being moved; wait for that, or leave it off."),
    *(
        Meeting(change, (), Where.VOLUME, Then.REFUSED, "busy",
                "A job works on this volume; wait for it, or pause and end it first.")
        for change in ("resize-volume", "reformat-volume", "delete-volume")
    ),
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Wait:
    """A kind of job that stands still while others of its pool have not ended."""

    job: str
    under_way: tuple[str, ...]
    said: str


#: What goes before what. A job that waits goes on by itself.
WAITS = (
    *(
        Wait("scan", (other,), said)
        for other, said in (
            ("rebuild", "a rebuild goes first"),
            ("self-repair", "a self-repair goes first"),
            ("first-sync", "a first sync goes first"),
            ("copy", "the copying of a drive goes first"),
            ("drain", "draining goes first"),
        )
    ),
    Wait("restripe", ("rebuild",), "a rebuild goes first"),
    Wait("copy", ("rebuild",), "a rebuild goes first"),
    Wait("drain", ("rebuild",), "a rebuild goes first"),
    Wait("drain", ("self-repair",), "a self-repair goes first"),
    Wait("even-out", ("rebuild",), "a rebuild goes first"),
    Wait("even-out", ("self-repair",), "a self-repair goes first"),
)


#: Kinds of jobs that may have to wait.
WAITING = frozenset(w.job for w in WAITS)


def why_waiting(kind: str, under_way: Iterable[str]) -> str | None:
    """What a job of that kind has to wait for among the kinds that have not ended in its pool, or None."""
    there = set(under_way)
    return next((w.said for w in WAITS if w.job == kind and there.intersection(w.under_way)), None)


def refused(new: Under, under_way: Iterable[Under]) -> Meeting | None:
    """Why new work is not begun beside what is under way, or None if it can be."""
    return next((m for m, _ in meetings(new, under_way) if m.then is Then.REFUSED), None)


def meetings(new: Under, under_way: Iterable[Under]) -> list[tuple[Meeting, Under]]:
    """What new work meets of all that is under way in its pool, and what becomes of both; refusals first."""
    found = [
        (m, one)
        for one in under_way
        for m in MEETINGS
        if m.new == new.kind and (not m.under_way or one.kind in m.under_way) and _meet(m.where, new, one)
    ]
    return sorted(found, key=lambda pair: pair[0].then is not Then.REFUSED)


def _meet(where: Where, new: Under, one: Under) -> bool:
    if where is Where.VOLUME:
        return new.volume_id is not None and new.volume_id == one.volume_id
    return where is Where.POOL or (new.slot is not None and new.slot == one.slot)
