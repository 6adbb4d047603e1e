"""Which method reaches what on which drive; what a sample can miss; how long a lot takes."""

from __future__ import annotations

from dataclasses import replace
from itertools import combinations
from math import comb

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.disposal.facts import Category, Command, DriveFacts, Identity
from pairshelf.core.disposal.methods import METHODS, chosen, method_of, offers
from pairshelf.core.disposal.times import lot_seconds, side_by_side, uses_the_link, verify_seconds, wipe_seconds
from pairshelf.core.disposal.verifying import chance_missed, check_sample, remnant_extents
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.units import GIB, TB
from pairshelf.core.errors import BadInput, NotPossible

ALL = frozenset(Command)
DISK = DriveFacts(Kind.HDD, 4 * TB, 200_000_000, Identity(frozenset({Command.SANITIZE_OVERWRITE})))
PLAIN = DriveFacts(Kind.HDD, 4 * TB, 200_000_000, Identity(frozenset(), reassigned=3))
FLASH = DriveFacts(
    Kind.SSD,
    2 * TB,
    500_000_000,
    Identity(frozenset({Command.BLOCK_ERASE, Command.WRITE_ZEROES}), spare=True, erase_seconds=60),
)


@given(
    st.sampled_from(Kind), st.frozensets(st.sampled_from(Command)), st.integers(0, 9), st.integers(0, 9), st.booleans(),
    st.booleans(), st.sampled_from(Category), st.sampled_from(["good", "failing", "failed", "missing"]),
)  # fmt: skip
def test_the_table_is_whole_and_says_why(
    kind: Kind,
    commands: frozenset[Command],
    protected: int,
    reassigned: int,
    spare: bool,
    encrypts: bool,
    wanted: Category,
    condition: str,
) -> None:
    identity = Identity(commands, protected, reassigned, spare, encrypts)
    facts = DriveFacts(kind, TB, 10**8, identity, condition=condition)
    found = offers(facts, wanted)
    assert {o.method.id for o in found} == set(METHODS)
    # Exactly one is suggested, it reaches what is wanted, and all that do not say why.
    (best,) = [o for o in found if o.suggested]
    assert best.why_not is None and chosen(facts, wanted, "") is best.method
    for offer in found:
        if offer.why_not is None:
            assert chosen(facts, wanted, offer.method.id) is offer.method
        else:
            with pytest.raises(NotPossible) as error:
                chosen(facts, wanted, offer.method.id)
            assert offer.why_not in error.value.message
    # Writing from outside never reaches a laboratory's Purge; nothing but destruction works on what does not answer.
    reaching = {o.method.id for o in found if o.why_not is None}
    if wanted is not Category.CLEAR:
        assert not reaching & {"overwrite", "write-zeroes", "format"}
    if condition in ("failed", "missing"):
        assert reaching == {"destroy"}
    assert "destroy" in reaching
    # No drive need be destroyed for which something else is enough.
    assert (best.method.id == "destroy") == (reaching == {"destroy"})


def test_what_is_suggested_and_why_the_others_are_not() -> None:
    assert chosen(DISK, Category.PURGE, "").id == "sanitize-overwrite"
    assert chosen(DISK, Category.CLEAR, "").id == "sanitize-overwrite"
    assert chosen(PLAIN, Category.CLEAR, "").id == "overwrite"
    assert chosen(PLAIN, Category.PURGE, "").id == "destroy"
    assert chosen(FLASH, Category.PURGE, "").id == "block-erase"
    why = {o.method.id: o.why_not or "" for o in offers(PLAIN, Category.PURGE)}
    assert "3 extents were reassigned" in why["overwrite"]
    assert (
        "does not report sanitise" in why["sanitize-overwrite"] and "does not report block erase" in why["block-erase"]
    )
    assert "spare area" in {o.method.id: o.why_not or "" for o in offers(FLASH, Category.PURGE)}["overwrite"]
    key = replace(PLAIN, identity=Identity(frozenset({Command.CRYPTO_ERASE})))
    assert "from the first write" in {o.method.id: o.why_not or "" for o in offers(key, Category.PURGE)}["crypto-erase"]
    sealed = replace(PLAIN, sealed_by="cold")
    assert chosen(sealed, Category.PURGE, "").id == "key-gone"
    with pytest.raises(BadInput, match="no method shredding"):
        chosen(DISK, Category.PURGE, "shredding")


@given(st.integers(1, 9), st.data())
def test_the_chance_of_a_miss_against_every_sample_there_is(extents: int, data: st.DataObject) -> None:
    sample, remnant = data.draw(st.integers(1, extents)), data.draw(st.integers(1, extents))
    missed = sum(not set(one) & set(range(remnant)) for one in combinations(range(extents), sample))
    assert chance_missed(extents, sample, remnant) == pytest.approx(missed / comb(extents, sample), abs=1e-12)


def test_samples_and_remnants_that_cannot_be() -> None:
    assert chance_missed(16_000, 16_000, 1) == 0
    assert chance_missed(16_000, 1_600, 1) == pytest.approx(0.9)
    for sample in (0, -1, 11):
        with pytest.raises(BadInput, match="1 to 10"):
            check_sample(10, sample)
    assert (remnant_extents(1), remnant_extents(GIB), remnant_extents(GIB + 1)) == (1, 1, 2)
    with pytest.raises(BadInput):
        remnant_extents(0)


def test_times_by_hand_and_links_that_are_shared() -> None:
    assert wipe_seconds(DISK, METHODS["overwrite"]) == 4 * TB / 200_000_000
    assert wipe_seconds(FLASH, METHODS["block-erase"]) == 60
    assert verify_seconds(DISK, 10) == 10 * GIB / 200_000_000
    shelf = replace(DISK, link=500_000_000, shelf="Loft")
    assert side_by_side([shelf] * 5) == 2 and side_by_side([DISK] * 5) == 5
    assert side_by_side([replace(shelf, link=1)] * 3) == 1
    over, own = METHODS["overwrite"], METHODS["sanitize-overwrite"]
    # Five of an hour, two at a time: three hours. What drives do by themselves goes all at once.
    assert lot_seconds([(shelf, over, 3600.0)] * 5) == 3 * 3600
    assert lot_seconds([(shelf, own, 3600.0)] * 5) == 3600
    assert lot_seconds([(shelf, over, 3600.0), (replace(shelf, shelf="Den"), over, 1800.0)]) == 3600


#: What a drive must report for a method of its own, and what that reaches on a disk and on flash.
_OWN = {
    "write-zeroes": (Command.WRITE_ZEROES, "clear", "clear"),
    "sanitize-overwrite": (Command.SANITIZE_OVERWRITE, "purge", "purge"),
    "block-erase": (Command.BLOCK_ERASE, "purge", "purge"),
    "format": (Command.FORMAT, "clear", "clear"),
    "crypto-erase": (Command.CRYPTO_ERASE, "purge", "purge"),
}


@pytest.mark.parametrize("name", METHODS)
@pytest.mark.parametrize("kind", [Kind.HDD, Kind.SSD])
def test_a_method_needs_its_own_command_and_no_other(name: str, kind: Kind) -> None:
    method = METHODS[name]
    assert method.id == name and method_of(name) is method
    command, *reached = _OWN.get(name, (None, "", ""))
    others = Identity(ALL - {command} if command else ALL, encrypts=True)
    facts = DriveFacts(kind, TB, 10**8, others)
    if command is None:
        expected = {"overwrite": Category.CLEAR, "destroy": Category.DESTROY}.get(name)
        assert method.category(facts) is expected and method.category(replace(facts, identity=None)) is (
            Category.DESTROY if name == "destroy" else None
        )
        return
    assert method.category(facts) is None and "does not report" in (method.refuses(facts) or "")
    able = replace(facts, identity=Identity(frozenset({command}), encrypts=True))
    assert method.category(able) is Category(reached[kind is Kind.SSD])
    for condition, why in (("missing", "It is not in a bay."), ("failed", "It does not answer.")):
        gone = replace(able, condition=condition)
        assert method.refuses(gone) == why and method.category(gone) is None
        assert method.why_not(gone, Category.CLEAR) == why
    assert method.refuses(replace(able, identity=None)) == "It does not answer."
    # A drive whose readings warn still does as it is told.
    assert method.category(replace(able, condition="failing")) is Category(reached[kind is Kind.SSD])


def test_why_not_is_the_reason_nearest_to_it() -> None:
    assert METHODS["sanitize-overwrite"].why_not(DISK, Category.DESTROY) == "It reaches Purge at most."
    assert METHODS["destroy"].why_not(DISK, Category.DESTROY) is None
    assert METHODS["overwrite"].why_not(PLAIN, Category.CLEAR) is None
    assert "cannot be known" in (METHODS["overwrite"].why_not(DISK, Category.PURGE) or "")
    assert "3 extents were reassigned" in (METHODS["overwrite"].why_not(PLAIN, Category.PURGE) or "")
    assert METHODS["write-zeroes"].misses(replace(FLASH, identity=None)) is None
    assert "Not all that was ever written" in (METHODS["key-gone"].why_not(DISK, Category.CLEAR) or "")
    sealed = replace(DISK, sealed_by="cold")
    assert METHODS["key-gone"].category(sealed) is Category.PURGE
    assert METHODS["key-gone"].refuses(replace(sealed, condition="missing")) == "It is not in a bay."


def test_suggested_is_what_is_seen_before_what_is_only_believed() -> None:
    both = Identity(frozenset({Command.SANITIZE_OVERWRITE, Command.CRYPTO_ERASE}), encrypts=True)
    disk, flash = replace(DISK, identity=both), replace(FLASH, identity=both)
    # Of a disk that can overwrite itself that is seen; of flash the new key is quicker.
    assert (chosen(disk, Category.PURGE, "").id, chosen(flash, Category.PURGE, "").id) == (
        "sanitize-overwrite",
        "crypto-erase",
    )
    only = Identity(frozenset({Command.CRYPTO_ERASE}), encrypts=True)
    assert chosen(replace(DISK, identity=only), Category.PURGE, "").id == "crypto-erase"
    assert chosen(replace(DISK, identity=only), Category.CLEAR, "").id == "overwrite"
    assert (
        chosen(replace(FLASH, identity=Identity(frozenset({Command.WRITE_ZEROES}))), Category.CLEAR, "").id
        == "overwrite"
    )
    found = offers(disk, Category.PURGE)
    assert found[0].suggested == "The drive reaches what it has reassigned too; writing from outside does not."
    assert [o.why_not is None for o in found] == sorted((o.why_not is None for o in found), reverse=True)
    (never,) = (o for o in offers(PLAIN, Category.PURGE) if o.suggested)
    assert never.suggested == "No other method reaches this category on this drive."


def test_what_is_hidden_is_wiped_too() -> None:
    shown = DISK.shown
    assert replace(DISK, identity=Identity(ALL, protected=7)).shown == shown + 7
    assert replace(DISK, identity=None).shown == shown == (4 * TB - 256 * 2**20) // GIB
    assert FLASH.flash and not DISK.flash


def test_how_long_each_method_takes() -> None:
    assert wipe_seconds(DISK, METHODS["sanitize-overwrite"]) == wipe_seconds(DISK, METHODS["overwrite"])
    assert [wipe_seconds(FLASH, METHODS[m]) for m in ("crypto-erase", "format")] == [60, 60]
    assert [wipe_seconds(FLASH, METHODS[m]) for m in ("destroy", "key-gone")] == [0, 0]
    assert wipe_seconds(replace(FLASH, identity=None), METHODS["block-erase"]) == 0
    assert [uses_the_link(METHODS[m]) for m in ("overwrite", "write-zeroes", "block-erase", "destroy")] == [
        True,
        False,
        False,
        False,
    ]
    # Exactly two fit on a link of two; a byte a second less and it is one. The fastest of them counts.
    for link, together in ((400_000_000, 2), (399_999_999, 1), (1_000_000_000, 3)):
        assert side_by_side([replace(DISK, link=link, shelf="Loft")] * 3) == together
    mixed = [replace(DISK, link=600_000_000), replace(FLASH, link=600_000_000)]
    assert side_by_side(mixed) == 1 and side_by_side([]) == 0
    assert lot_seconds([]) == 0
    hand = METHODS["destroy"]
    assert lot_seconds([(DISK, hand, 9.0), (DISK, METHODS["overwrite"], 5.0)]) == 9


@pytest.mark.parametrize(
    ("extents", "sample", "remnant", "chance"), [(10, 3, 8, 0.0), (10, 3, 7, 1 / 120), (1, 1, 1, 0.0), (5, 1, 2, 3 / 5)]
)
def test_the_chance_at_its_edges(extents: int, sample: int, remnant: int, chance: float) -> None:
    assert chance_missed(extents, sample, remnant) == pytest.approx(chance)
    with pytest.raises(BadInput) as refusal:
        chance_missed(extents, extents + 1, remnant)
    assert refusal.value.field == "sample"
    check_sample(extents, 1)
    check_sample(extents, extents)
