"""Which method reaches what on which drive; what a sample can miss; how long a lot takes."""

from __future__ import annotations

from dataclasses import replace
from itertools import combinations
from math import comb

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.disposal.facts import Category, Command, DriveFacts, Identity
from pairshelf.core.disposal.methods import METHODS, chosen, offers
from pairshelf.core.disposal.times import lot_seconds, side_by_side, verify_seconds, wipe_seconds
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
