"""A pool that is not in the books comes into them, from what its drives say themselves."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass, replace

from pairshelf.core.changes.kind import NETWORK, PEOPLE, ChangeKind, Context
from pairshelf.core.changes.sheet import (
    BeforeAfter,
    ChangeSheet,
    Effect,
    Erased,
    Figure,
    Finding,
    Takes,
    pool_effect,
    together,
)
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.found import FoundMember, FoundPool, Hanging, Standing
from pairshelf.core.domain.names import check_name
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import NameTaken, NotFound, NotPossible
from pairshelf.core.figures import durations
from pairshelf.core.policies.bringing_in import comes_as, in_words, short_of, why_not_made_again


@dataclass(frozen=True, slots=True)
class BringIn:
    """Bring a pool in from the drives that say they belong to it."""

    #: What the pool is known by, as its drives have it.
    pool: str
    #: What it is called here; empty for the name it had.
    name: str = ""


@dataclass(frozen=True, slots=True)
class BringInPlan:
    """What comes, under which name, and what hung on its volumes and is made again."""

    sheet: ChangeSheet
    found: FoundPool
    name: str
    made_again: tuple[Hanging, ...]


def plan(estate: Estate, request: BringIn) -> BringInPlan:
    """The sheet. NotPossible where too little of the pool is here, or it is in the books already."""
    found = next((f for f in estate.found if f.uid == request.pool.strip()), None)
    if found is None:
        raise NotFound("pool", request.pool or None, field="pool", hint="No drive here says that it is of one.")
    if found.here is not None:
        raise NotPossible(
            f"It is in the books as pool {found.here}; its drives are recognised by themselves.", code="already-here", field="pool"
        )  # fmt: skip
    if found.former is not None:
        raise NotPossible(
            f"Pool {found.former} was taken apart here and nothing has been written to it since; put it together again.",
            code="put-together", field="pool",
        )  # fmt: skip
    taken = [m for m in found.members if m.drive_id is not None and m.why_not is not None]
    if taken:
        why = " ".join(f"{m.serial}: {m.why_not}" for m in taken)
        raise NotPossible(f"Not all that is here can be taken. {why}", code="drive-taken", field="pool")
    short = short_of(found)
    if found.layout is None or short is None or short:
        raise NotPossible(in_words(found), code="too-few", field="pool")
    name = check_name(request.name or found.name, "pool", field="name")
    if name.lower() in estate.pool_names:
        raise NameTaken("pool", name)
    again, left_out = _hanging(estate, found)
    return BringInPlan(_sheet(found, name, again, left_out), found, name, again)


def _hanging(estate: Estate, found: FoundPool) -> tuple[tuple[Hanging, ...], tuple[str, ...]]:
    """What is made again, for whom of those that are known here; and, in sentences, what is not."""
    hosts = {h.name for h in estate.machines}
    mounted = {(m.host, m.at) for m in estate.mounts}
    shares = {s.name.lower() for s in estate.shares}
    network = {t.iqn for t in estate.targets} | {i for i, _ in estate.initiators}
    known = {name.lower() for name, _ in estate.parties} | {iqn for iqn, _ in estate.initiators}
    again: list[Hanging] = []
    left_out: list[str] = []
    for one in found.hanging:
        why = why_not_made_again(one, hosts, mounted, shares, network)
        if why is None and one.what == "share" and not any(o.what == "mount" and o.volume == one.volume for o in again):
            why = "its volume is mounted nowhere here"
        if why is not None:
            left_out.append(f"{one.named[0].upper()}{one.named[1:]} is not made again: {why}.")
            continue
        strangers = [p for p in one.parties if p.lower() not in known and p.rpartition(":")[0].lower() not in known]
        if strangers:
            left_out.append(
                f"{one.named[0].upper()}{one.named[1:]} is made without {', '.join(strangers)}: not known here."
            )
        again.append(replace(one, parties=tuple(p for p in one.parties if p not in strangers)))
    return tuple(again), tuple(left_out)


def _sheet(found: FoundPool, name: str, again: Sequence[Hanging], left_out: Sequence[str]) -> ChangeSheet:
    layout = found.layout
    assert layout is not None
    filled = [m for m in found.slots if m.needs_filling]
    over = [m for m in filled if m.standing in (Standing.OLDER, Standing.DAMAGED)]
    here = sum(1 for m in found.slots if m.standing is not Standing.AWAY)
    files = sum(v.files for v in found.volumes)
    called = found.name if name == found.name else f"{found.name}, here {name},"
    absent = [str(m.slot) for m in found.slots if not m.whole and m.state != "emptied"]
    takes = [
        Takes.of(f"Fill {m.serial}", durations.rebuild(layout, str(m.slot), absent=[s for s in absent if s != str(m.slot)]))
        for m in filled if m.missed is None and layout.scheme.survives
    ]  # fmt: skip
    check = durations.check(layout)
    return ChangeSheet(
        "bring-in", f"Bring in pool {name}",
        f"{here} of its {len(found.slots)} drives {'is here and says' if here == 1 else 'are here and say'} what it is: {found.scheme}, as of {_moment(found.written_at)}.",
        (
            BeforeAfter("State", Figure("not in the books"), Figure(comes_as(found).value)),
            BeforeAfter("Capacity", Figure("none"), Figure(bytes=layout.stock * EXTENT)),
            BeforeAfter("Volumes", Figure("none"), Figure(str(len(found.volumes)))),
            BeforeAfter("Files on them", Figure("none"), Figure(str(files))),
        ),
        tuple(Erased(m.drive_id, m.place, m.serial, m.size, _what_it_has(m)) for m in over if m.drive_id is not None),
        (*takes, Takes.of("Check", check)),
        (
            "Everything of it can be used at once, more slowly while drives are filled."
            if not found.encrypted
            else "It comes locked: it can be used once its passphrase has been given.",
        ),
        ("What it is known by, on every drive: so it cannot be brought in twice.",),
        (
            f"Read on every drive again that it is what it says; take pool {called} with its volumes, their places and "
            "their files into the books.",
            *(_filling(m) for m in filled),
            *(("Go on with the restripe where its front stands.",) if found.restriping else ()),
            *(() if found.synced else ("Go on bringing its redundancy in step.",)),
            *(f"Make {o.named} again." for o in again),
            "Compare all its redundancy, and read its files back.",
        ),
        (
            *(f"{m.serial} is not here: it is brought up to date when it comes." for m in found.members if m.standing is Standing.AWAY),
            *(f"{s} ({p}) was a member once and is none any more: it is left as it is." for s, p in found.left_over),
            *left_out,
            *(("Keys by which hosts prove themselves to its targets are not on the drives; give them anew.",)
              if any(o.what == "disk" for o in again) else ()),
        ),
        name if over else None, "administrator", (), (), tuple(_findings(found)),
        together(
            pool_effect(layout.own_protection, capacity=layout.stock * EXTENT, given=found.taken * EXTENT),
            Effect(in_use=len(found.drive_ids), free=-sum(m.free for m in found.members)),
        ),
    )  # fmt: skip


def _what_it_has(member: FoundMember) -> str:
    if member.standing is Standing.DAMAGED:
        return "no record of the pool that can be read"
    return "an older state of this member"


def _filling(member: FoundMember) -> str:
    if member.missed is not None:
        return f"Fill on {member.serial} what has changed since it went: {member.missed} GiB at most."
    return f"Fill {member.serial} anew from the others."


def _findings(found: FoundPool) -> Sequence[Finding]:
    def told(words: str, which: Sequence[FoundMember]) -> Sequence[Finding]:
        if not which:
            return ()
        named = ", ".join(f"{m.serial} ({m.place})" if m.place else m.serial for m in which)
        return (
            Finding(f"{'1 drive' if len(which) == 1 else f'{len(which)} drives'} {_of(words, len(which))}: {named}."),
        )

    rest = [m for m in found.slots if not m.whole]
    return (
        *told("have all their data", [m for m in found.slots if m.whole]),
        *told(
            "were being filled when the newest record was written",
            [m for m in rest if m.standing is Standing.CURRENT and m.state != "emptied"],
        ),
        *told(
            "were emptied, and may leave", [m for m in rest if m.standing is Standing.CURRENT and m.state == "emptied"]
        ),
        *told(
            "were away when the newest record was written, and lack what changed since", _those(rest, Standing.BEHIND)
        ),
        *told(
            "have an older record than they should: nothing of what they say is believed", _those(rest, Standing.OLDER)
        ),
        *told("belong to it, and no record on them can be read", _those(rest, Standing.DAMAGED)),
        *told("are not here", _those(rest, Standing.AWAY)),
    )


def _those(members: Sequence[FoundMember], standing: Standing) -> Sequence[FoundMember]:
    return [m for m in members if m.standing is standing]


def _of(words: str, count: int) -> str:
    """The same of one drive."""
    if count > 1:
        return words
    for many, one in (
        ("have all their", "has all its"), ("were ", "was "), ("and lack ", "and lacks "), ("have ", "has "), ("than they", "than it"),
        ("what they say", "what it says"), ("belong ", "belongs "), ("on them", "on it"), ("are not", "is not"),
    ):  # fmt: skip
        words = words.replace(many, one)
    return words


def _moment(at: dt.datetime | None) -> str:
    return f"{at.astimezone(dt.UTC):%d %B %Y %H:%M} UTC" if at else "some time"


def context(request: BringIn) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(found=(request.pool.strip(),), alone=(PEOPLE, NETWORK))


KIND = ChangeKind("bring-in", Act.BUILD_POOLS, BringIn, context, plan)
