"""The two inner loops of exact sums: rows into slices that add up exactly, and digits into floats."""

from __future__ import annotations

import numpy as np

from kivvet.core.columns.arrays import Array, Places

CHUNK = 16_384  # rows, or groups, that stay in the processor's cache
FEW = 4_096  # groups, that are counted chunk by chunk
BITS, MASK = 32, (1 << 32) - 1  # of a digit


class Slices:
    """Sums of two slices of values up to +-`top`, exact in floats as long as a group has `room` rows at most."""

    def __init__(self, n_groups: int, top: float, room: int) -> None:
        exponent, bits = int(np.frexp(top)[1]), max(2, (room - 1).bit_length()) - 53
        first = max(exponent + bits, -1074)
        self.units = first, max(first - 1 + bits, -1074)  # q: a slice counts units of 2**q
        self.top, self.room, self.used = 2.0**exponent, room, 0
        self._pairs = np.zeros(n_groups, complex)  # both slices in one, so that groups are looked up once
        self.sums: Array = self._pairs.view(float).reshape(n_groups, 2).T

    def add(self, numbers: Places, values: Array, longest: int) -> tuple[Places, Array]:
        """Add rows, at most `longest` to a group; return the numbers and the rests of those of which something is left."""
        self.used += longest
        n_groups = self.sums.shape[1]
        left, rests, size = [numbers[:0]], [values[:0]], min(CHUNK, len(values))
        pairs, parts, left_over = np.zeros((size if n_groups > FEW else 0, 2)), np.empty(size), np.empty(size)
        for start in range(0, len(values), CHUNK):
            rest = values[start : start + CHUNK]
            places = numbers[start : start + CHUNK].astype(np.intp, copy=False)
            part, over = parts[: len(rest)], left_over[: len(rest)]
            for number, q in enumerate(self.units):
                np.add(rest, 1.5 * 2.0 ** (q + 52), out=part)
                np.subtract(part, 1.5 * 2.0 ** (q + 52), out=part)
                rest = np.subtract(rest, part, out=over)
                if n_groups == 1:
                    self.sums[number] += part.sum()
                elif n_groups <= FEW:
                    self.sums[number] += np.bincount(places, part, n_groups)
                else:
                    pairs[: len(part), number] = part
                if not (is_left := rest.min() < 0 or rest.max() > 0):
                    break
            if n_groups > FEW:
                if number == 0:
                    pairs[:, 1] = 0.0
                np.add.at(self._pairs, places, pairs[: len(places)].view(complex)[:, 0])
            if is_left:
                rows = np.flatnonzero(rest != 0)
                left.append(places[rows])
                rests.append(rest[rows])
        return np.concatenate(left), np.concatenate(rests)


def rounded_digits(digits: Places, low: int) -> Array:
    """Return numbers as floats: digits of shape (n_places, n), the lowest first, carried but for the highest."""
    sign = np.where(digits[-1] < 0, -1, 1)
    none = np.zeros((2, digits.shape[1]), np.int64)
    digits = np.concatenate([none, digits * sign, none])
    for place in range(2, len(digits) - 1):
        digits[place + 1] += digits[place] >> BITS
        digits[place] &= MASK
    is_held = digits != 0
    top = np.maximum(len(digits) - 1 - np.argmax(is_held[::-1], axis=0), 2)
    one, two, three = (
        np.take_along_axis(digits, (top - down)[None], 0)[0].astype(np.uint64) for down in range(3)
    )
    below = np.take_along_axis(np.logical_or.accumulate(is_held, axis=0), np.maximum(top - 3, 0)[None], 0)[0]
    shift = (BITS - np.frexp(one.astype(float))[1]).astype(np.uint64)
    three <<= shift
    whole = (((one << np.uint64(BITS)) | two) << shift) | (three >> np.uint64(BITS))
    whole |= ((three & np.uint64(MASK)) != 0) | below  # what is below decides between ties
    with np.errstate(over="ignore"):
        made: Array = sign * np.ldexp(whole.astype(float), BITS * (top - 3 + low) - shift.astype(int)) + 0.0
    return made
