"""Parity over GF(2^8) on blocks of bytes, vectorised with NumPy.

Polynomial 0x11d, generator 2 (rules: parity arithmetic): P = sum D_i, Q = sum g^i D_i,
R = sum g^(2i) D_i, i from 0 in member order. Blocks are uint8 arrays of one shape; work is done in
pieces that stay in the processor's second-level cache, so each data byte crosses memory once.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from pairshelf.core.errors import NotPossible

Block = npt.NDArray[np.uint8]

_POLYNOMIAL = 0x11D
_PIECE = 128 * 1024
_FOLD = np.uint64(0x1D1D1D1D1D1D1D1D)


def _tables() -> tuple[list[int], list[int]]:
    powers, logs = [0] * 510, [0] * 256
    value = 1
    for exponent in range(255):
        powers[exponent] = powers[exponent + 255] = value
        logs[value] = exponent
        value <<= 1
        if value & 0x100:
            value ^= _POLYNOMIAL
    return powers, logs


_POWERS, _LOGS = _tables()


def power(exponent: int) -> int:
    """g^exponent."""
    return _POWERS[exponent % 255]


def multiply(a: int, b: int) -> int:
    """a x b in the field."""
    return 0 if a == 0 or b == 0 else _POWERS[_LOGS[a] + _LOGS[b]]


def inverse(a: int) -> int:
    """1/a in the field; a must not be zero."""
    if a == 0:
        raise ZeroDivisionError("zero has no inverse in GF(2^8)")
    return _POWERS[255 - _LOGS[a]]


@lru_cache(maxsize=256)
def _times_table(factor: int) -> Block:
    return np.array([multiply(factor, x) for x in range(256)], dtype=np.uint8)


def times(factor: int, block: Block) -> Block:
    """Each byte of the block times a constant of the field."""
    if factor == 0:
        return np.zeros_like(block)
    if factor == 1:
        return block.copy()
    return _times_table(factor)[block]


def parity(data: Sequence[Block], count: int, outs: Sequence[Block] | None = None) -> list[Block]:
    """The first ``count`` (0 to 3) of P, Q, R over the data blocks, all of one shape.

    They go to ``outs`` if these are given. Every second or tenth row of something larger is taken as it lies.
    """
    if count == 0:
        return []
    outs = [np.empty(data[0].shape, np.uint8) for _ in range(count)] if outs is None else list(outs[:count])
    blocks = _as_rows([*data, *outs])
    rows, width = blocks[0].shape
    # Either many rows of a piece, or a piece of the one row.
    high, wide = min(rows, max(1, _PIECE // width)), min(width, _PIECE)
    scratch = np.empty((count + 2, high * wide), np.uint8)
    for top in range(0, rows, high):
        for left in range(0, width, wide):
            pieces = [b[top : top + high, left : left + wide] for b in blocks]
            lines, across = pieces[0].shape
            _parity_piece(
                pieces[: len(data)], pieces[len(data) :], scratch[:, : lines * across].reshape(-1, lines, across)
            )
    return outs


def _as_rows(blocks: list[Block]) -> list[Block]:
    """Views of them in two dimensions, the second without gaps: one row where none has gaps at all."""
    if all(b.flags.c_contiguous for b in blocks):
        return [b.reshape(1, -1) for b in blocks]
    return [b.reshape(-1, b.shape[-1]) for b in blocks]


def _parity_piece(pieces: list[Block], outs: list[Block], scratch: Block) -> None:
    """Horner's rule from the last block down: out = out x g^k + D_i for k = 0 (P), 1 (Q), 2 (R).

    What lies in rows apart is worked on in ``scratch``, where it has no gaps: that is twice as fast.
    """
    mask, near, *sums = scratch
    wide = np.uint64 if mask.shape[1] % 8 == 0 else np.uint8
    sums = [o if o.flags.c_contiguous else s for o, s in zip(outs, sums, strict=True)]
    for total in sums:
        np.copyto(total, pieces[-1])
    for piece in pieces[-2::-1]:
        if not piece.flags.c_contiguous:
            np.copyto(near, piece)
            piece = near
        source = piece.view(wide)
        for doublings, total in enumerate(sums):
            for _ in range(doublings):
                _double(total, mask)
            target = total.view(wide)
            np.bitwise_xor(target, source, out=target)
    for out, total in zip(outs, sums, strict=True):
        if out is not total:
            np.copyto(out, total)


def _double(block: Block, mask: Block) -> None:
    """block x 2 in place: shift left, and fold the polynomial in where a bit fell out."""
    np.right_shift(block.view(np.int8), 7, out=mask.view(np.int8))
    if mask.shape[1] % 8 == 0:
        np.bitwise_and(mask.view(np.uint64), _FOLD, out=mask.view(np.uint64))
    else:
        np.bitwise_and(mask, np.uint8(0x1D), out=mask)
    np.add(block, block, out=block)
    np.bitwise_xor(block, mask, out=block)


def reconstruct(count: int, parities: int, present: Mapping[int, Block], wanted: Sequence[int]) -> dict[int, Block]:
    """The wanted columns from those present: 0..count-1 are data, count.. are P, Q, R.

    Raises NotPossible when more columns are gone than the parity that is there can make up for.
    """
    lost_data = [i for i in range(count) if i not in present]
    checks = [j for j in range(parities) if count + j in present]
    if len(lost_data) > len(checks):
        raise NotPossible("More blocks of a stripe are gone than its parity can give back.", code="data-lost")
    found: dict[int, Block] = {}
    if lost_data:
        found.update(_solve(count, present, lost_data, checks[: len(lost_data)]))
    whole = {**present, **found}
    lost_checks = [c - count for c in wanted if c >= count and c not in present]
    if lost_checks:
        computed = parity([whole[i] for i in range(count)], max(lost_checks) + 1)
        for j in lost_checks:
            whole[count + j] = computed[j]
    return {column: whole[column] for column in wanted}


def _solve(count: int, present: Mapping[int, Block], lost: Sequence[int], checks: Sequence[int]) -> dict[int, Block]:
    """Solve sum over lost i of g^(i*j) D_i = check_j - known part, for the chosen checks j."""
    like = next(iter(present.values()))
    zero = np.zeros_like(like)
    partial = parity([present.get(i, zero) for i in range(count)], max(checks) + 1)
    right = [np.bitwise_xor(present[count + j], partial[j]) for j in checks]
    weights = invert([[power(i * j) for i in lost] for j in checks])
    solved: dict[int, Block] = {}
    for row, index in zip(weights, lost, strict=True):
        total = np.zeros_like(like)
        for factor, block in zip(row, right, strict=True):
            np.bitwise_xor(total, times(factor, block), out=total)
        solved[index] = total
    return solved


def invert(matrix: list[list[int]]) -> list[list[int]]:
    """Inverse of a small square matrix over the field (Gauss-Jordan)."""
    n = len(matrix)
    rows = [[*row, *(int(i == j) for j in range(n))] for i, row in enumerate(matrix)]
    for column in range(n):
        pivot = next((r for r in range(column, n) if rows[r][column]), None)
        if pivot is None:
            raise NotPossible("These columns cannot be told apart.", code="data-lost")
        rows[column], rows[pivot] = rows[pivot], rows[column]
        scale = inverse(rows[column][column])
        rows[column] = [multiply(scale, v) for v in rows[column]]
        for r in range(n):
            factor = rows[r][column]
            if r != column and factor:
                rows[r] = [v ^ multiply(factor, w) for v, w in zip(rows[r], rows[column], strict=True)]
    return [row[n:] for row in rows]


def locate(count: int, columns: Sequence[bytes | Block]) -> int | None:
    """The one wrong column of a stripe with at least P and Q, or None if it cannot be told.

    Columns are D_0..D_(count-1), P, Q[, R], each one block. With one data block e wrong by d, the
    syndromes are P: d, Q: g^e d, R: g^(2e) d at every differing byte; a wrong parity column
    disturbs only its own syndrome.
    """
    blocks = [np.frombuffer(c, np.uint8) if isinstance(c, bytes) else c for c in columns]
    computed = parity(blocks[:count], len(blocks) - count)
    syndromes = [np.bitwise_xor(a, b) for a, b in zip(computed, blocks[count:], strict=True)]
    touched = [j for j, s in enumerate(syndromes) if s.any()]
    if len(touched) == 1 and len(syndromes) >= 2:
        return count + touched[0]
    if len(touched) < len(syndromes) or len(syndromes) < 2:
        return None
    spots = np.nonzero(syndromes[0])[0]
    if any((s[syndromes[0] == 0]).any() for s in syndromes[1:]):
        return None
    votes = set()
    for spot in spots:
        p, q = int(syndromes[0][spot]), int(syndromes[1][spot])
        if q == 0:
            return None
        e = (_LOGS[q] - _LOGS[p]) % 255
        if len(syndromes) > 2 and multiply(power(2 * e), p) != int(syndromes[2][spot]):
            return None
        votes.add(e)
    return votes.pop() if len(votes) == 1 and min(votes) < count else None


def columns_to_read(data: int, parities: int, changed: Collection[int]) -> list[int]:
    """The columns of a stripe that are read before some of its data change: the rest of the data where these are fewer,
    else those that change and the parity."""
    rest = [c for c in range(data) if c not in changed]
    return rest if len(rest) < len(changed) + parities else [*sorted(changed), *range(data, data + parities)]


def changed_parity(data: int, parities: int, changed: Mapping[int, Block], stands: Mapping[int, Block]) -> list[Block]:
    """The parity of stripes after some of their columns have changed. ``stands``: of what they held, either the rest of
    the data, or the columns that change and the parity (parity is linear: that of the change is added)."""
    if all(c in changed or c in stands for c in range(data)):
        return parity([changed[c] if c in changed else stands[c] for c in range(data)], parities)
    nothing = np.zeros_like(next(iter(changed.values())))
    change = parity([changed[c] ^ stands[c] if c in changed else nothing for c in range(data)], parities)
    return [stands[data + i] ^ change[i] for i in range(parities)]
