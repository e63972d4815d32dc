"""Frames of polars: classes come as its type for them, by codes, however many there are, and the frame's own columns stay as they are."""

from __future__ import annotations

import polars as pl
import pytest

import kivvet


def mapping(n):
    """A table of n classes, each of its own value."""
    rows = [[f"k{number}", f"class {number:05d}"] for number in range(n)]
    return kivvet.RuleTable("m", {"k": "text"}, {"c": "text"}, rows, severity={"gap": "note"})


@pytest.mark.parametrize("n", [1, 2, 126, 127, 128, 129, 254, 255, 256, 257, 300, 3_000])
def test_classes_come_by_codes_however_many_there_are(n):
    values = [f"k{number}" for number in (*range(n), n - 1, 0)] + [None, "unknown", ""]
    frame = pl.DataFrame({"k": values, "n": range(len(values))})
    made = mapping(n).apply(frame)
    classes = [f"class {number:05d}" for number in range(n)]
    assert made.columns == ["k", "n", "c"] and made["c"].dtype == pl.Enum(classes)
    assert made["c"].to_list() == [*classes, classes[-1], classes[0], None, None, None]
    assert made["c"].null_count() == 3
    assert made.select("k", "n").equals(frame)
    assert made.sort("c", nulls_last=True)["c"].to_list()[:2] == [classes[0], classes[0]]


@pytest.mark.parametrize("dtype", [pl.String, pl.Categorical, pl.Enum(["k0", "k1", "other"])])
def test_texts_of_any_form_are_read_and_stay(dtype):
    frame = pl.DataFrame({"k": pl.Series(["k1", None, "k0", "other"], dtype=pl.String).cast(dtype)})
    made = mapping(2).apply(frame)
    assert made["k"].dtype == frame["k"].dtype and made["k"].equals(frame["k"])
    assert made["c"].to_list() == ["class 00001", None, "class 00000", None]


def test_a_frame_of_no_rows_and_one_of_several_chunks():
    empty = mapping(2).apply(pl.DataFrame({"k": pl.Series([], dtype=pl.String)}))
    assert empty.height == 0 and empty.columns == ["k", "c"]
    parts = pl.concat([pl.DataFrame({"k": ["k0"]}), pl.DataFrame({"k": ["k1", "k0"]})], rechunk=False)
    assert parts.n_chunks() == 2
    assert mapping(2).apply(parts)["c"].to_list() == ["class 00000", "class 00001", "class 00000"]


def test_a_name_that_the_frame_has_is_refused():
    with pytest.raises(kivvet.KivvetError, match="'c'"):
        mapping(2).apply(pl.DataFrame({"k": ["k0"], "c": [1]}))
