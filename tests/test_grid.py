"""The grid finds the cell that a binary search finds, whatever the thresholds and the values."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kivvet.core.columns.grid import Grid
from kivvet.core.columns.kernels import Thresholds, label_by_thresholds
from tests.conftest import budget

FLOATS = st.one_of(
    st.floats(allow_nan=False, allow_infinity=False),
    st.floats(-2, 2, allow_nan=False),
    st.sampled_from([0.0, -0.0, 5e-324, -5e-324, 1e300, -1e300, 1.0, np.nextafter(1.0, 2)]),
)


def cells(thresholds, values):
    found = np.searchsorted(thresholds, values, side="right")
    return np.where(np.isnan(values), 0, found) if values.dtype.kind == "f" else found


def check(thresholds, values):
    grid, n_labels = Grid(thresholds), len(thresholds) + 1
    labels = np.arange(n_labels, dtype=np.uint32)[::-1].copy()
    for counts in (None, np.zeros(n_labels, np.int64)):
        out = np.empty(len(values), np.uint32)
        grid.label(values, labels, out, counts, 0, len(values))
        wanted = cells(thresholds, values)
        assert out.tolist() == labels[wanted].tolist()
        if counts is not None:
            assert counts.tolist() == np.bincount(wanted, minlength=n_labels).tolist()


@settings(max_examples=budget(165), deadline=None)
@given(
    st.lists(FLOATS, min_size=1, max_size=30),
    st.lists(FLOATS, max_size=20),
    st.sampled_from([np.float64, np.float32]),
)
def test_floats(bounds, more, kind):
    with np.errstate(over="ignore"):
        bounds, more = np.array(bounds, kind) + kind(0), np.array(more, kind)
    inner = np.unique(bounds[np.isfinite(bounds)])
    if not len(inner):
        return
    with np.errstate(over="ignore"):
        near = [np.nextafter(inner, kind(np.inf)), np.nextafter(inner, kind(-np.inf))]
    around = np.concatenate([inner, *near, more])
    values = np.concatenate([around, -around, np.array([np.nan, np.inf, -np.inf, -0.0], kind)])
    check(np.concatenate([np.array([-np.inf], kind), inner]), values)


@settings(max_examples=budget(110), deadline=None)
@given(
    st.lists(st.integers(-(2**63), 2**63 - 1), min_size=1, max_size=30),
    st.lists(st.integers(-(2**63), 2**63 - 1)),
)
def test_integers(bounds, more):
    thresholds = np.unique(np.array(bounds, np.int64))
    edges = [n for bound in bounds for n in (bound - 1, bound, bound + 1) if -(2**63) <= n < 2**63]
    check(thresholds, np.array([*edges, *more, 2**63 - 1, -(2**63)], np.int64))


@pytest.mark.parametrize("spread", ["even", "skewed", "crowded", "across zero"])
@pytest.mark.parametrize("n_thresholds", [30, 5_000])
def test_long_columns_take_the_grid_and_are_right(spread, n_thresholds):
    rng = np.random.default_rng(3)
    values = {
        "even": rng.random(200_000) * 100,
        "skewed": np.exp(rng.normal(0, 4, 200_000)),
        "crowded": 1e6 + rng.random(200_000),
        "across zero": rng.normal(0, 1, 200_000),
    }[spread]
    values[::97] = np.nan
    thresholds = np.concatenate([[-np.inf], np.unique(rng.choice(values[~np.isnan(values)], n_thresholds))])
    labels = np.arange(len(thresholds) + 1, dtype=np.uint32)
    made, counts = label_by_thresholds(values, Thresholds(thresholds), labels, with_counts=True)
    wanted = cells(thresholds, values)
    assert np.array_equal(made, wanted)
    assert np.array_equal(counts, np.bincount(wanted, minlength=len(labels)))
