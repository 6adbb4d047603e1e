"""What becomes of requests on drives that can do so much and no more: each drive serves one thing at a time.

Small operations take the time that a drive's operations a second leave (of 4 KiB each); long ones its rate, and the
way to where they begin unless the drive is there already. A job gets at least, and at most, its share of each drive's
time. Events are exact in their own time; no clock is read.
"""

from __future__ import annotations

import heapq
from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

#: What the operations a second of a drive are of, bytes.
SMALL = 4096


@dataclass(frozen=True, slots=True)
class Ability:
    """What a drive can do. ``rate`` in bytes a second, ``operations`` of 4 KiB a second."""

    rate: float
    operations: float
    #: Which of the links it hangs on.
    link: int | None = None

    @property
    def way(self) -> float:
        """Seconds to get to where something begins."""
        return max(0.0, 1 / self.operations - SMALL / self.rate)


@dataclass(frozen=True, slots=True)
class Operation:
    """One operation of one drive."""

    drive: int
    size: int
    writes: bool
    #: Whoever walks along the drive, if anybody: the way is taken only where another was served in between.
    walk: Any = None
    #: Extents along the drive that it moves; None: those that follow.
    first: int | None = None
    count: int = 1


#: Operations that go on side by side, and those that follow when all of them are done.
Phases = Sequence[Sequence[Operation]]


@dataclass(frozen=True, slots=True)
class Asked:
    """A request as drives have it. ``size``: bytes that its user asked for."""

    phases: Phases
    size: int
    writes: bool


@dataclass(frozen=True, slots=True)
class Player:
    """One who asks: so many requests at once, and no more than so many a second, where that is said."""

    requests: Iterator[Asked]
    at_once: int
    wanted: float | None = None


@dataclass(frozen=True, slots=True)
class Walking:
    """A job that works beside them: steps that are done again and again. ``least`` and ``most``: of each drive's time."""

    steps: Sequence[Phases]
    least: float
    most: float
    #: Steps under way at once: it reads ahead.
    lanes: int = 8


@dataclass(slots=True)
class PlayerResult:
    """What came of one player's requests."""

    requests: int = 0
    reads: int = 0
    writes: int = 0
    size: int = 0
    #: Seconds from each request to its end.
    responses: list[float] = field(default_factory=list)

    def response(self, share: float = 0.5) -> float | None:
        """Seconds within which this share of them was answered; None where nothing was."""
        if not self.responses:
            return None
        ordered = sorted(self.responses)
        return ordered[min(len(ordered) - 1, int(share * len(ordered)))]


@dataclass(slots=True)
class OnDrive:
    """What a drive had to do. ``busy`` in seconds, the job's part of it apart."""

    operations: int = 0
    size: int = 0
    written: int = 0
    busy: float = 0.0
    for_job: float = 0.0


@dataclass(slots=True)
class Measurement:
    """What was measured, over so many seconds of the drives' time."""

    seconds: float
    players: list[PlayerResult]
    drives: list[OnDrive]
    #: Bytes over each link.
    links: list[int]
    steps: int


class _Place:
    __slots__ = ("at", "busy", "end", "job", "users", "waiting")

    def __init__(self) -> None:
        self.users: deque[tuple[Operation, _Doing]] = deque()
        self.job: deque[tuple[Operation, _Doing]] = deque()
        self.busy = self.waiting = False
        self.at: Any = None
        self.end = 0


class _Doing:
    """A request, or a step of the job, under way."""

    __slots__ = ("begun", "left", "phase", "phases", "player", "size", "writes")

    def __init__(self, phases: Phases, player: int | None, begun: float, size: int, writes: bool) -> None:
        self.phases, self.player, self.begun, self.size, self.writes = phases, player, begun, size, writes
        self.phase = self.left = 0


class _House:
    def __init__(
        self, abilities: Sequence[Ability], links: Sequence[float], players: Sequence[Player], job: Walking | None
    ) -> None:
        self.abilities, self.links, self.players, self.job = abilities, links, players, job
        self.places = [_Place() for _ in abilities]
        self.link_free = [0.0] * len(links)
        self.events: list[tuple[float, int, Any, tuple[Any, ...]]] = []
        self.number = 0
        self.now = 0.0
        self.next_step = 0
        self.begun = [0] * len(players)
        self.outcome = Measurement(
            0.0, [PlayerResult() for _ in players], [OnDrive() for _ in abilities], [0] * len(links), 0
        )

    def at(self, when: float, act: Any, *given: Any) -> None:
        self.number += 1
        heapq.heappush(self.events, (when, self.number, act, given))

    def ask(self, player: int) -> None:
        """Its next request, when its time has come."""
        one = self.players[player]
        when = self.begun[player] / one.wanted if one.wanted else 0.0
        self.begun[player] += 1
        if when > self.now:
            self.at(when, self.start, player)
        else:
            self.start(player)

    def start(self, player: int) -> None:
        asked = next(self.players[player].requests)
        self.go_on(_Doing(asked.phases, player, self.now, asked.size, asked.writes))

    def step(self) -> None:
        assert self.job is not None
        steps = self.job.steps
        self.go_on(_Doing(steps[self.next_step % len(steps)], None, self.now, 0, False))
        self.next_step += 1

    def go_on(self, doing: _Doing) -> None:
        while doing.phase < len(doing.phases):
            acts = doing.phases[doing.phase]
            doing.phase += 1
            if acts:
                doing.left = len(acts)
                for act in acts:
                    place = self.places[act.drive]
                    (place.job if doing.player is None else place.users).append((act, doing))
                for act in acts:
                    self.serve(act.drive)
                return
        self.done(doing)

    def serve(self, drive: int) -> None:
        place = self.places[drive]
        if place.busy or not (place.users or place.job):
            return
        found, job = self.outcome.drives[drive], self.job
        for_job = False
        if place.job and job is not None:
            may = found.for_job <= job.most * self.now
            for_job = may and (not place.users or found.for_job < job.least * self.now)
            if not for_job and not place.users:
                # It has had its share; later again.
                if not place.waiting:
                    place.waiting = True
                    self.at(found.for_job / job.most * (1 + 1e-9) + 1e-9, self.look_again, drive)
                return
        act, doing = (place.job if for_job else place.users).popleft()
        stand = self.abilities[drive]
        took = act.size / stand.rate + self.way(place, act, stand)
        place.at, place.busy = act.walk, True
        place.end = (act.first or 0) + act.count
        found.busy += took
        found.operations += 1
        found.size += act.size
        if act.writes:
            found.written += act.size
        if for_job:
            found.for_job += took
        end = self.now + took
        self.at(end, self.free, drive)
        if stand.link is not None:
            link = stand.link
            self.outcome.links[link] += act.size
            end = self.link_free[link] = max(self.now + took, self.link_free[link] + act.size / self.links[link])
        self.at(end, self.finished, doing)

    def way(self, place: _Place, act: Operation, stand: Ability) -> float:
        """Seconds until it is where the operation begins: it passes over what lies between, or goes there."""
        if act.walk is None or place.at != act.walk:
            return stand.way
        if act.first is None:
            return 0.0
        between = act.first - place.end
        return stand.way if between < 0 else min(stand.way, between * act.size / act.count / stand.rate)

    def look_again(self, drive: int) -> None:
        self.places[drive].waiting = False
        self.serve(drive)

    def free(self, drive: int) -> None:
        self.places[drive].busy = False
        self.serve(drive)

    def finished(self, doing: _Doing) -> None:
        doing.left -= 1
        if not doing.left:
            self.go_on(doing)

    def done(self, doing: _Doing) -> None:
        if doing.player is None:
            self.outcome.steps += 1
            self.at(self.now, self.step)
            return
        played = self.outcome.players[doing.player]
        played.requests += 1
        played.reads += not doing.writes
        played.writes += doing.writes
        played.size += doing.size
        played.responses.append(self.now - doing.begun)
        self.at(self.now, self.ask, doing.player)


def play(
    abilities: Sequence[Ability],
    players: Sequence[Player],
    *,
    links: Sequence[float] = (),
    job: Walking | None = None,
    most: int = 400,
) -> Measurement:
    """Let players ask until each has had so many answers, or all of them four times as many; without players, until the
    job has done so many steps. ``links``: bytes a second of each."""
    house = _House(abilities, links, players, job)
    for number, player in enumerate(players):
        for _ in range(player.at_once):
            house.ask(number)
    if job is not None and job.steps:
        for _ in range(job.lanes):
            house.step()
    elif not players:
        return house.outcome
    found = house.outcome
    while house.events:
        if players:
            counts = [p.requests for p in found.players]
            if min(counts) >= most or sum(counts) >= 4 * most * len(counts):
                break
        elif found.steps >= most:
            break
        house.now, _, act, given = heapq.heappop(house.events)
        act(*given)
    found.seconds = house.now
    return found
