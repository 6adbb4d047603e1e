"""Parity arithmetic: the field's laws, and that whatever the scheme survives can be computed again."""

from __future__ import annotations

from itertools import combinations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.errors import NotPossible
from pairshelf.core.layouts import erasure

byte = st.integers(0, 255)


def slow_multiply(a: int, b: int) -> int:
    """Shift and add with 0x11d, the definition."""
    product = 0
    while b:
        if b & 1:
            product ^= a
        a <<= 1
        if a & 0x100:
            a ^= 0x11D
        b >>= 1
    return product


@given(byte, byte)
def test_multiplication_is_the_definition(a: int, b: int) -> None:
    assert erasure.multiply(a, b) == slow_multiply(a, b)
    if a:
        assert slow_multiply(a, erasure.inverse(a)) == 1


@given(st.integers(1, 255), st.integers(1, 3), st.integers(0, 2**32))
def test_parity_is_its_formula(count: int, parities: int, seed: int) -> None:
    data = np.random.default_rng(seed).integers(0, 256, (count, 5), np.uint8)
    found = erasure.parity(list(data), parities)
    for j, block in enumerate(found):
        expected = [0] * 5
        for i in range(count):
            factor = erasure.power(i * j)
            expected = [e ^ slow_multiply(factor, int(v)) for e, v in zip(expected, data[i], strict=True)]
        assert block.tolist() == expected


@pytest.mark.parametrize("size", [8, 13, 65536 + 24])
def test_every_loss_the_scheme_survives_is_computed_again(size: int) -> None:
    count, parities = 6, 3
    data = list(np.random.default_rng(size).integers(0, 256, (count, size), np.uint8))
    columns = dict(enumerate([*data, *erasure.parity(data, parities)]))
    for lost in range(parities + 1):
        for gone in combinations(range(count + parities), lost):
            present = {c: b for c, b in columns.items() if c not in gone}
            found = erasure.reconstruct(count, parities, present, gone)
            assert all(np.array_equal(found[c], columns[c]) for c in gone)
    with pytest.raises(NotPossible):
        erasure.reconstruct(count, parities, {c: columns[c] for c in range(2, 7)}, [0, 1])


def test_widest_group_of_triple_parity_is_solvable_anywhere() -> None:
    """Vandermonde rows g^0, g^i, g^2i stay invertible for every three of 255 columns tried."""
    picks = np.random.default_rng(7)
    for _ in range(300):
        lost = sorted(int(i) for i in picks.choice(255, 3, replace=False))
        erasure.invert([[erasure.power(i * j) for i in lost] for j in range(3)])


@given(st.integers(2, 20), st.integers(2, 3), st.data())
def test_one_wrong_column_is_found(count: int, parities: int, data: st.DataObject) -> None:
    blocks = list(np.random.default_rng(3).integers(0, 256, (count, 16), np.uint8))
    columns = [*blocks, *erasure.parity(blocks, parities)]
    assert erasure.locate(count, columns) is None
    wrong = data.draw(st.integers(0, len(columns) - 1))
    columns[wrong] = columns[wrong].copy()
    columns[wrong][data.draw(st.integers(0, 15))] ^= data.draw(st.integers(1, 255))
    assert erasure.locate(count, columns) == wrong
