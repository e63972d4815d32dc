"""Exact sums against whole numbers of Python and math.fsum: values of each kind, shuffled, split and merged."""

import math
from fractions import Fraction

import numpy as np
import pytest

from kivvet.core.calculate.exact_frames import ExactPrefixes
from kivvet.core.calculate.exact_spread import add_squares, variances
from kivvet.core.calculate.exact_sums import ExactSums, group_sums

N = 12_000
UNIT = 1 << 1074


def as_whole(value):
    top, bottom = value.as_integer_ratio()
    return top * (UNIT // bottom)


def as_float(whole, unit=UNIT):
    try:
        return whole / unit
    except OverflowError:
        return math.inf if whole > 0 else -math.inf


def made(kind, rng, n=N):
    signs = rng.choice([-1.0, 1.0], n)
    return {
        "money": lambda: np.round(rng.lognormal(4, 1.5, n), 2),
        "both": lambda: np.round(signs * rng.lognormal(4, 1.5, n), 2),
        "normal": lambda: rng.normal(size=n),
        "wide": lambda: signs * 10 ** rng.uniform(-300, 300, n),
        "whole": lambda: rng.integers(-(10**6), 10**6, n).astype(float),
        "large whole": lambda: rng.integers(-(2**62), 2**62, n).astype(float),
        "any bits": lambda: np.nan_to_num(
            rng.integers(0, 2**64, n, dtype=np.uint64).view(float), nan=0.0, posinf=1.0, neginf=-1.0
        ),
        "subnormal": lambda: rng.integers(-(2**20), 2**20, n) * 5e-324,
        "largest": lambda: rng.choice(
            [1.7976931348623157e308, -1.7976931348623157e308, 1e292, -1e292, 5e-324], n
        ),
        "cancelling": lambda: _cancelling(rng, n),
        "ties": lambda: rng.choice(
            [1.0, 2**-53, -(2**-53), 2**-106, -(2**-106), 2**-54, 1 + 2**-52, 2.0**53, -(2.0**53)], n
        ),
        "half ties": lambda: np.where(
            np.arange(n) % 2 == 0, 1.0, rng.choice([2**-53, 2**-53 + 2**-105, 2**-53 - 2**-106], n)
        ),
        "one outlier": lambda: np.where(np.arange(n) == n // 3, 1e18, rng.normal(size=n)),
        "zeros": lambda: signs * 0.0,
    }[kind]()


def _cancelling(rng, n):
    half = 10 ** rng.uniform(-30, 30, n // 2)
    return rng.permutation(np.concatenate([half, -half * (1 + rng.choice([0, 2.0**-52], n // 2))]))


KINDS = [
    "money",
    "both",
    "normal",
    "wide",
    "whole",
    "large whole",
    "any bits",
    "subnormal",
    "largest",
    "cancelling",
    "ties",
    "half ties",
    "one outlier",
    "zeros",
]


@pytest.mark.parametrize("kind", KINDS)
def test_sums_do_not_depend_on_order_or_parts(kind):
    rng = np.random.default_rng(len(kind))
    values = made(kind, rng)
    wholes = [as_whole(one) for one in values.tolist()]
    for n_groups in (1, 50, 5_000):
        numbers = rng.integers(0, n_groups, N)
        totals = [0] * n_groups
        for number, one in zip(numbers.tolist(), wholes, strict=True):
            totals[number] += one
        wanted = np.array([as_float(one) for one in totals])
        longest = int(np.bincount(numbers).max())
        got = group_sums(numbers, values, n_groups)
        assert np.array_equal(got, wanted) and not np.signbit(got[got == 0]).any()
        rows = rng.permutation(N)
        cuts = np.sort(rng.integers(0, N, 5))
        parts = []
        for some in np.split(rows, cuts):
            state = ExactSums(n_groups)
            state.add(numbers[some], values[some])
            parts.append(state)
        by_batch = ExactSums(n_groups)
        for some in np.split(rows[::-1], cuts):
            by_batch.add(numbers[some], values[some], longest)
        assert np.array_equal(by_batch.rounded(), wanted)
        merged = ExactSums(n_groups)
        for at in rng.permutation(len(parts)):
            merged.merge(parts[at])
        assert np.array_equal(merged.rounded(), wanted)
        some = rng.integers(0, n_groups, 20)
        power, exact = merged.whole(some)
        told = [Fraction(one) * Fraction(2) ** power for one in exact]
        assert told == [Fraction(totals[group], UNIT) for group in some.tolist()]
        half = np.arange(n_groups) // 2
        coarse = ExactSums(n_groups // 2 + 1)
        coarse.merge(merged, half)
        pairs = [sum(totals[at : at + 2]) for at in range(0, n_groups, 2)]
        assert np.array_equal(coarse.rounded()[: len(pairs)], [as_float(one) for one in pairs])


def test_sum_of_all_is_that_of_fsum():
    rng = np.random.default_rng(3)
    for kind in ("money", "both", "normal", "wide", "cancelling", "half ties"):
        values = made(kind, rng)
        assert group_sums(np.zeros(N, np.uint8), values, 1)[0] == math.fsum(values.tolist())


@pytest.mark.filterwarnings("ignore:invalid value")
def test_what_is_not_finite():
    rng = np.random.default_rng(4)
    values = rng.choice(
        [0.0, -0.0, 1.5, math.inf, -math.inf, math.nan], N, p=[0.3, 0.3, 0.37, 0.01, 0.01, 0.01]
    )
    for n_groups in (1, 3_000, 9_000):
        numbers = rng.integers(0, n_groups, len(values))
        wanted = np.zeros(n_groups)
        for number, one in zip(numbers.tolist(), values.tolist(), strict=True):
            wanted[number] += one
        assert np.array_equal(group_sums(numbers, values, n_groups), wanted, equal_nan=True)


def test_running_and_moving_totals():
    rng = np.random.default_rng(5)
    n = N // 3
    for kind in KINDS:
        values = made(kind, rng, n)
        wholes = [as_whole(one) for one in values.tolist()]
        for n_groups in (1, 300, 40_000):
            numbers = np.sort(rng.integers(0, n_groups, n))
            starts = np.searchsorted(numbers, numbers)
            passed = [0]
            for one in wholes:
                passed.append(passed[-1] + one)
            for first, end in (
                (starts, np.arange(1, n + 1)),
                (np.maximum(starts, np.arange(n) - 6), np.arange(1, n + 1)),
            ):
                got = ExactPrefixes(values, int((end - first).max())).between(first, end)
                wanted = [
                    as_float(passed[b] - passed[a]) for a, b in zip(first.tolist(), end.tolist(), strict=True)
                ]
                assert np.array_equal(got, wanted), (kind, n_groups)


def moments(n_groups):
    return ExactSums(n_groups), ExactSums(n_groups)


def add(pair, numbers, values):
    pair[0].add(numbers, values)
    add_squares(pair[1], numbers, values)


def test_variances():
    rng = np.random.default_rng(6)
    n = N // 20
    for kind in KINDS:
        for offset in (0.0, 1e9):
            values = made(kind, rng, n) + offset
            wholes = [as_whole(one) for one in values.tolist()]
            for n_groups in (1, 30, 1_000):
                numbers = rng.integers(0, n_groups, n)
                totals, squares, counts = [0] * n_groups, [0] * n_groups, [0] * n_groups
                for number, one in zip(numbers.tolist(), wholes, strict=True):
                    totals[number] += one
                    squares[number] += one * one
                    counts[number] += 1
                parts = np.array_split(rng.permutation(n), 3)
                merged, whole = moments(n_groups), moments(n_groups)
                for some in parts:
                    part = moments(n_groups)
                    add(part, numbers[some], values[some])
                    for mine, its in zip(merged, part, strict=True):
                        mine.merge(its)
                add(whole, numbers, values)
                counted = np.array(counts)
                got = variances(counted, *merged, 1)
                assert np.array_equal(got, variances(counted, *whole, 1), equal_nan=True)
                wanted = np.array(
                    [
                        as_float(count * square - total * total, UNIT * UNIT * count * (count - 1))
                        if count > 1
                        else math.nan
                        for total, square, count in zip(totals, squares, counts, strict=True)
                    ]
                )
                with np.errstate(all="ignore"):
                    close = (
                        (got == wanted)
                        | (np.abs(got - wanted) <= np.spacing(np.abs(wanted)))
                        | (np.isnan(got) & np.isnan(wanted))
                    )
                assert close.all(), (kind, offset, n_groups)
