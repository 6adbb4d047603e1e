"""Random histories of a pool, with everything that can go wrong: and what must hold through all of them.

A history is drawn from its seed: a kind of pool, then acts one after the other. Workers are killed with SIGKILL at
random writes, flushes, commits and journal entries, some in the middle of one (a cut-off write); two work side by
side; drives are pulled, noticed or not, put back, fail and are replaced; whole shelves are unplugged; pools are
locked; jobs are paused; the disk is full; the database cuts everybody off.

What must hold: a drive comes back as it was only if not one byte of its pool changed meanwhile. In the end, with
everything put back: every job ends, no check finds a mismatch, and every file of the books reads back from the raw
media by an implementation apart, with as many members gone as were promised. And at any instant the drives are enough:
carried to another installation, with nothing of this one but at times its journal, they bring the pool back.
"""

from __future__ import annotations

import errno
import hashlib
import os
import random
import signal
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

from sqlalchemy import event, text
from sqlalchemy.exc import OperationalError
from sqlmodel import col, select

from pairshelf.core.changes.kinds import request_of
from pairshelf.core.changes.pools.change_scheme import drives_a_set, targets
from pairshelf.core.domain.device import DeviceError, Presence
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import PairShelfError
from pairshelf.engine import approver, keys
from pairshelf.engine import carry as carrying
from pairshelf.engine.carry import carry
from pairshelf.engine.errands import do_errands
from pairshelf.engine.io.stripe_journal import StripeJournal
from pairshelf.engine.jobs.check import start_check
from pairshelf.engine.jobs.fill import start_fill
from pairshelf.engine.jobs.pacing import pause, resume
from pairshelf.engine.jobs.read_files import start_reading
from pairshelf.engine.observe import observe
from pairshelf.engine.pools import devices, journal_of, open_pool
from pairshelf.engine.records import Recorder
from pairshelf.standin.hosts import Machines
from pairshelf.standin.media import Media
from pairshelf.store import database
from pairshelf.store.database import transaction
from pairshelf.store.repositories.drives_and_pools import add_records, load_pools
from pairshelf.store.tables import (
    DrainRow,
    DriveRow,
    JobRow,
    JobState,
    MemberState,
    PoolPlace,
    PoolRecord,
    PoolRow,
    Service,
    Setting,
    VolumeRow,
)
from tests.soak.elsewhere import FILES, Carried, carry_elsewhere, shuffled
from tests.soak.raw import HELD_BACK, Raw

#: Kinds of pools: scheme, drives, sets, failures promised, sizes of drives in GiB, what its volume asks for.
POOLS: dict[str, tuple[str, int, int, int, tuple[int, ...], dict[str, Any]]] = {
    "parity-1": ("parity-1", 4, 1, 1, (24,), {}),
    "parity-2": ("parity-2", 5, 1, 2, (24,), {}),
    "parity-3": ("parity-3", 6, 1, 3, (18,), {}),
    "copies-2": ("copies-2", 4, 2, 1, (20,), {}),
    "copies-3": ("copies-3", 3, 1, 2, (24,), {}),
    "two-sets": ("parity-1", 6, 2, 1, (18,), {}),
    "stepped-1": ("stepped-1", 4, 1, 1, (12, 12, 20, 30), {}),
    "stepped-2": ("stepped-2", 5, 1, 2, (12, 12, 20, 30, 30), {}),
    "spread-1": ("spread", 6, 1, 1, (20,), {"volume_size": "40 GiB", "protection": "parity-1:4"}),
    "spread-copies": ("spread", 5, 1, 1, (20,), {"volume_size": "30 GiB", "protection": "copies-2"}),
}

#: The same, and more, in which drives are drained among everything else: what is emptied, and on which shelf and host.
DRAINED = POOLS | {
    "spread-hosts": ("spread", 8, 1, 1, (20,), {"volume_size": "40 GiB", "protection": "parity-1:3", "domain": "host"}),
    "spread-shelves": (
        "spread",
        9,
        1,
        2,
        (20,),
        {"volume_size": "30 GiB", "protection": "copies-3", "domain": "shelf"},
    ),
}


class _Counted:
    """Kills its own process at a point drawn beforehand; a write that dies may have written a part."""

    def __init__(self, point: int, dice: random.Random, full_from: int | None) -> None:
        self.left, self.dice, self.full_from = point, dice, full_from
        self.writes = 0

    def point(self, cut: Callable[[], None] = lambda: None) -> None:
        self.left -= 1
        if self.left <= 0:
            if self.dice.random() < 0.5:
                cut()
            os.kill(os.getpid(), signal.SIGKILL)

    def install(self) -> None:
        counted = self
        media_write, flush, record, clear = Media.write, Media.flush, StripeJournal.record, StripeJournal.clear

        def write(self: Media, start: int, data: bytes | memoryview) -> None:
            counted.writes += 1
            if counted.full_from is not None and counted.writes >= counted.full_from:
                raise OSError(errno.ENOSPC, "No space left on device")
            view = memoryview(data).cast("B")
            counted.point(lambda: media_write(self, start, view[: len(view) // 4096 // 2 * 4096]))
            media_write(self, start, data)
            counted.point()

        def sync(self: Media) -> None:
            counted.point()
            flush(self)

        def recorded(self: StripeJournal, *arguments: Any) -> None:
            def cut() -> None:
                record(self, *arguments)
                os.truncate(self.path, max(9, os.path.getsize(self.path) * 2 // 3))

            counted.point(cut)
            record(self, *arguments)
            counted.point()

        def cleared(self: StripeJournal) -> None:
            counted.point()
            clear(self)
            counted.point()

        aside = Media.keep_aside

        def kept_aside(self: Media, data: bytes) -> None:
            counted.point()
            aside(self, data)
            counted.point()

        keep_record = Media.keep_record

        def kept_record(self: Media, copy: int, data: bytes, *, flush: bool = True) -> None:
            counted.point(lambda: keep_record(self, copy, data[: len(data) // 2]))
            keep_record(self, copy, data, flush=flush)
            counted.point()

        Media.keep_record = kept_record  # type: ignore[method-assign]
        Media.keep_aside = kept_aside  # type: ignore[method-assign]
        Media.write, Media.flush = write, sync  # type: ignore[method-assign]
        StripeJournal.record, StripeJournal.clear = recorded, cleared  # type: ignore[method-assign]
        for name in ("write", "move", "close"):
            act = getattr(Machines, name)
            setattr(Machines, name, lambda *a, act=act, **k: (counted.point(), act(*a, **k), counted.point())[1])
        event.listen(database.engine(), "commit", lambda _c: counted.point())


@contextmanager
def as_child(work: Callable[[], None]) -> Iterator[int]:
    """Work in a process of its own."""
    child = os.fork()
    if not child:
        try:
            # Connections were given back before; what the engine has learnt is kept.
            work()
        except BaseException:
            os._exit(1)
        os._exit(0)
    yield child
    os.waitpid(child, 0)


class History:
    """One history, drawn from a seed, on an empty database and an empty room."""

    def __init__(self, seed: int, kind: str | None = None, house: tuple[str, str] | None = None) -> None:
        self.dice = random.Random(seed)
        #: A server and the database with all tables on it: other installations are made from that.
        self.house, self.afar, self.carried = house, random.Random(seed * 7 + 1), 0
        named = kind or self.dice.choice(sorted(POOLS))
        self.kind = named.removeprefix("drained:")
        self.drained = named != self.kind
        self.scheme, count, sets, self._spread_promises, sizes, volume = DRAINED[self.kind]
        self.encrypted = self.dice.random() < 0.4
        self.said: list[str] = [f"{self.kind}{', encrypted' if self.encrypted else ''}"]
        self.kills = 0
        self._sizes = [sizes[i % len(sizes)] for i in range(count)]
        self._number = 0
        with transaction() as session:
            session.merge(Setting(key="speed", value={"factor": 0}))
        carrying._MOST, carrying._STEP, carrying._AGAIN = self.dice.choice((3, 9, 40)), 0.02, 0.08
        thin = self.dice.random() < 0.4
        drives = tuple(self._put_in(size) for size in self._sizes)
        passphrase = self._do("build-pool", name="p", scheme=self.scheme, drives=drives, sets=sets, volume="v",
                              file_system="none", thin=thin, encrypted=self.encrypted, **volume)  # fmt: skip
        self.passphrase = passphrase or ""
        with transaction() as session:
            self.pool_id = session.exec(select(PoolRow.id)).one() or 0
        #: What stood on the members when we saw a drive go missing, by its place and absence.
        self._seen: dict[tuple[int | None, int], dict[str, str]] = {}
        # Everything that happens at a look is caught: what went missing, and what came back.
        self._look()

    # -- acts ----------------------------------------------------------------------------------

    def _put_in(self, size: int) -> int:
        self._number += 1
        where = f"-{self._number % 4}" if self.drained else ""
        host = f"h{where}" if self.drained else None
        record = DriveRecord(f"A{where}", self._number, f"A{self._number}", size * GIB, Kind.HDD, bays=500, host=host)
        with transaction() as session:
            return add_records(session, [record], service=Service.FREE)[0].id or 0

    def _do(self, kind: str, **request: Any) -> str | None:
        with transaction() as session:
            sheet = approver.draw_up(session, kind, request_of(kind, request), "ida")
        with transaction() as session:
            return approver.approve(session, sheet.id or 0, "ida", sheet.body["confirm"] or "", devices())[1].passphrase

    def _places(self) -> list[tuple[PoolPlace, DriveRow]]:
        with transaction() as session:
            query = select(PoolPlace, DriveRow).join(DriveRow, col(DriveRow.id) == PoolPlace.drive_id)
            mine = query.where(PoolPlace.pool_id == self.pool_id, col(PoolPlace.slot).is_not(None))
            return list(session.exec(mine.order_by(col(PoolPlace.slot))))

    @property
    def promised(self) -> int:
        """How many may be gone, whichever they are, as its layout is now."""
        if self.kind.startswith("spread"):
            return self._spread_promises
        with transaction() as session:
            return load_pools(session, [self.pool_id])[0].layout.scheme.survives

    def _beside(self) -> list[tuple[int, DriveRow]]:
        """Drives that are being made copies: (slot of the member, drive)."""
        with transaction() as session:
            query = select(PoolPlace.beside, DriveRow).join(DriveRow, col(DriveRow.id) == PoolPlace.drive_id)
            mine = query.where(PoolPlace.pool_id == self.pool_id, col(PoolPlace.beside).is_not(None))
            return [(slot or 0, drive) for slot, drive in session.exec(mine)]

    def _bytes(self) -> dict[str, str]:
        """What stands on each member of the pool, labels aside, by serial."""
        found = {}
        for _, drive in self._places():
            path = devices().media_path(drive.serial)
            found[drive.serial] = hashlib.blake2b(path.read_bytes()[HELD_BACK:] if path.exists() else b"").hexdigest()
        return found

    def _look(self) -> None:
        """The watcher looks; a drive that comes back as it was must have missed nothing."""
        states = {place.id: (place.state, place.absence) for place, _ in self._places()}
        before = self._bytes()
        observe(devices())
        for place, drive in self._places():
            was = states.get(place.id)
            if was is None or was == (place.state, place.absence):
                continue
            if place.state == MemberState.MISSING:
                self._seen[place.id, place.absence] = before
            elif was[0] == MemberState.MISSING and place.state == MemberState.ACTIVE:
                if self.scheme == "spread":
                    # Others may have changed in stripes that it has no part in; of those it has, none.
                    self._in_step(drive.serial)
                    continue
                # One that a worker saw go is not known here.
                then = self._seen.get((place.id, place.absence), before)
                changed = [s for s, stood in then.items() if before.get(s, stood) != stood]
                assert not changed, f"{drive.serial} came back as it was, and {changed} had changed"

    def _in_step(self, serial: str) -> None:
        """With a drive back that is said to have missed nothing, no stripe is out of step, as far as all are there."""
        with transaction() as session:
            journal = StripeJournal(journal_of(session.get_one(PoolRow, self.pool_id).uid))
            kinds = session.exec(
                select(JobRow.kind).where(col(JobRow.state).not_in((JobState.DONE, JobState.FAILED)))
            ).all()
        if (
            "first-sync" in kinds
            or self._not_whole()
            or journal.pending()
            or any(devices().lost_extents(d.serial) for _, d in self._places())
        ):
            return
        with transaction() as session:
            wrong = Raw(session, self.pool_id).in_step()
        assert not wrong, f"{serial} came back as it was, and stripes {wrong} are out of step"

    def _not_whole(self) -> int:
        """Places that do not hold all their data, or will be found not to."""
        world = devices()
        return sum(
            place.state not in (MemberState.ACTIVE, MemberState.EMPTIED) or not world.presence(drive.serial).works
            for place, drive in self._places()
        )  # fmt: skip

    def _at_risk(self) -> int:
        """Places that cannot give all their data: with what cannot be read of one, another may not go."""
        return self._not_whole() + sum(
            bool(devices().lost_extents(drive.serial)) and place.state == MemberState.ACTIVE
            for place, drive in self._places()
        )

    def pull(self) -> None:
        if self._at_risk() >= self.promised:
            return
        whole = [d for p, d in self._places() if p.state == MemberState.ACTIVE and devices().presence(d.serial).works]
        drive = self.dice.choice(whole)
        devices().pull(drive.serial)
        self._say(f"{drive.serial} pulled")
        if self.dice.random() < 0.7:
            self._look()

    def put_back(self) -> None:
        away = [d for _, d in self._places() if devices().presence(d.serial) is Presence.ABSENT]
        away += [d for _, d in self._beside() if devices().presence(d.serial) is Presence.ABSENT]
        if away:
            drive = self.dice.choice(away)
            devices().put_back(drive.serial)
            self._say(f"{drive.serial} back")
            if self.dice.random() < 0.8:
                self._look()

    def fail(self) -> None:
        """One more than is promised never fails for good."""
        if self._at_risk() >= self.promised or self.dice.random() < 0.5:
            return
        drive = self.dice.choice([d for p, d in self._places() if p.state == MemberState.ACTIVE])
        devices().fail(drive.serial)
        self._say(f"{drive.serial} fails")
        if self.dice.random() < 0.8:
            self._look()

    def replace(self) -> None:
        failed = [p for p, _ in self._places() if p.state in (MemberState.FAILED, MemberState.EMPTIED)]
        if failed:
            place = self.dice.choice(failed)
            new = self._put_in(place.size // GIB)
            with suppress(PairShelfError):
                self._do("replace-drive", pool_id=self.pool_id, slot=place.slot, drive_id=new)
                self._say(f"slot {place.slot} replaced")

    def grow(self) -> None:
        """It gets other drives, sets or another scheme, or one that works is exchanged; or what is on its way turns."""
        if self.drained and self.dice.random() < 0.6:
            self.drain()
            return
        largest = max(self._sizes) + self.dice.choice((0, 0, 7))
        act = self.dice.choice(("add-drives", "add-drives", "convert-pool", "convert-pool", "exchange", "exchange", "add-sets",
                                "turn-restripe", "leave-copy", "extend-volumes"))  # fmt: skip
        with transaction() as session:
            layout = open_pool(session, self.pool_id).layout
        sets, width = len(layout.sets), layout.width
        with suppress(PairShelfError):
            if act == "add-drives":
                self._do(
                    act,
                    pool="p",
                    drives=tuple(self._put_in(largest) for _ in range(sets * self.dice.choice((1, 1, 2)))),
                )
            elif act == "add-sets":
                self._do(act, pool="p", drives=tuple(self._put_in(largest) for _ in range(width)))
            elif act == "convert-pool":
                to = self.dice.choice(targets(layout) or ("none",))
                least, most = drives_a_set(layout, to)
                more = self.dice.choice((max(0, least), max(0, least), min(max(0, most), max(0, least) + 1)))
                self._do(act, pool="p", scheme=to, drives=tuple(self._put_in(largest) for _ in range(more * sets)))
            elif act == "exchange":
                places = self._places()
                # Now and then two side by side: what each brings may need the other.
                for place, old in self.dice.sample(places, min(len(places), self.dice.choice((1, 1, 2)))):
                    new = self._put_in(max(place.size // GIB, self.dice.choice((1, largest))))
                    risky = self._at_risk() >= self.promised or place.state != MemberState.ACTIVE
                    if self.dice.random() < 0.5 and not risky:
                        devices().lose_extents(old.serial, sorted(self.dice.sample(range(10), 3)))
                    self._do("replace-drive", pool_id=self.pool_id, slot=place.slot, drive_id=new)
            elif act == "leave-copy":
                for slot, _ in self._beside():
                    self._do(act, pool_id=self.pool_id, slot=slot)
            else:
                self._do(act, pool="p")
            self._say(act)

    def drain(self) -> None:
        """Some of its drives are to leave, or all of a host; or that is left off."""
        with transaction() as session:
            going = session.exec(select(DrainRow.id).where(col(DrainRow.ended_at).is_(None))).all()
        with suppress(PairShelfError):
            if going and self.dice.random() < 0.3:
                self._do("leave-drain", drain=self.dice.choice(going))
                self._say("draining left off")
                return
            places = self._places()
            leaving = self.dice.sample(places, min(len(places), self.dice.choice((1, 1, 2, 3))))
            for place, _ in () if self.scheme == "spread" and self.dice.random() < 0.7 else leaving:
                self._put_in(place.size // GIB)
            if self.dice.random() < 0.3:
                self._do("drain", hosts=(f"h-{self.dice.randint(0, 3)}",))
            else:
                self._do("drain", drives=tuple(d.id for _, d in leaving))
            self._say(f"drained: {', '.join(d.serial for _, d in leaving)}")

    def lose_the_copy(self) -> None:
        """A drive that is being made a copy goes, and perhaps comes back."""
        for _, drive in self._beside():
            devices().fail(drive.serial) if self.dice.random() < 0.3 else devices().pull(drive.serial)
            self._say(f"the copy {drive.serial} goes")
            if self.dice.random() < 0.7:
                self._look()

    def unplug(self) -> None:
        """A whole shelf goes and comes back: more than the pool survives."""
        here = [d for _, d in self._places() if devices().presence(d.serial).works]
        for drive in here:
            devices().lose_extents(drive.serial, [])
        gone = self.dice.sample(here, self.dice.randint(1, len(here)))
        for drive in gone:
            devices().pull(drive.serial)
        self._look()
        self._say(f"{len(gone)} unplugged")
        if self.dice.random() < 0.7:
            self._carry_some(killed=self.dice.random() < 0.5)
        self.dice.shuffle(gone)
        for drive in gone:
            devices().put_back(drive.serial)
            if self.dice.random() < 0.5:
                self._look()
        self._look()

    def lock(self) -> None:
        if self.encrypted and keys.is_open(self.pool_id):
            keys.forget_key(self.pool_id)
            self._say("locked")

    def unlock(self) -> None:
        if self.encrypted and not keys.is_open(self.pool_id):
            with transaction() as session:
                wrapped = session.get_one(PoolRow, self.pool_id).key or {}
            keys.open_key(self.pool_id, keys.unwrap(wrapped, self.passphrase))
            self._say("unlocked")

    def fill(self) -> None:
        self._start(lambda session, pool, volume: start_fill(session, pool, volume, self.dice.uniform(0.2, 1), "ida"))

    def read(self) -> None:
        self._start(lambda session, pool, volume: start_reading(session, pool, volume, "ida"))

    def check(self) -> None:
        self._start(lambda session, pool, _: start_check(session, pool, "ida"))

    def _start(self, make: Callable[[Any, Any, VolumeRow], JobRow]) -> None:
        with suppress(PairShelfError), transaction() as session:
            volume = session.exec(select(VolumeRow)).one()
            job = make(session, open_pool(session, self.pool_id), volume)
            self._say(f"{job.kind} {job.id}")

    def pause(self) -> None:
        self._change_jobs(pause)

    def resume(self) -> None:
        self._change_jobs(resume)

    def _change_jobs(self, act: Callable[[Any, JobRow], None]) -> None:
        with transaction() as session:
            open_pool(session, self.pool_id)
            for job in session.exec(select(JobRow).where(col(JobRow.state).not_in(("done", "failed")))):
                with suppress(PairShelfError):
                    act(session, job)

    def _open_jobs(self) -> list[int]:
        with transaction() as session:
            rows = session.exec(select(JobRow.id).where(col(JobRow.state).not_in((JobState.DONE, JobState.FAILED))))
            return sorted(i or 0 for i in rows)

    def work(self) -> None:
        self._carry_some(killed=self.dice.random() < 0.75)

    def two_work(self) -> None:
        self._carry_some(killed=self.dice.random() < 0.75, workers=2)

    def full(self) -> None:
        """The disk is full from some write on."""
        self._carry_some(killed=False, full=True)

    def cut_off(self) -> None:
        """The database cuts everybody off while somebody works."""
        self._carry_some(killed=False, cut=True)

    def _carry_some(self, *, killed: bool, workers: int = 1, full: bool = False, cut: bool = False) -> None:
        open_ones = self._open_jobs()
        if not open_ones:
            return
        seeds = [self.dice.getrandbits(32) for _ in range(workers)]
        points = [self.dice.randint(1, 60) if killed else 10**9 for _ in range(workers)]
        until = self.dice.randint(1, 6)
        orders = [self.dice.sample(open_ones, len(open_ones)) for _ in range(workers)]
        self._say(
            f"work{' killed at ' + str(points) if killed else ''}{' full' if full else ''}{' cut off' if cut else ''}"
        )
        database.engine().dispose()

        def worker(number: int) -> Callable[[], None]:
            def run() -> None:
                dice = random.Random(seeds[number])
                _Counted(points[number], dice, dice.randint(1, 20) if full else None).install()
                steps = 0

                def stop() -> bool:
                    nonlocal steps
                    steps += 1
                    return steps > until

                for job in orders[number]:
                    steps = 0
                    with suppress(OperationalError, DeviceError):
                        carry(job, stop=stop)

            return run

        children = [as_child(worker(n)) for n in range(workers)]
        for child in children:
            child.__enter__()
        if cut:
            time.sleep(self.dice.random() / 5)
            _cut_off_others()
        for child in children:
            child.__exit__(None, None, None)
        self.kills += workers if killed else 0
        _wait_for_the_dead()
        if killed and self.afar.random() < 0.2:
            self.elsewhere()

    def elsewhere(self) -> None:
        """The machine is gone, and its drives are carried to another."""
        lacking = self._not_whole()
        with transaction() as session:
            pool = session.get_one(PoolRow, self.pool_id)
            drives = {d.serial: d.size for d in session.exec(select(DriveRow).order_by(col(DriveRow.id)))}
            told_once = session.get(PoolRecord, self.pool_id) is not None
        if self.house is None or not told_once or lacking > self.promised or pool.state in ("lost", "unreachable"):
            return
        told = self.afar.random() < 0.5
        if told:
            Recorder(devices()).write_due(at_once=True)
        # Without the journal a write that was cut off is whole only where every drive is.
        journals = [journal_of(pool.uid)] if lacking or self.afar.random() < 0.5 else []
        whole = [
            d.serial for p, d in self._places() if p.state == MemberState.ACTIVE and devices().presence(d.serial).works
        ]
        most = self.promised - lacking if journals else 0
        forgotten = self.afar.sample(whole, min(len(whole), self.afar.randint(0, most)))
        there = {s: n for s, n in drives.items() if devices().presence(s).works and s not in forgotten}
        with transaction() as session:
            files = frozenset(session.connection().execute(FILES).scalars()) if told else None
        self._say(f"elsewhere without {forgotten}{'' if journals else ' and the journal'}{' told' if told else ''}")
        self.carried += 1
        carried = Carried(shuffled(there, self.afar), self.passphrase, files)
        carry_elsewhere(*self.house, carried, journals)

    def _say(self, what: str) -> None:
        self.said.append(what)

    # -- the whole -----------------------------------------------------------------------------

    ACTS = (
        ("work", 10), ("fill", 5), ("pull", 4), ("put_back", 4), ("fail", 2), ("replace", 3), ("unplug", 1), ("lock", 2),
        ("grow", 7), ("lose_the_copy", 1), ("unlock", 2), ("read", 1), ("check", 1), ("pause", 1), ("resume", 2), ("two_work", 2), ("full", 1), ("cut_off", 1),
    )  # fmt: skip

    def run(self) -> None:
        """All of it; AssertionError, with what was done, where something did not hold."""
        try:
            for _ in range(self.dice.randint(6, 22)):
                act = self.dice.choices([a for a, _ in self.ACTS], [w for _, w in self.ACTS])[0]
                getattr(self, act)()
            self._put_right()
            self._all_is_well()
            self.elsewhere()
        except BaseException as error:
            error.add_note("history: " + "; ".join(self.said))
            raise

    def _put_right(self) -> None:
        """Everything is put back, and everybody works until nothing is left to do."""
        self.said.append("in the end")
        for number in range(12):
            if number == 6:
                # What has no room any more, as drives failed meanwhile, is left off.
                with transaction() as session:
                    going = session.exec(select(DrainRow.id).where(col(DrainRow.ended_at).is_(None))).all()
                for drain in going:
                    self._do("leave-drain", drain=drain)
            self.unlock()
            for _, drive in (*self._places(), *self._beside()):
                devices().put_back(drive.serial)
            self._look()
            for _ in range(len(self._sizes)):
                self.replace()
            self.resume()
            do_errands()
            for job in self._open_jobs():
                began = time.monotonic()
                carry(job, stop=lambda began=began: time.monotonic() - began > 1.5)  # type: ignore[misc]
            if not self._open_jobs() and self._not_whole() == 0:
                return
        states = [(p.slot, p.state, d.serial, d.condition) for p, d in self._places()]
        raise AssertionError(f"never put right: {states}, jobs {self._open_jobs()}")

    def _all_is_well(self) -> None:
        with transaction() as session:
            assert session.get_one(PoolRow, self.pool_id).state == "healthy"
            ended = session.exec(select(JobRow.kind, JobRow.error).where(JobRow.state == JobState.FAILED)).all()
            # Superseded: its drive failed, or another came. Full: two filled the same volume.
            fine = ("place", "full", "room for", "copy", "left off", "drained", "has left")
            assert all(any(word in (e or "") for word in fine) for _, e in ended), ended
        if any(state == "emptied" for state in [p.state for p, _ in self._places()]):
            return
        with transaction() as session:
            raw = Raw(session, self.pool_id)
            for row in session.exec(select(DrainRow)):
                assert row.ended_at is not None
            free = session.exec(select(DriveRow).where(DriveRow.service == Service.FREE)).all()
            assert all(d.drain_id is None for d in session.exec(select(DriveRow)))
            # What has left is named by no place, and its label by no slot of the pool's.
            places = {p.drive_id: p for p in session.exec(select(PoolPlace))}
            assert not [d.serial for d in free if d.id in places]
            for place in places.values():
                drive = session.get_one(DriveRow, place.drive_id)
                label = devices().open(drive.serial, drive.size).read_label()
                assert place.beside is not None or (label or {}).get("slot") == place.slot
            assert raw.in_step() == []
            assert raw.files_differing(self.dice, self.promised) == []
            assert raw.files_differing(self.dice, 0) == []
        with suppress(PairShelfError):
            with transaction() as session:
                job = start_check(session, open_pool(session, self.pool_id), "ida").id or 0
            carry(job)
            with transaction() as session:
                report = session.get_one(JobRow, job).report
            assert (report["mismatches"], report["files_differing"]) == (0, []), report


def _cut_off_others() -> None:
    with transaction() as session:
        session.connection().execute(text(
            "select pg_terminate_backend(pid) from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()"
        ))  # fmt: skip


def _wait_for_the_dead() -> None:
    """The server takes a moment to let go of the locks of a killed process."""
    mine = text("select count(*) from pg_locks l join pg_stat_activity a using (pid) "
                "where l.locktype = 'advisory' and a.datname = current_database() and pid <> pg_backend_pid()")  # fmt: skip
    until = time.monotonic() + 10
    while time.monotonic() < until:
        with transaction() as session:
            if not session.connection().execute(mine).scalar_one():
                return
        time.sleep(0.01)
