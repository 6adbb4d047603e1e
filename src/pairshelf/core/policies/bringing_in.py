"""What may be believed of drives that say they belong to a pool: which are as its newest record says, which are not."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

from pairshelf.core.domain.found import FoundPool, Hanging, Standing
from pairshelf.core.domain.records import Head, ReadDrive, RecordedMember
from pairshelf.core.figures.survival import PoolState, after_failures, state_of
from pairshelf.core.layouts import Layout


def newest(reads: Iterable[ReadDrive]) -> Head | None:
    """The newest record of those that stand on the drive they were written on: one that was copied to another drive
    with all its bytes proves nothing."""
    heads = [r.head for r in reads if r.head is not None and r.head.serial == r.serial]
    return max(heads, key=lambda h: h.generation, default=None)


def standing_of(member: RecordedMember, read: ReadDrive | None, *, away: bool, complete: bool) -> Standing:
    """How one member is. ``read``: what was read on its drive, None where it is not here; ``away``: whether it was when
    the newest record was written; ``complete``: whether every member that was there has that record. Before that is
    marked not a byte is written under it: one that a kill left with the record before lacks nothing."""
    if read is None:
        return Standing.AWAY
    due = member.generation if complete else member.before
    own = read.head if read.head is not None and read.head.serial == member.serial else None
    if own is None:
        return Standing.DAMAGED if due or away else Standing.CURRENT
    if own.generation < due:
        return Standing.OLDER
    return Standing.BEHIND if away else Standing.CURRENT


def standings(head: Head, reads: Iterable[ReadDrive], away: Collection[str]) -> dict[str, Standing]:
    """How every member is, by serial. ``away``: serials of those that were away when the record was written."""
    found = {r.serial: r for r in reads}
    complete = any(r.marked >= head.generation for r in found.values())
    return {
        m.serial: standing_of(m, found.get(m.serial), away=m.serial in away, complete=complete) for m in head.members
    }


def left_over(head: Head, reads: Iterable[ReadDrive]) -> list[ReadDrive]:
    """Drives that bear the pool's label or record and are no members any more: others have their places."""
    return [r for r in reads if head.member(r.serial) is None]


def needed(layout: Layout, away: Collection[str], could_come: Sequence[str]) -> tuple[str, ...]:
    """Of the members that are away and could come, a smallest set that must be there before the data can be read;
    empty where it can be read without. Ids are slots. All that could come, where even they are not enough."""
    back: list[str] = []
    rest = set(away)
    for slot in could_come:
        if after_failures(layout, rest).survives:
            break
        rest.discard(slot)
        back.append(slot)
    # One that others made unnecessary is not asked for.
    for slot in list(back):
        if after_failures(layout, rest | {slot}).survives:
            rest.add(slot)
            back.remove(slot)
    return tuple(back)


def short_of(found: FoundPool) -> tuple[str, ...] | None:
    """Serials of members that have to be here before the pool's data can be read, a smallest choice of them; empty where
    they can be read already; None where they could not even with all that are away."""
    layout = found.layout
    if layout is None:
        return None
    lacking = [m for m in found.slots if not m.whole and m.state != "emptied"]
    # One that was away, or was only partly filled, when the record was written would come as it was then.
    could = [m for m in lacking if m.standing is Standing.AWAY and m.state == "active"]
    away = {str(m.slot) for m in lacking}
    back = needed(layout, away, [str(m.slot) for m in could])
    if not after_failures(layout, away - set(back)).survives:
        return None
    return tuple(m.serial for m in could if str(m.slot) in back)


def comes_as(found: FoundPool) -> PoolState:
    """The state that the pool comes in, before anything is filled."""
    assert found.layout is not None
    lacking = [m for m in found.slots if not m.whole and m.state != "emptied"]
    failed = [str(m.slot) for m in lacking if m.standing is not Standing.AWAY]
    return state_of(found.layout, failed, [str(m.slot) for m in lacking if m.standing is Standing.AWAY])


def in_words(found: FoundPool) -> str:
    """What is here of it and what it would need, in a sentence or two."""
    if found.layout is None:
        return f"What pool {found.name} is cannot be read on the drives that are here: {found.unreadable}."
    here = sum(1 for m in found.slots if m.standing is not Standing.AWAY)
    said = f"{here} of the {len(found.slots)} drives of pool {found.name} {'is' if here == 1 else 'are'} here"
    short = short_of(found)
    if short is None:
        return f"{said}; even with those that are away it could not be read."
    if short:
        one = len(short) == 1
        return f"{said}; at least {len(short)} more {'is' if one else 'are'} needed: {', '.join(short)}{'' if one else ' or others'}."
    lacking = [m.serial for m in found.slots if not m.whole and m.state != "emptied"]
    return f"{said}; it can be brought in{', without ' + ', '.join(lacking) + ' for now' if lacking else ''}."


def why_not_made_again(
    one: Hanging, hosts: Collection[str], mounted: Collection[tuple[str, str]], shares: Collection[str],
    network: Collection[str],
) -> str | None:  # fmt: skip
    """Why what hung on a volume is not made again here; None where it is. ``mounted``: (host, mount point) that are
    taken; ``shares``: names that are taken, in lower case; ``network``: names on the storage network that are."""
    if one.host and one.host not in hosts:
        return f"there is no host {one.host} here"
    if one.what == "mount" and (one.host, one.name) in mounted:
        return f"something else is mounted there on {one.host}"
    if one.what == "share" and one.name.lower() in shares:
        return "there is a share of that name here"
    if one.what == "disk" and one.name in network:
        return "that name is taken here"
    return None
