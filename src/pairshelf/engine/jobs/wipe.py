"""A lot of drives wiped side by side: each by its method, then read back; a certificate for each that was verified.

The books say how far each drive is; what is done is done on the drive before they say so. A kill in between repeats a
step: overwriting writes the same again. An erasure that a drive does by itself begins anew in other hands.
"""

from __future__ import annotations

import os
import random
import zlib
from collections import Counter
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from sqlmodel import Session, col, select

from pairshelf.core.disposal.facts import Command, DriveFacts
from pairshelf.core.disposal.methods import METHODS, Method
from pairshelf.core.disposal.times import side_by_side, uses_the_link
from pairshelf.core.domain.device import Device, DeviceError, Devices, Presence, Stalled, Unreadable
from pairshelf.core.domain.drives import Drive, Kind, extents_of
from pairshelf.engine.certificates import issue
from pairshelf.engine.io.side_by_side import each
from pairshelf.engine.jobs.kind import JobKind
from pairshelf.engine.jobs.work import Held, LotWork, Work
from pairshelf.engine.log import SYSTEM, log
from pairshelf.store.tables import DriveRow, JobRow, Service, Shelf, WipeRow, now

#: This process: an erasure begun by another is begun anew.
RUN = f"{os.getpid()}-{os.urandom(6).hex()}"
#: Steps of an erasure that a drive does by itself: only the time passes in them.
ERASE_STEPS = 20
_WAITS = "waits its turn: the link of its shelf bears no more at once"
#: Extents read before and after a key was changed, to see that nothing reads as before.
PROBES = 16


@dataclass(slots=True)
class _Part:
    """One drive's part of a step, done beside the others': what it found is written down afterwards."""

    wipe: WipeRow
    drive: DriveRow
    method: Method
    most: int
    error: DeviceError | None = None
    #: What is wrong with it: it is not wiped.
    wrong: str | None = None
    cursor: int = 0
    run: str | None = None
    report: dict[str, Any] | None = None


def step_lot(work: LotWork) -> float:
    """All drives of the lot a step further; the seconds of their time that took."""
    job, session = work.job, work.session
    query = (
        select(WipeRow, DriveRow).join(DriveRow, col(DriveRow.id) == WipeRow.drive_id).where(WipeRow.job_id == job.id)
    )
    rows = list(session.exec(query.order_by(col(WipeRow.id)).with_for_update(of=WipeRow)))  # type: ignore[call-overload]
    turns = _whose_turn(session, rows)
    parts = []
    for wipe, drive in rows:
        if wipe.state != "open":
            continue
        if wipe.id not in turns:
            wipe.held = _WAITS
            continue
        most = max(1, int(wipe.total * work.share * _hastier(job, wipe)))
        parts.append(
            _Part(wipe, drive, METHODS[wipe.method], most, cursor=wipe.cursor, run=wipe.run, report=dict(wipe.before))
        )

    def go(part: _Part) -> None:
        try:
            _further(part, work.world)
        except DeviceError as error:
            part.error = error
        except NotImplementedError:
            part.wrong = f"the drive does not carry out {part.method.name}"

    each(go, parts)
    for part in parts:
        _note(session, part)
    session.flush()
    open_ones = [w for w, _ in rows if w.state == "open"]
    whole = sum(w.total for w, _ in rows) or 1
    job.total = whole
    job.cursor = (
        whole if not open_ones else min(whole - 1, sum(w.cursor if w.state == "open" else w.total for w, _ in rows))
    )
    if open_ones and all(w.held for w in open_ones):
        raise Held("; ".join(dict.fromkeys(w.held or "" for w in open_ones)))
    return work.share * job.seconds


def _hastier(job: JobRow, wipe: WipeRow) -> float:
    """A drive that needs less time than the lot goes on in larger steps."""
    own = float(wipe.before.get("seconds") or 0.0)
    return max(1.0, job.seconds / own) if own else 1.0


def _whose_turn(session: Session, rows: Sequence[tuple[WipeRow, DriveRow]]) -> set[int | None]:
    """Drives that are written to now: on each shelf the first of the lot that its link bears. One that is away or
    stalls is tried again, and takes no turn from the others."""
    open_ones = [(w, d) for w, d in rows if w.state == "open"]
    turns = {w.id for w, _ in open_ones if not uses_the_link(METHODS[w.method]) or w.held not in (None, _WAITS)}
    for shelf_id in {d.shelf_id for _, d in open_ones}:
        shelf = session.get(Shelf, shelf_id) if shelf_id is not None else None
        own = [(w, d) for w, d in open_ones if d.shelf_id == shelf_id and w.id not in turns]
        facts = [_facts(d, shelf.link if shelf is not None else None) for _, d in own]
        turns |= {w.id for w, _ in own[: side_by_side(facts)]}
    return turns


def _facts(drive: DriveRow, link: int | None) -> DriveFacts:
    kind = Kind(drive.kind)
    return DriveFacts(kind, drive.size, max(1, round(Drive("", drive.size, kind, drive.rate).mean_rate)), link=link)


def _further(part: _Part, world: Devices) -> None:
    """One drive a step further: erase, then read back."""
    wipe, drive = part.wipe, part.drive
    device = world.open(drive.serial, drive.size)
    device.identify(Kind(drive.kind))
    shown = extents_of(drive.size) + device.open_protected()
    slow = max(1.0, device.slowness)
    most = max(1, int(part.most / slow))
    assert part.report is not None
    if part.cursor == 0:
        device.clear_held_back()
        if part.method.id == "crypto-erase":
            part.report["probes"] = _probed(device, _probes(wipe, shown))
    if part.cursor < wipe.erasing:
        _erase(part, device, shown, most, world.block)
        return
    _read_back(part, device, shown, most, world.block)


def _erase(part: _Part, device: Device, shown: int, most: int, block: int) -> None:
    wipe, method = part.wipe, part.method
    count = min(most, wipe.erasing - part.cursor)
    if method.id in ("overwrite", "write-zeroes"):
        count = min(count, max(1, shown - part.cursor))
        for first in range(0, count, _PIECE):
            some = min(_PIECE, count - first)
            device.write(part.cursor + first, memoryview(_blank(block))[: some * block])
        # Before the books say so: after a power cut nothing counts as wiped that is not.
        device.flush()
    elif method.command is Command.SANITIZE_OVERWRITE:
        device.overwrite_cells(part.cursor, min(count, device.cells - part.cursor), bytes(block))
    elif method.command is not None:
        if part.run != RUN:
            # Somebody else began it, and died: the drive begins anew.
            part.cursor, part.run = 0, RUN
        if part.cursor + count >= wipe.erasing:
            device.erase_all(method.command)
    part.cursor += count


#: Extents that are written, or read back, in one go.
_PIECE = 256


@lru_cache(maxsize=2)
def _blank(block: int) -> bytes:
    return bytes(_PIECE * block)


def _probes(wipe: WipeRow, shown: int) -> list[int]:
    return sorted(random.Random(wipe.id).sample(range(shown), min(PROBES, shown)))  # noqa: S311 - no secret


def _probed(device: Device, extents: Sequence[int]) -> list[tuple[int, int]]:
    """What stands there, as a sum; what cannot be read is no probe."""
    found = []
    for at in extents:
        with suppress(Unreadable):
            found.append((at, zlib.crc32(device.read(at, 1))))
    return found


def extents_to_read(wipe: WipeRow, shown: int) -> Sequence[int]:
    """Which extents are read back, in order: all, or a sample drawn by a number that was made when it began."""
    if wipe.verified_by == "all":
        return range(shown)
    seed = int(wipe.before["seed"])
    return sorted(random.Random(seed).sample(range(shown), min(shown, wipe.sample or 1)))  # noqa: S311


def _read_back(part: _Part, device: Device, shown: int, most: int, block: int) -> None:
    wipe = part.wipe
    wanted = extents_to_read(wipe, shown)
    done = part.cursor - wipe.erasing
    now_read = wanted[done : done + most]
    noise = part.method.id in ("crypto-erase", "key-gone")
    buffer = np.empty((_PIECE, block), np.uint8)
    for first, count in _stretches(now_read):
        rows = buffer[:count]
        device.read_into(first, rows.data)
        if not noise and rows.view(np.uint64).any():
            at = int(np.flatnonzero(rows.any(axis=1))[0])
            part.wrong = f"extent {first + at} is not blank after {part.method.name}"
            return
    part.cursor += len(now_read)
    if noise and part.cursor >= wipe.total and part.report:
        same = [at for at, seen in part.report.get("probes", ()) if zlib.crc32(device.read(at, 1)) == seen]
        if same:
            part.wrong = f"extent {same[0]} reads as before {part.method.name}"


def _stretches(extents: Sequence[int]) -> list[tuple[int, int]]:
    """Extents that follow one another, together, as many as are read in one go."""
    if isinstance(extents, range):
        return [(first, min(_PIECE, extents.stop - first)) for first in range(extents.start, extents.stop, _PIECE)]
    found: list[tuple[int, int]] = []
    for one in extents:
        if found and sum(found[-1]) == one and found[-1][1] < _PIECE:
            found[-1] = (found[-1][0], found[-1][1] + 1)
        else:
            found.append((one, 1))
    return found


def _note(session: Session, part: _Part) -> None:
    """Write down what one drive's part came to."""
    wipe, drive, error = part.wipe, part.drive, part.error
    wipe.started_at = wipe.started_at or now()
    if error is None and part.wrong is None:
        wipe.cursor, wipe.run, wipe.held = part.cursor, part.run, None
        wipe.before = part.report or wipe.before
        if wipe.cursor >= wipe.total:
            conclude(session, wipe, drive, "wiped")
        return
    if part.wrong is not None:
        conclude(session, wipe, drive, "not", part.wrong)
    elif isinstance(error, Unreadable):
        conclude(session, wipe, drive, "not", "some of it cannot be read back")
    elif isinstance(error, Stalled):
        wipe.held = f"{drive.serial} does not answer for now; it goes on when it does"
    elif error is not None and error.presence is Presence.ABSENT:
        wipe.held = f"{drive.serial} is not in its bay; it goes on when it is back"
    else:
        conclude(session, wipe, drive, "partly" if wipe.cursor or part.cursor else "not", "the drive failed on the way")


_SAID = {"wiped": "is wiped and verified", "partly": "is only partly wiped", "not": "is not wiped"}


def conclude(session: Session, wipe: WipeRow, drive: DriveRow, state: str, found: str | None = None) -> None:
    """The wiping of one drive has ended: wiped and verified, partly, or not; never in between."""
    wipe.state, wipe.found, wipe.ended_at, wipe.held = state, found, now(), None
    drive.service, drive.sealed_by = Service.FREE, None
    if state == "wiped":
        drive.holds, drive.wiped_at, drive.bears = None, wipe.ended_at, None
        session.flush()
        issue(session, wipe, drive)
    else:
        before = wipe.before.get("holds") or "old data"
        drive.holds = f"{before}; {wipe.share:.0%} of it wiped" if state == "partly" else f"{before}; not wiped"
    why = f": {found}" if found else ""
    log(session, SYSTEM, f"drive-{state}" if state == "wiped" else f"wipe-{state}", drive.serial,
        f"Drive {drive.serial} {_SAID[state]}{why}.", category=wipe.category, method=wipe.method)  # fmt: skip


def stop_lot(session: Session, job: JobRow, why: str) -> int:
    """End what has not ended of a lot; how many drives that were."""
    query = select(WipeRow, DriveRow).join(DriveRow, col(DriveRow.id) == WipeRow.drive_id)
    found = list(session.exec(query.where(WipeRow.job_id == job.id, WipeRow.state == "open")))
    for wipe, drive in found:
        conclude(session, wipe, drive, "partly" if wipe.cursor else "not", why)
    return len(found)


def _give_up(session: Session, job: JobRow, _world: Devices) -> None:
    stop_lot(session, job, job.error or "it was ended")


def _step(_work: Work) -> float:
    raise NotImplementedError("a lot is of no pool")


def _outcome(report: Mapping[str, Any], _pool: str) -> str:
    wiped, partly, left = (report.get(k, 0) for k in ("wiped", "partly", "not"))
    parts = [f"{wiped} wiped and verified", *([f"{partly} partly wiped"] if partly else []),
             *([f"{left} not wiped"] if left else [])]  # fmt: skip
    return f"Of {wiped + partly + left} drives {', '.join(parts)}."


def _states(session: Session, job: JobRow) -> Mapping[str, int]:
    """What became of its drives."""
    return Counter(session.exec(select(WipeRow.state).where(WipeRow.job_id == job.id)))


KIND = JobKind(
    "wipe", "Wiping", "Nobody uses these drives.", _step, _outcome, give_up=_give_up, alone=step_lot, sums_up=_states,
)  # fmt: skip
