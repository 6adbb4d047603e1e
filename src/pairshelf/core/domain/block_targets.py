"""Logging in to a block target: who is let in, and why not (RFC 7143, login phase; CHAP: RFC 1994)."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from ipaddress import ip_address, ip_interface

from pairshelf.core.domain.estate import EstateHost, EstateTarget
from pairshelf.core.domain.names import near_misses
from pairshelf.core.domain.units import format_size
from pairshelf.core.errors import BadInput


@dataclass(frozen=True, slots=True)
class LogIn:
    """What came of a trial."""

    let_in: bool
    sentence: str
    #: none, no-initiator-name, no-target, not-let-in, near-miss, no-path, chap-missing, chap-wrong
    code: str
    #: The name to let in instead, or to ask for instead, where one is known.
    instead: str | None = None


def log_in(
    host: EstateHost, wanted: str, targets: Sequence[EstateTarget], serving: EstateHost | None,
    secret_right: Callable[[], bool] | None = None, *, chap_given: bool = False,
) -> LogIn:  # fmt: skip
    """Whether a host gets in to the target it names, and otherwise the reason and the way out.

    ``secret_right`` says whether the CHAP name and secret that were given are right.
    """
    if not host.iqn:
        return LogIn(False, f"{host.name} has no initiator name; set it on the host first.", "no-initiator-name")
    target = next((t for t in targets if t.iqn == wanted), None)
    if target is None:
        close = near_misses(wanted, [t.iqn for t in targets])
        hint = f" Did you mean {close[0]}?" if close else " Look at the target's name; it must match to the letter."
        return LogIn(False, f"There is no target {wanted}.{hint}", "no-target", close[0] if close else None)
    if serving and (reason := why_no_path(host, serving)):
        return LogIn(False, reason, "no-path")
    chap = dict(target.initiators)
    if host.iqn not in chap:
        close = near_misses(host.iqn, chap)
        if close:
            return LogIn(
                False,
                f"{host.name} logs in as {host.iqn}, and the target lets in {close[0]}: {_difference(host.iqn, close[0])}. "
                "Let in the name the host has.",
                "near-miss", host.iqn,
            )  # fmt: skip
        listed = ", ".join(chap) or "nobody"
        return LogIn(False, f"The target lets in {listed}; {host.name} logs in as {host.iqn}.", "not-let-in", host.iqn)
    if chap[host.iqn]:
        if not chap_given:
            return LogIn(False, "The target asks for a CHAP name and secret; none was given.", "chap-missing")
        if secret_right is None or not secret_right():
            return LogIn(False, "The CHAP name or secret is not the one set for this initiator.", "chap-wrong")
    disks = ", ".join(f"LUN {n}: {v}" for n, v in target.luns) or "no disks yet"
    proved = " and proved itself by CHAP" if chap[host.iqn] else ""
    return LogIn(True, f"{host.name} is logged in as {host.iqn}{proved}; it sees {disks}.", "none")


def _difference(one: str, other: str) -> str:
    at = next((i for i, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), min(len(one), len(other)))
    return f"they differ from place {at + 1} on (“{one[at : at + 8] or 'end'}” and “{other[at : at + 8] or 'end'}”)"


def why_no_path(host: EstateHost, serving: EstateHost) -> str | None:
    """Why two hosts do not reach one another on the storage network, or None if they do."""
    if not serving.storage_address:
        return None
    if host.name == serving.name:
        return None
    if not host.storage_address:
        return f"{host.name} has no address on the storage network ({ip_interface(serving.storage_address).network})."
    here, there = ip_interface(host.storage_address), ip_interface(serving.storage_address)
    if here.network != there.network:
        return f"{host.name} is in {here.network} and {serving.name} in {there.network}; without a gateway they do not meet."
    return None


def check_storage_address(text: str, *, field: str = "storage_address") -> str | None:
    """An address with its network, such as 10.9.0.4/24."""
    if not text.strip():
        return None
    try:
        found = ip_interface(text.strip())
    except ValueError:
        raise BadInput(f"“{text}” is not an address with its network, such as 10.9.0.4/24.", field=field) from None
    if "/" not in text:
        raise BadInput(f"Say how large the network is: {text.strip()}/24 or the like.", field=field)
    if found.network.num_addresses > 2 and found.ip in (found.network.network_address, found.network.broadcast_address):
        raise BadInput(f"{found.ip} is the network itself, not an address in it.", field=field)
    return str(found)


def check_address(text: str, *, field: str = "address") -> str | None:
    """A plain address."""
    if not text.strip():
        return None
    try:
        return str(ip_address(text.strip()))
    except ValueError:
        raise BadInput(f"“{text}” is not an address such as 192.168.1.20.", field=field) from None


def link_advice(link: int | None, pool_rate: float) -> str:
    """What a link carries of what the pool can give."""
    if not link:
        return "The speed of the storage link is not known; set it on the host."
    share = link / pool_rate
    carries = f"The storage link carries {format_size(link, digits=0)}/s"
    if share < 1:
        return f"{carries}: {share:.0%} of what the pool reads in one stream. A faster link would be used."
    return f"{carries}; the pool reads {format_size(int(pool_rate), digits=0)}/s in one stream, so the link is not what limits."
