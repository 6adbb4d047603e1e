"""What depends on what: from a drive, its bay, link and power to the people who would notice, and back.

Links: people -> share or target -> volume -> set -> drive -> bay -> link -> power. Whether anybody would
notice is not a guess: the pool is asked what survives without the drives that go.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

from pairshelf.core.changes.access.sharing import who_may
from pairshelf.core.domain.estate import Estate, EstateDrive, EstatePool, EstateVolume
from pairshelf.core.domain.words import listed
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.survival import PoolState, now_in_words, state_of

#: What can be pulled.
THINGS = ("drive", "shelf", "host", "site", "volume", "pool", "everything")


@dataclass(frozen=True, slots=True)
class Hit:
    """A pool that loses drives, and what that means."""

    pool: str
    drives: tuple[str, ...]
    #: Sets of the pool that lose drives, from 1.
    sets: tuple[int, ...]
    before: str
    after: str
    sentence: str

    @property
    def serves(self) -> bool:
        """Whether its data can still be read and written."""
        return self.after not in (PoolState.LOST, PoolState.UNREACHABLE)


@dataclass(frozen=True, slots=True)
class Stand:
    """A volume with what stands on it, down to the people."""

    volume: str
    #: Whether it can still be used.
    serves: bool
    mounts: tuple[str, ...]
    shares: tuple[str, ...]
    target: str | None
    applications: tuple[str, ...]
    #: Hosts let in to its target.
    hosts: tuple[str, ...]
    people: tuple[str, ...]
    #: Hosts that could serve it instead: its pool stays in service and only the host that serves it goes.
    instead: tuple[str, ...] = ()
    #: Whether the host that serves it stops, whatever becomes of its drives.
    by_host: bool = False


@dataclass(frozen=True, slots=True)
class Notice:
    """What happens when something is pulled, and who notices."""

    what: str
    #: bay, link, power: each step below the drives, in words.
    below: tuple[str, ...]
    hits: tuple[Hit, ...]
    stands: tuple[Stand, ...]
    sentence: str
    #: Hosts that stop with it.
    machines: tuple[str, ...] = ()
    #: Applications on those hosts whose data are on no volume: ``name on host``.
    applications: tuple[str, ...] = ()
    #: Volumes that stay in service, and that those hosts use over the network: (host, volume).
    used_remotely: tuple[tuple[str, str], ...] = ()

    @property
    def hurt(self) -> tuple[Stand, ...]:
        """Volumes that stop."""
        return tuple(s for s in self.stands if not s.serves)

    @property
    def people(self) -> tuple[str, ...]:
        """Everybody who would notice."""
        return tuple(sorted({p for s in self.hurt for p in s.people}))


def pull(estate: Estate, kind: str, name: str, drives: Sequence[EstateDrive]) -> Notice:
    """What follows from pulling something. ``drives`` are those that stand in it."""
    if kind not in THINGS:
        raise BadInput(f"“{kind}” cannot be pulled; choose {', '.join(THINGS)}.", field="kind")
    if kind == "volume":
        volume = estate.volume(name, field="name")
        stand = _stand(estate, volume, serves=False)
        return _told(Notice(f"volume {volume.ref}", (), (), (stand,), ""))
    gone = {d.id for d in drives}
    hits = tuple(hit for pool in estate.pools if (hit := _hit(pool, gone)))
    if kind == "pool":
        pool = estate.pool_named(name, field="name")
        hits = (Hit(pool.name, (), (), pool.state, "unreachable", f"Pool {pool.name} is taken away as a whole."),)
    served = {h.pool: h.serves for h in hits}
    away = machines_gone(estate, kind, name, drives)
    through = _through(estate, away)
    stands = tuple(
        _stand(
            estate, v, serves=served.get(v.pool, True) and v.ref not in through,
            instead=_instead(estate, v, away) if served.get(v.pool, True) and v.ref in through else (),
            by_host=v.ref in through,
        )
        for v in estate.volumes if v.pool in served or v.ref in through
    )  # fmt: skip
    hurt = {s.volume for s in stands if not s.serves}
    return _told(Notice(
        kind if kind == "everything" else f"{kind} {name}", _below(kind, drives), hits, stands, "", tuple(sorted(away)),
        tuple(f"{a.name} on {a.host}" for a in estate.applications if a.host in away and a.volume is None),
        tuple((h, v) for h, v in _used_remotely(estate, away) if v not in hurt),
    ))  # fmt: skip


def machines_gone(estate: Estate, kind: str, name: str, drives: Sequence[EstateDrive]) -> set[str]:
    """Hosts that stop when something is pulled: those named or inside it, and those that start from a drive in it."""
    gone = {d.host for d in drives if d.starts_host and d.host}
    if kind == "host":
        gone.add(name)
    if kind in ("site", "everything"):
        gone |= {h.name for h in estate.machines if kind == "everything" or h.site == name}
    return gone


def _instead(estate: Estate, volume: EstateVolume, away: Collection[str]) -> tuple[str, ...]:
    """Hosts that stay on and could mount or serve a volume: those that its pool's drives hang on first, then those of
    the same site."""
    pool = next((p for p in estate.pools if p.name == volume.pool), None)
    near = [p.drive.host for p in pool.places if p.drive and p.drive.host] if pool else []
    sites = {h.site for h in estate.machines if h.name in away}
    left = [h for h in estate.machines if h.name not in away and (h.name in near or h.site in sites)]
    return tuple(h.name for h in sorted(left, key=lambda h: (h.name not in near, h.name)))


def _used_remotely(estate: Estate, away: Collection[str]) -> list[tuple[str, str]]:
    """Volumes that hosts which go use by a target of another host."""
    names = {h.iqn: h.name for h in estate.machines if h.iqn} | {i: h for i, h in estate.initiators if h}
    return [
        (names[i], v)
        for t in estate.targets if t.host not in away
        for i, _ in t.initiators if names.get(i) in away
        for _, v in t.luns
    ]  # fmt: skip


def _hit(pool: EstatePool, gone: Collection[int]) -> Hit | None:
    own = [p for p in pool.places if p.drive is not None and p.drive.id in gone]
    if not own:
        return None
    failed = [p.designed.id for p in pool.places if p.state in ("failed", "rebuilding")]
    missing = [p.designed.id for p in pool.places if p.state == "missing" or p in own]
    state = state_of(pool.layout, failed, missing)
    sentence = now_in_words(pool.layout, failed, missing)
    return Hit(
        pool.name, tuple(p.drive.place for p in own if p.drive),
        tuple(sorted({pool.layout.set_of(p.slot) + 1 for p in own})) if not pool.spread else (),
        pool.state, state.value, sentence,
    )  # fmt: skip


def _stand(
    estate: Estate, volume: EstateVolume, *, serves: bool, instead: tuple[str, ...] = (), by_host: bool = False
) -> Stand:
    mounts = estate.mounts_of(volume)
    shares = [s for s in estate.shares if s.volume == volume.ref]
    target = next((t for t in estate.targets if volume.ref in [v for _, v in t.luns]), None)
    apps = [a for a in estate.applications if a.volume == volume.ref]
    by_name = {h.iqn: h.name for h in estate.machines if h.iqn}
    hosts = [by_name.get(i, i) for i, _ in target.initiators] if target else []
    people = {p for s in shares for p in who_may(estate, s)}
    return Stand(
        volume.ref, serves, tuple(f"{m.host} at {m.at}" for m in mounts), tuple(s.name for s in shares),
        target.iqn if target else None, tuple(f"{a.name} on {a.host}" for a in apps), tuple(hosts), tuple(sorted(people)),
        instead, by_host,
    )  # fmt: skip


def _through(estate: Estate, away: Collection[str]) -> set[str]:
    """Volumes that are reached through hosts that go, whatever becomes of their drives."""
    return {m.volume for m in estate.mounts if m.host in away} | {
        v for t in estate.targets if t.host in away for _, v in t.luns
    }


def _below(kind: str, drives: Sequence[EstateDrive]) -> tuple[str, ...]:
    """From the drives down: bays, the link they share, what powers them."""
    lines = []
    for shelf in dict.fromkeys(d.shelf for d in drives if d.shelf):
        own = sorted((d for d in drives if d.shelf == shelf), key=lambda d: d.bay or 0)
        bays = ", ".join(str(d.bay) for d in own[:12]) + ("…" if len(own) > 12 else "")
        link = own[0].as_drive.link
        rate = f"its link ({link // 10**6:,} MB/s)" if link else "its link"
        power = f"the power of host {own[0].host}" if own[0].host else "its own power"
        lines.append(f"{shelf}: bay {bays}; {rate}; {power}.")
    return tuple(lines)


def losses(notice: Notice) -> tuple[str, ...]:
    """What stops, the people first: ``3 people lose cold/office``. Empty where nothing that is in use stops."""
    found = []
    with_people = [s for s in notice.hurt if s.people]
    alone = [s for s in notice.hurt if not s.people]
    if with_people:
        people = notice.people
        who = f"{people[0]} loses" if len(people) == 1 else f"{len(people)} people lose"
        found.append(f"{who} {_few([s.volume for s in with_people])}")
    if alone:
        found.append(f"{_few([s.volume for s in alone])} {'stops' if len(alone) == 1 else 'stop'}")
    apps = sorted({*notice.applications, *(a for s in notice.hurt for a in s.applications)})
    if apps:
        found.append(f"application {apps[0]} stops" if len(apps) == 1 else f"applications {_few(apps)} stop")
    found += [f"host {host} stops using {volume}" for host, volume in notice.used_remotely]
    held = {s.volume.partition("/")[0] for s in notice.hurt}
    found += [f"pool {h.pool} is offline" for h in notice.hits if not h.serves and h.pool not in held]
    return tuple(found)


def _few(names: Sequence[str], most: int = 3) -> str:
    more = len(names) - most
    return listed([*names[:most], f"{more} more"] if more > 0 else names)


def _told(notice: Notice) -> Notice:
    lost = losses(notice)
    if lost:
        said = f"Without it, {'; '.join(lost)}."
    elif reduced := [h for h in notice.hits if h.after != "healthy"]:
        said = f"All data stay in use; {listed([f'pool {h.pool} is {h.after}' for h in reduced])}."
    else:
        said = "Nothing that is in use depends on it."
    return replace(notice, sentence=said)


@dataclass(frozen=True, slots=True)
class Foundation:
    """What somebody's work stands on, from the share down to the power."""

    person: str
    lines: tuple[tuple[str, ...], ...]


def stands_on(estate: Estate, person: str) -> Foundation:
    """The way back: every share of a person, down to drives, bays, links and power."""
    known = {n for n, m in estate.parties if m is None}
    if person not in known:
        raise BadInput(f"There is no person {person}.", field="name")
    lines = []
    for share in estate.shares:
        may = who_may(estate, share).get(person)
        if may is None:
            continue
        volume = estate.volume(share.volume)
        pool = next((p for p in estate.pools if p.name == volume.pool), None)
        drives = [p.drive for p in pool.places if p.drive] if pool else []
        shelves = ", ".join(f"{s} bays {', '.join(str(d.bay) for d in drives if d.shelf == s)}"
                            for s in dict.fromkeys(d.shelf for d in drives if d.shelf))  # fmt: skip
        mounts = ", ".join(f"{m.host} at {m.at}" for m in estate.mounts_of(volume))
        power = ", ".join(dict.fromkeys(f"host {d.host}" if d.host else f"{d.shelf}'s own" for d in drives))
        links = ", ".join(dict.fromkeys(f"{d.shelf}" for d in drives if d.shelf))
        lines.append((
            f"share {share.name} ({may})", f"host {mounts}", f"volume {volume.ref}",
            f"pool {pool.name}, {pool.state}" if pool else "", shelves, f"link of {links}", f"power: {power}",
        ))  # fmt: skip
    return Foundation(person, tuple(lines))
