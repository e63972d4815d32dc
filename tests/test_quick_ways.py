"""The quick ways of working formulas out, each held against the long way: chunks, threads, and what is left out where it cannot count."""

from __future__ import annotations

import math

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.calculate import formula_values, groups, plain_floats, vectors, window_totals
from kivvet.core.calculate.groups import Groups
from kivvet.core.calculate.vectors import Vector, to_arrow
from kivvet.core.calculate.window_totals import first_rows
from kivvet.core.columns.column import Bitmap
from tests.conftest import budget

floats = st.one_of(st.none(), st.sampled_from([0.0, -0.0, 1.0, -2.5, 1e308, 5e-324, math.inf, -math.inf, math.nan]), st.floats(-9, 9))  # fmt: skip


@pytest.fixture
def small_chunks(monkeypatch):
    """Chunks of few rows, and two threads for them, so that small cases have many of both."""
    monkeypatch.setattr(window_totals, "CHUNK", 3)
    monkeypatch.setattr(formula_values, "_ROWS_AT_ONCE", 4)
    monkeypatch.setattr("kivvet.core.columns.arrays.ROWS_FOR_THREADS", 6)


@settings(max_examples=budget(60))
@given(st.lists(st.integers(0, 6), max_size=30), st.integers(1, 4))
def test_the_first_row_of_each_group_is_the_first_that_a_loop_meets(numbers, chunk):
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(window_totals, "CHUNK", chunk)
        found = first_rows(Groups(np.array(numbers, np.int64), 7), len(numbers))
    assert found.tolist() == [number not in numbers[:place] for place, number in enumerate(numbers)]


@settings(max_examples=budget(40), deadline=None)
@given(
    st.lists(st.tuples(st.one_of(st.none(), st.integers(0, 3)), st.integers(0, 9)), min_size=1, max_size=14)
)
def test_whether_a_row_is_the_first_is_told_the_same_in_every_form(rows):
    keys, days = (pa.array([row[at] for row in rows], pa.int64()) for at in range(2))
    frame = pa.table({"k": keys, "d": days})
    as_texts = frame.set_column(
        0, "k", pa.array([None if k is None else f"K{k}" for k, _ in rows], pa.string())
    )
    formulas = {
        "is_first": "ROW_NUMBER() OVER (PARTITION BY k) = 1",
        "is_later": "ROW_NUMBER() OVER (PARTITION BY k) <> 1",
        "among_others": "ROW_NUMBER() OVER (PARTITION BY k) = 1 OR d < 0",
        "by_number": "number = 1",
        "number": "ROW_NUMBER() OVER (PARTITION BY k)",
        "lowest": "RANK() OVER (PARTITION BY k ORDER BY d) = 1",
        "lowest_by_number": "rank = 1",
        "rank": "RANK() OVER (PARTITION BY k ORDER BY d)",
    }
    met, wanted = set(), []
    for key, _ in rows:
        wanted.append(key not in met)
        met.add(key)
    lowest = [day == min(other for k, other in rows if k == key) for key, day in rows]
    for form in (
        frame,
        as_texts,
        as_texts.set_column(0, "k", as_texts["k"].combine_chunks().dictionary_encode()),
    ):
        made = kivvet.with_formulas(form, formulas).to_pydict()
        assert made["is_first"] == made["by_number"] == made["among_others"] == wanted
        assert made["is_later"] == [not one for one in wanted]
        assert made["lowest"] == made["lowest_by_number"] == lowest


def loop(sign, a, b):
    """An operation on two floats as formulas have it: None where one is missing or there is no result."""
    if a is None or b is None:
        return None
    if sign == "/":
        if b == 0:
            return None
        made = a / b
    else:
        made = {"+": a + b, "-": a - b, "*": a * b}[sign]
    return None if math.isnan(made) else made


def held(value):
    return None if value is None or math.isnan(value) else value


@settings(max_examples=budget(80), deadline=None)
@given(
    st.lists(st.tuples(floats, floats, floats), min_size=1, max_size=30),
    st.sampled_from("+-*/"),
    st.sampled_from("+-*/"),
    st.integers(0, 9),
    st.booleans(),
)
def test_arithmetic_of_floats_is_that_of_a_loop(rows, one, other, skipped, is_of_bits):
    frame = pa.table(
        {name: pa.array([held(row[at]) for row in rows], pa.float64()) for at, name in enumerate("abc")}
    )
    skipped = min(skipped, len(rows) - 1)
    rows, frame = rows[skipped:], frame.slice(skipped)
    formulas = {"m": f"(a {one} b) {other} c", "n": f"a {one} (b {other} 2.5)"}
    with pytest.MonkeyPatch.context() as patch, np.errstate(all="ignore"):
        patch.setattr(formula_values, "_ROWS_AT_ONCE", 4)
        patch.setattr(plain_floats, "CHUNK", 8)
        patch.setattr("kivvet.core.columns.arrays.ROWS_FOR_THREADS", 6)
        made = kivvet.with_formulas(frame if is_of_bits else frame.to_pandas(), formulas)
    made = made if is_of_bits else pa.Table.from_pandas(made)
    made.validate(full=True)
    assert all(made[name].null_count == sum(not there for there in made[name].is_valid().to_pylist()) for name in "mn")  # fmt: skip
    with np.errstate(all="ignore"):
        wanted = [loop(other, loop(one, *map(held, row[:2])), held(row[2])) for row in rows]
        again = [loop(one, held(row[0]), loop(other, held(row[1]), 2.5)) for row in rows]
    assert made["m"].to_pylist() == wanted
    assert made["n"].to_pylist() == again


@pytest.mark.parametrize(
    "window",
    [
        "SUM(x) OVER (PARTITION BY k)",
        "COUNT(*) OVER (PARTITION BY k)",
        "MAX(x) OVER (PARTITION BY k ORDER BY x)",
        "FIRST_VALUE(t) OVER (PARTITION BY k ORDER BY x)",
        "LAG(x) OVER (ORDER BY x)",
        "NTILE(3) OVER (ORDER BY x)",
        "MIN(day) OVER (PARTITION BY k)",
        "AVG(x) OVER (PARTITION BY k)",
    ],
)
def test_a_window_alone_is_what_it_is_in_an_expression(small_chunks, window):
    rng = np.random.default_rng(len(window))
    frame = pa.table(
        {
            "k": pa.array(rng.integers(0, 4, 40)),
            "x": pa.array([None if n % 7 == 0 else float(n) for n in rng.permutation(40)]),
            "t": pa.array([("u", "v", None, "w")[n % 4] for n in rng.permutation(40)]),
            "day": pa.array(rng.integers(0, 900, 40).astype(np.int32)).view(pa.date32()),
        }
    )
    made = kivvet.with_formulas(frame, {"alone": window, "chosen": f"CASE WHEN k >= 0 THEN {window} END"})
    assert made["alone"].to_pylist() == made["chosen"].to_pylist()
    assert made["alone"].type.equals(made["chosen"].type)


@settings(max_examples=budget(40))
@given(st.lists(st.integers(-(2**62), 2**62), min_size=1, max_size=30))
def test_the_ends_of_whole_numbers_are_those_of_all_threads(values):
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("kivvet.core.columns.arrays.ROWS_FOR_THREADS", 4)
        assert groups._ends(np.array(values, np.int64)) == (min(values), max(values))


@settings(max_examples=budget(60))
@given(st.lists(st.tuples(st.booleans(), st.booleans()), max_size=40), st.booleans())
def test_truth_becomes_bits_with_what_is_missing(pairs, is_all_there):
    values, missing = (np.array([pair[at] for pair in pairs], bool) for at in range(2))
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("kivvet.core.columns.arrays.ROWS_FOR_THREADS", 8)
        patch.setattr(vectors, "CHUNK", 8)
        array = to_arrow(Vector("boolean", values, None if is_all_there else missing), len(pairs))
    array.validate(full=True)
    assert array.to_pylist() == [None if gone and not is_all_there else value for value, gone in pairs]


@pytest.mark.parametrize("kind", ["integer", "number", "date", "datetime"])
def test_values_keep_their_bits_on_the_way_to_arrow(kind):
    values = np.arange(-9, 23).astype(vectors.DTYPES[kind])
    missing = np.arange(32) % 5 == 0
    array = to_arrow(Vector(kind, values, missing), 32)
    array.validate(full=True)
    assert array.null_count == missing.sum()
    there = array.cast(pa.int64()) if kind != "date" else array.cast(pa.int32())
    assert there.drop_null().to_pylist() == values[~missing].astype(int).tolist()


@given(
    st.lists(st.booleans(), min_size=1, max_size=40),
    st.integers(0, 20),
    st.integers(0, 40),
    st.integers(0, 40),
)
def test_a_bitmap_tells_of_each_row_what_arrow_tells(flags, skipped, start, stop):
    array = pa.array([1.0 if there else None for there in flags], pa.float64()).slice(skipped)
    there = array.is_valid().to_pylist()
    bitmap = Bitmap.of(array)
    if bitmap is None:
        assert all(there)
        return
    rows = slice(start, stop)
    n_rows = len(there[rows])
    assert bitmap.unpacked.tolist() == there
    assert bitmap[rows].tolist() == there[rows]
    assert bitmap[np.arange(len(there))[::2]].tolist() == there[::2]
    assert (
        np.unpackbits(bitmap.bits(rows), count=n_rows, bitorder="little").astype(bool).tolist() == there[rows]
    )
