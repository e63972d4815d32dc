"""How data falls into rows: the counts are those of a loop, then and now, in frames, files and batches, and what moved is a distance."""

from __future__ import annotations

import math

import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from tests.conftest import budget

#: Rows of a table over one column, with what a loop says of a value: the place of the row, or None.
TABLES = {
    "bins": (
        'inputs.x = "number"\noutputs.c = "text"\nrows = [["< 2", "low"], ["2 to <5", "mid"], [">= 5", "high"]]\n',
        lambda x: 0 if x < 2 else 1 if x < 5 else 2,
    ),
    "bins with a gap": (
        'severity.gap = "note"\ninputs.x = "number"\noutputs.c = "text"\nrows = [["< 2", "low"], [">= 5", "high"]]\n',
        lambda x: 0 if x < 2 else 1 if x >= 5 else None,
    ),
    "first match": (
        'severity.gap = "note"\nmatch = "first"\ninputs.x = "number"\noutputs.c = "text"\nrows = [["3", "three"], ["<= 4", "low"], ["> 6", "high"]]\n',
        lambda x: 0 if x == 3 else 1 if x <= 4 else 2 if x > 6 else None,
    ),
    "a mapping": (
        'severity.gap = "note"\ninputs.x = "number"\noutputs.c = "text"\nrows = [["1 | 2", "a"], ["7", "b"]]\n',
        lambda x: 0 if x in (1, 2) else 1 if x == 7 else None,
    ),
    "a row for what is missing": (
        'severity.gap = "note"\ninputs.x = "number"\noutputs.c = "text"\nrows = [["missing", "none"], ["> 3", "more"]]\n',
        lambda x: 0 if x is None else 1 if x > 3 else None,
    ),
}
values = st.lists(st.one_of(st.none(), st.integers(0, 9)), min_size=1, max_size=30)


def fall_of(name, data):
    """Rows of data by row of the table, those without a value and those in no row."""
    _, place_of = TABLES[name]
    names_missing = "missing" in TABLES[name][0]
    n_rows = TABLES[name][0].partition("rows = ")[2].count('", "')
    counts, missing, unmatched = [0] * n_rows, 0, 0
    for x in data:
        if x is None and not names_missing:
            missing += 1
        elif (place := place_of(x)) is None:
            unmatched += 1
        else:
            counts[place] += 1
    return tuple(counts), missing, unmatched


@pytest.fixture(scope="module")
def book(tmp_path_factory):
    folder = tmp_path_factory.mktemp("shares")
    (folder / "tables").mkdir()
    (folder / "book.toml").write_text('title = "Shares"\n')
    for name, (text, _) in TABLES.items():
        (folder / f"tables/{name}.toml").write_text(text)
    return kivvet.open_book(folder)


@settings(max_examples=budget(60), deadline=None)
@given(st.sampled_from(sorted(TABLES)), values, values)
def test_counts_are_those_of_a_loop(book, name, then, now):
    one, other = (pa.table({"x": pa.array(data, pa.float64())}) for data in (now, then))
    shares = book.shares(name, one, against=other)
    for fall, data in ((shares.now, now), (shares.then, then)):
        counts, missing, unmatched = fall_of(name, data)
        assert (fall.counts, fall.missing, fall.unmatched) == (counts, missing, unmatched)
        assert sum(fall.counts) + fall.unmatched == fall.valued == len(data) - missing
        there = [x for x in data if x is not None]
        assert (fall.lowest, fall.highest) == ((min(there), max(there)) if there else (None, None))
    there = [x for x in then if x is not None]
    ends = (min(there), max(there)) if there else (-math.inf, math.inf)
    assert shares.below == sum(x is not None and x < ends[0] for x in now)
    assert shares.above == sum(x is not None and x > ends[1] for x in now)
    assert sum(n for _, n in shares.unmatched_values) == shares.now.unmatched


@settings(max_examples=budget(40), deadline=None)
@given(st.sampled_from(sorted(TABLES)), values, values, values)
def test_what_moved_is_a_distance_of_shares(book, name, one, other, third):
    def moved(now, then):
        frames = [pa.table({"x": pa.array(data, pa.float64())}) for data in (now, then)]
        shares = book.shares(name, frames[0], against=frames[1])
        parts = []
        for data in (now, then):
            counts, _, unmatched = fall_of(name, data)
            total = sum(counts) + unmatched
            parts.append([n / total for n in (*counts, unmatched)] if total else None)
        if None not in parts:
            wanted = sum(abs(a - b) for a, b in zip(*parts, strict=True)) / 2
            assert shares.moved == pytest.approx(wanted)
        return None if None in parts else shares.moved

    there, back = moved(one, other), moved(other, one)
    assert there == back or there == pytest.approx(back)
    assert moved(one, one) in (None, 0.0) and moved(one, [*one, *one]) in (None, pytest.approx(0.0))
    beyond = moved(other, third), moved(one, third)
    if there is not None and None not in beyond:
        assert 0.0 <= there <= 1.0
        assert beyond[1] <= there + beyond[0] + 1e-12


@pytest.mark.parametrize("name", TABLES)
@pytest.mark.parametrize("form", ["csv", "parquet", "pandas", "Arrow"])
def test_they_are_the_same_in_every_form(book, tmp_path, name, form):
    data = [None if n % 11 == 0 else float(n * 7 % 10) for n in range(300)]
    frame = pa.table({"x": pa.array(data, pa.float64())})
    source = {"Arrow": frame, "pandas": frame.to_pandas()}.get(form)
    if form == "csv":
        source = tmp_path / "d.csv"
        source.write_text("x\n" + "".join(f"{'' if x is None else x}\n" for x in data))
    elif form == "parquet":
        source = tmp_path / "d.parquet"
        pq.write_table(frame, source, row_group_size=17)
    shares = book.shares(name, source, against=frame)
    counts, missing, unmatched = fall_of(name, data)
    assert (shares.now.counts, shares.now.missing, shares.now.unmatched) == (counts, missing, unmatched)
    assert shares.moved == 0.0
    told = shares.to_frame()
    assert isinstance(told, pd.DataFrame) and list(told["now"])[: len(counts)] == list(counts)
    assert [row["now"] for row in shares.as_dict()["rows"]] == list(counts)
