"""What needs a person: sentences worked out from how things stand, the gravest first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import IntEnum
from urllib.parse import quote

from pairshelf.core.domain.words import as_sentence, listed, survives_more
from pairshelf.core.policies.filling import Filling


class Gravity(IntEnum):
    """How much a matter presses."""

    #: Data are lost or may be any moment.
    NOW = 0
    #: To be seen to soon.
    SOON = 1
    #: When there is time.
    SOMETIME = 2


#: The subject of a watcher that is away: who would tell of it is the watcher.
WATCHER = "watcher"
#: Days after which a recorded backup is called old.
OLD_BACKUP = 31
#: Bytes below which the disk is as good as full.
_LITTLE_ROOM = 64 * 2**20


@dataclass(frozen=True, slots=True)
class Matter:
    """One thing that needs a person, with where to see to it."""

    gravity: Gravity
    sentence: str
    act: str
    link: str
    #: The page with all of it, for somebody in front of the shelf; empty: there is none.
    page: str = ""
    #: What it is about, however it stands; empty: where to see to it, and how, says that.
    subject: str = ""
    #: What sort of trouble it is (``core.watching.guides``); empty: it is none, only something to be done.
    sort: str = ""
    #: The pool, or the drive, that it is about.
    pool: int | None = None
    drive: int | None = None

    @property
    def key(self) -> str:
        """What it is known by from one look to the next, while its words change."""
        return self.subject or f"{self.link} {self.act}".strip() or self.sentence[:40]


@dataclass(frozen=True, slots=True)
class PoolFacts:
    """What matters of a pool here."""

    id: int
    name: str
    state: str
    #: Places whose drive has failed or is missing, and nothing is being rebuilt onto.
    empty_places: int
    rebuilding: bool
    differing_files: int
    #: Mismatches of the last check that could not be put right.
    unsettled: int
    #: Of the empty places, those whose drive is away and may come back.
    away: int = 0
    #: What is away, in words.
    away_named: str = ""
    #: Drives of it that have failed, by bay and serial.
    failed: tuple[str, ...] = ()
    #: Failures that it survives now, whichever drives fail next; None where that is not known.
    left: int | None = None

    @property
    def reduced(self) -> str:
        """What is wrong with one that is not whole, and how many more failures it survives."""
        left = 0 if self.state == "unprotected" else self.left
        gone = f": {listed(self.failed[:4])} failed" if self.failed else ""
        more = f" {as_sentence(survives_more(left))}." if left is not None else ""
        return f"Pool {self.name} is {self.state}{gone}.{more}"


@dataclass(frozen=True, slots=True)
class NotedDrive:
    """A drive of which its readings say something."""

    id: int
    #: Serial and bay, in words.
    named: str
    #: The pool that it is a member of.
    pool: int | None
    #: Or its readings only give warning.
    failing: bool
    #: What the rules found, in words; empty where that is not known yet.
    why: str = ""
    #: All that was found tells of its link.
    of_link: bool = False
    #: Sectors that cannot be read wait for a scan.
    to_scan: bool = False
    #: What its pool does by itself as soon as it can: "copy" it onto a spare, "move" everything off it; empty: nothing.
    by_itself: str = ""


_BY_ITSELF = {
    "copy": "Its pool copies it by itself, as soon as a spare stands by that is large enough.",
    "move": "Its pool moves everything off it by itself, as soon as there is room.",
    "": "Replace it while it can be copied.",
}


def _of_drive(drive: NotedDrive) -> Matter:
    """What is to be done about a drive that its readings speak against."""
    why = f": {drive.why}" if drive.why else ""
    look = f"/shelves?drive={drive.id}"
    if drive.failing:
        # That it is failing is more than that it gave warning: somebody who was told of that is told of this.
        subject, said = (
            f"drive {drive.id} is failing",
            f"{drive.named} still works, but is failing by its readings{why}.",
        )
        if drive.pool is None:
            return Matter(Gravity.SOON, said, "Look at it", look, subject=subject, sort="failing", drive=drive.id)
        to = f"/pools/{drive.pool}?replace={drive.id}"
        said = f"{said} {_BY_ITSELF[drive.by_itself]}"
        return Matter(Gravity.SOON, said, "Replace it", to, f"/trouble/{drive.pool}", subject)
    said, act = f"{drive.named} gives warning{why}.", "Scan it" if drive.to_scan else "Look at it"
    if drive.of_link:
        said = f"The link of {drive.named} gives trouble{why}."
    sort = "link" if drive.of_link else "scan" if drive.to_scan else "warns"
    return Matter(
        Gravity.SOON,
        said,
        act,
        look,
        subject=f"drive {drive.id} gives warning",
        sort=sort,
        drive=drive.id,
        pool=drive.pool,
    )


def matters(
    pools: Sequence[PoolFacts], *, new_drives: int, drives: Sequence[NotedDrive], drafts: Sequence[tuple[int, str]],
    worker_away: bool, no_drives: bool, free_drives: int, no_pools: bool,
    locked: Sequence[tuple[int, str]] = (), unkept: Sequence[tuple[int, str]] = (), room_left: int | None = None,
    unruled: Sequence[tuple[int, str, str]] = (), fills: Sequence[Filling] = (),
    spoilt: Sequence[tuple[int, str, str]] = (), backups: Sequence[tuple[int, str, float]] = (),
    watcher_away: bool = False,
) -> list[Matter]:  # fmt: skip
    """All matters, the gravest first, otherwise in the order given.

    ``locked`` pools are (id, name), as are ``unkept`` ones, whose passphrase nobody has said to keep;
    ``room_left``: bytes left where the devices' own files lie; ``unruled`` volumes, that recordings are written to and nothing is ever
    deleted from, are (pool's id, volume, application); ``fills``: what is filling up;
    ``spoilt`` drives, whose wiping ended on the way, are (id, where, what became of it); recorded ``backups`` are (pool's
    id, of what, days old).
    """
    found: list[Matter] = []
    if worker_away:
        found.append(
            Matter(
                Gravity.NOW,
                "No worker is running: nothing is built, rebuilt or noticed until it is back. "
                "The start command brings it back by itself; if it does not, start it again.",
                "",
                "",
                subject="worker",
                sort="worker",
            )
        )
    if watcher_away:
        found.append(
            Matter(
                Gravity.NOW,
                "No watcher is running: nothing is recorded, and no message is sent, until it is back. "
                "The start command brings it back by itself; if it does not, start it again.",
                "",
                "",
                subject=WATCHER,
                sort="watcher",
            )
        )
    if room_left is not None and room_left < _LITTLE_ROOM:
        found.append(
            Matter(
                Gravity.NOW,
                f"The disk beneath has {room_left // 2**20} MiB left: jobs are held until there is room. Free some.",
                "",
                "",
                subject="disk",
                sort="disk",
            )
        )
    for pool in pools:
        # Whatever is wrong with its drives, the page for somebody in front of the shelf says all of it.
        for number, matter in enumerate(_of_pool(pool)):
            page = f"/trouble/{pool.id}" if pool.state != "healthy" and not matter.sort else ""
            # The first says how its drives stand, if they do not stand well.
            subject = f"pool {pool.id}" if page and number == 0 else f"files of pool {pool.id}"
            found.append(replace(matter, page=page, subject=subject))
    found += [
        Matter(
            Gravity.SOON,
            f"Nobody has said that the passphrase of pool {name} is kept. Without it, its data are lost once it is locked: "
            "say so, or make a new one while it is unlocked.",
            "See to it",
            f"/pools/{i}",
            subject=f"passphrase of pool {i}",
            sort="unkept",
            pool=i,
        )
        for i, name in unkept
    ]
    found += [_of_drive(one) for one in drives]
    found += [
        Matter(
            Gravity.SOON if f.urgent else Gravity.SOMETIME,
            f.sentence,
            *_to_fill(f.pool_id, f.act),
            subject=f"room of pool {f.pool_id}",
            sort="room",
            pool=f.pool_id,
        )
        for f in fills
    ]
    found += [
        Matter(
            Gravity.SOON,
            f"{where} is {became}: wipe it again, or have it destroyed.",
            "Let it go",
            f"/disposal?drives={i}",
            subject=f"wiping of drive {i}",
            sort="spoilt",
            drive=i,
        )
        for i, where, became in spoilt
    ]
    found += [
        Matter(
            Gravity.SOON,
            f"The recorded backup of {what} is {int(days)} days old.",
            "See to it",
            f"/pools/{i}",
            subject=f"backup of {what}",
            sort="backup",
            pool=i,
        )
        for i, what, days in backups
        if days > OLD_BACKUP
    ]
    found += [
        Matter(Gravity.SOMETIME, f"{title} waits for approval.", "Read the sheet", f"/changes/{i}")
        for i, title in drafts
    ]
    found += [
        Matter(
            Gravity.SOON,
            f"Pool {name} is locked: its volumes cannot be used until it is unlocked.",
            "Unlock it",
            f"/pools/{i}",
            subject=f"lock of pool {i}",
            sort="locked",
            pool=i,
        )
        for i, name in locked
    ]
    found += [
        Matter(
            Gravity.SOMETIME,
            f"{app} writes recordings to {volume}, and nothing is ever deleted there.",
            "Set a keep rule",
            f"/pools/{i}",
            subject=f"recordings of {app} on {volume} {i}",
        )
        for i, volume, app in unruled
    ]
    if new_drives:
        many = new_drives > 1
        found.append(
            Matter(
                Gravity.SOMETIME,
                f"{new_drives} new drive{'s have' if many else ' has'} been found. Accept {'them' if many else 'it'} to "
                f"use {'them' if many else 'it'}.",
                "Accept",
                "/shelves?filter=new",
            )
        )
    if no_drives:
        found.append(
            Matter(
                Gravity.SOMETIME,
                "There are no drives yet. Write down the first shelf with what is in it, or bring in a list.",
                "Begin",
                "/shelves",
            )
        )
    elif no_pools and free_drives:
        found.append(
            Matter(
                Gravity.SOMETIME,
                f"{free_drives} drive{'s are' if free_drives > 1 else ' is'} free and there is no pool yet.",
                "Compare layouts",
                "/compare",
            )
        )
    found = [replace(m, page=page_of(m)) if m.sort and not m.page else m for m in found]
    return sorted(found, key=lambda m: m.gravity)


def page_of(matter: Matter) -> str:
    """Where all that is to be said of a trouble stands, by what it is known by."""
    return f"/trouble/about?key={quote(matter.key, safe='')}"


def _to_fill(pool: int, act: str) -> tuple[str, str]:
    """What to do about something that is filling up, and where."""
    if act == "grow":
        return "Make it larger", f"/pools/{pool}/grow"
    return ("Watch it" if act == "watch" else "Extend it"), f"/pools/{pool}"


def _of_pool(pool: PoolFacts) -> list[Matter]:
    link = f"/pools/{pool.id}"
    found: list[Matter] = []
    replace = "Replace the drive" if pool.empty_places == 1 else "Replace the drives"
    if pool.state == "lost":
        found.append(
            Matter(
                Gravity.NOW,
                f"Pool {pool.name} is lost: more drives have failed than it survives.",
                "See what happened",
                link,
            )
        )
    elif pool.state == "unreachable":
        found.append(
            Matter(
                Gravity.NOW,
                f"Pool {pool.name} is unreachable; away are {pool.away_named or 'too many drives'}. Nothing is lost: once "
                "they are back it goes on where it was.",
                "See which",
                link,
            )
        )
    elif pool.state in ("degraded", "unprotected"):
        gravity = Gravity.NOW if pool.state == "unprotected" else Gravity.SOON
        if pool.away and pool.away == pool.empty_places:
            found.append(
                Matter(gravity, f"{pool.reduced} All data can be read. Away, and waited for: {pool.away_named}.",
                       "See which", link)
            )  # fmt: skip
        elif pool.empty_places:
            found.append(Matter(gravity, f"{pool.reduced} All data can be read.", replace, link))
        elif pool.rebuilding:
            found.append(
                Matter(
                    gravity,
                    f"{pool.reduced} All data can be read. It is being rebuilt.",
                    "Watch the rebuild",
                    link,
                )
            )
    if pool.differing_files:
        found.append(
            Matter(
                Gravity.NOW,
                f"{pool.differing_files} files in {pool.name} differ from what was written.",
                "See which",
                link,
                sort="differ",
                pool=pool.id,
            )
        )
    elif pool.unsettled:
        found.append(
            Matter(
                Gravity.SOON,
                f"The last check of {pool.name} found {pool.unsettled} mismatches that parity alone cannot settle.",
                "Read the report",
                link,
                sort="mismatch",
                pool=pool.id,
            )
        )
    return found


def verdict(matters: Sequence[Matter], pools: int) -> str:
    """Whether all is well, in one sentence."""
    now = sum(m.gravity is Gravity.NOW for m in matters)
    soon = sum(m.gravity is Gravity.SOON for m in matters)
    if now:
        return f"{_things(now)} you now{f', and {soon} more before long' if soon else ''}."
    if soon:
        return f"{_things(soon)} you before long."
    if not pools:
        return "There is no pool yet."
    rest = len(matters)
    return f"All is well; {rest} thing{'s' if rest > 1 else ''} can wait." if rest else "All is well."


def _things(count: int) -> str:
    return "One thing needs" if count == 1 else f"{count} things need"


def is_well(matters: Sequence[Matter]) -> bool:
    """Whether nothing needs a person now or soon."""
    return all(m.gravity is Gravity.SOMETIME for m in matters)
