"""A small estate of which every kind of change can be asked: one pool with five volumes, and what hangs on them."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace

from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.estate import (
    Entry,
    Estate,
    EstateApplication,
    EstateBackup,
    EstateDrive,
    EstateHost,
    EstateMount,
    EstatePlace,
    EstatePool,
    EstateShare,
    EstateTarget,
    EstateVolume,
)
from pairshelf.core.domain.partitions import WantedPartition, lay_out
from pairshelf.core.domain.units import GIB, TB
from pairshelf.core.layouts import build_layout
from pairshelf.core.layouts.model import Division
from pairshelf.core.layouts.registry import layout_of

IQN = "iqn.2026-01.example.fernhollow:"


def estate() -> Estate:
    layout = build_layout([Drive(str(i), 6 * TB) for i in range(4)], "parity-1")
    drives = tuple(
        EstateDrive(i + 1, f"S{i}", "Oak", i + 1, 6 * TB, Kind.HDD, None, "in-use", "good", pool="p", host="elm")
        for i in range(4)
    )
    places = tuple(EstatePlace(i, "active", layout.members[i], drives[i]) for i in range(4))
    pool = EstatePool(1, "p", "healthy", layout, places, (), True, "parity-1", ((4000, layout.data_extents - 4000),))
    made = [("a", "ext4"), ("b", "xfs"), ("disk", "none"), ("n", "ntfs"), ("rec", "xfs")]
    volumes = tuple(
        EstateVolume(i + 1, "p", name, 800 * GIB, False, fs, None, GIB, f"uuid-{name}", placed=800)
        for i, (name, fs) in enumerate(made)
    )
    return Estate(
        drives=drives, pools=(pool,), pool_names=frozenset({"p"}), volumes=volumes,
        mounts=(EstateMount(1, "elm", "p/a", "/srv/a"), EstateMount(2, "elm", "p/rec", "/srv/rec")),
        machines=(
            EstateHost("elm", "Here", storage_address="10.0.0.1/24", iqn=IQN + "elm", link=125_000_000),
            EstateHost("fir", "Here", storage_address="10.0.0.2/24", iqn=IQN + "fir"),
            EstateHost("win", "Here", letters=True),
        ),
        shares=(EstateShare("files", "p/a", "", 100 * GIB, 14, True, (("office", "write"), ("reed", "read"))),),
        targets=(EstateTarget(IQN + "t", "elm", False, ((0, "p/disk"),), ((IQN + "firr", False),)),),
        initiators=((IQN + "firr", None), (IQN + "fir", "fir")),
        applications=(EstateApplication(1, "elm", "cam", "recorder", "cam", "/srv/rec/cam", "/etc/cam", True, "p/rec", moved_from="/var/cam"),),
        backups=(EstateBackup("p", "a", "tapes in the barn", dt.date(2026, 11, 1)),),
        parties=(("ash", None), ("bay", None), ("reed", None), ("office", ("ash", "bay"))),
        folders=((("elm", "/full"), (Entry("old.dat", GIB),)), (("elm", "/srv/a"), ())),
    )  # fmt: skip


def free(number: int, size: int = 6 * TB, **more: object) -> EstateDrive:
    """A free drive, in Elm bay ``number``."""
    usual: dict[str, object] = {
        "service": "free", "condition": "good", "host": "fir", "kind": Kind.HDD, "shelf": "Elm", "bay": number,
    }  # fmt: skip
    return EstateDrive(number, f"F{number}", size=size, rate=None, **(usual | more))  # type: ignore[arg-type]


def more_drives(one: Estate, *drives: EstateDrive) -> Estate:
    """The estate with drives beside those it has."""
    return replace(one, drives=(*one.drives, *drives))


def with_volume(one: Estate, name: str, **facts: object) -> Estate:
    """The estate with other facts of one of its volumes."""
    return replace(one, volumes=tuple(replace(v, **facts) if v.name == name else v for v in one.volumes))  # type: ignore[arg-type]


def with_pool(one: Estate, *, lost: int = 0, away: int = 0, states: tuple[str, ...] = (), **facts: object) -> Estate:
    """The estate with other facts of its pool: so many of its drives failed, so many missing."""
    pool = one.pools[0]
    all_states = [*states, *["failed"] * lost, *["missing"] * away, *["active"] * 4]
    places = tuple(
        replace(p, state=state, drive=p.drive and replace(p.drive, condition=_OF_PLACE.get(state, p.drive.condition)))
        for p, state in zip(pool.places, all_states, strict=False)
    )
    return replace(one, pools=(replace(pool, places=places, **facts),))  # type: ignore[arg-type]


#: The condition of a drive by the state of its place, where that says it.
_OF_PLACE = {"failed": "failed", "missing": "missing"}


def spread(one: Estate) -> Estate:
    """The estate with a second pool, spread over six drives, and a volume of two copies in it."""
    layout = layout_of([Drive(str(i), 2 * TB) for i in range(6)], "spread", Division(domain="drive"))
    drives = tuple(
        EstateDrive(20 + i, f"T{i}", "Ash", i + 1, 2 * TB, Kind.HDD, None, "in-use", "good", pool="s") for i in range(6)
    )
    places = tuple(EstatePlace(i, "active", layout.members[i], drives[i]) for i in range(6))
    pool = EstatePool(2, "s", "healthy", layout, places, (), True, "spread")
    volume = EstateVolume(
        9, "s", "two", 100 * GIB, False, "ext4", None, 2 * GIB, "uuid-two", placed=200, protection="copies-2"
    )
    return replace(one, drives=(*one.drives, *drives), pools=(*one.pools, pool), volumes=(*one.volumes, volume),
                   pool_names=one.pool_names | {"s"})  # fmt: skip


def partitioned(one: Estate) -> Estate:
    """The estate with a free drive for which three partitions are pending."""
    wanted = (WantedPartition("512 MiB", label="boot"), WantedPartition("100 GiB", label="data"), WantedPartition())
    return replace(more_drives(one, free(11)), pending_partitions=((11, ("gpt", 512, wanted)),))


def divided(one: Estate, wanted: tuple[WantedPartition, ...] | None = None, scheme: str = "gpt") -> Estate:
    """The estate with a drive divided into a start partition, two with files and 500 GB left in the middle; what is
    ``wanted`` more is pending."""
    size = 2 * TB
    first = (
        WantedPartition("1 GiB", "start", "boot"),
        WantedPartition("100 GiB", label="data"),
        WantedPartition("500 GB"),
        WantedPartition("", label="rest"),
    )
    whole = lay_out(size, 512, scheme, [replace(w, label="") if scheme == "mbr" else w for w in first])
    table = whole.without(3)
    layout = build_layout([Drive("0", size)], "single")
    drive = free(12, size, service="in-use", pool="F12", partitioned=True)
    pool = EstatePool(3, "F12", "healthy", layout, (EstatePlace(0, "active", layout.members[0], drive),), (), True, "single",
                      table=table)  # fmt: skip
    volumes = tuple(
        EstateVolume(30 + p.number, "F12", f"part-{p.number}", p.sectors * 512, False, "none" if p.number == 1 else "ext4",
                     None, 0 if p.number == 1 else 2 * GIB, f"uuid-{p.number}", partition=p.number)
        for p in table.parts
    )  # fmt: skip
    pending = () if wanted is None else ((12, (scheme, 512, wanted)),)
    return replace(more_drives(one, drive), pools=(*one.pools, pool), volumes=(*one.volumes, *volumes),
                   pool_names=one.pool_names | {"f12"}, pending_partitions=pending)  # fmt: skip


def emptied(one: Estate) -> Estate:
    """The estate with a divided drive on which no partition is left."""
    found = divided(one)
    pools = tuple(replace(p, table=p.table.of(())) if p.table else p for p in found.pools)
    return replace(found, pools=pools, volumes=one.volumes)
