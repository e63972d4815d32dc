"""What can be asked of a dataset or a file can be asked of a frame, of pandas, polars or Arrow alike, with the same answers."""

from __future__ import annotations

import pandas as pd
import polars as pl
import pyarrow as pa
import pytest
from pyarrow import parquet

import kivvet

TABLE = pa.table(
    {
        "station": ["007", "008", "009", "007"],
        "ph": [6.4, None, 8.5, 7.0],
        "remark": ["foam, brown", "NA", None, None],
    }
)
FRAMES = {
    "Arrow": lambda: TABLE,
    "pandas": TABLE.to_pandas,
    "polars": lambda: pl.from_arrow(TABLE),
    "views": lambda: TABLE.cast(
        pa.schema([("station", pa.string_view()), ("ph", pa.float64()), ("remark", pa.large_string())])
    ),
    "dictionaries": lambda: TABLE.set_column(0, "station", TABLE["station"].dictionary_encode()),
}
ASKED = {
    "look": lambda book, on: [(one.name, one.type, one.missing, one.values) for one in book.look(on).columns],
    "summary": lambda book, on: book.cross_table(on, by="station", value="SUM(ph)").as_dict(),
    "rows": lambda book, on: book.rows(on, where="ph > 6.5", sort="ph").table.to_pylist(),
    "formula": lambda book, on: book.formula("ph * 2", on).as_dict(),
    "shares": lambda book, on: book.shares("ph_class", on, column="ph").to_frame().to_dict("list"),
    "draft": lambda book, on: [
        str(row) for row in book.draft("new", on, column="ph", by_value=True, replace=True).table.rows
    ],
}


@pytest.mark.parametrize("asked", ASKED)
@pytest.mark.parametrize("kind", FRAMES)
def test_a_frame_is_answered_as_its_file_is(asked, kind, small_book):
    path = small_book / "frame.parquet"
    parquet.write_table(TABLE, path)
    book = kivvet.open_book(small_book)
    of_file, of_frame = ASKED[asked](book, path), ASKED[asked](book, FRAMES[kind]())
    assert str(of_frame).replace("the frame", "x") == str(of_file).replace(str(path), "x")


def test_a_table_drafted_from_a_frame_says_so_in_words(small_book):
    drafted = kivvet.open_book(small_book).draft("new", TABLE.to_pandas(), column="ph", results="low,high")
    assert "from 3 values of ph in a frame on" in str(drafted.table)
    assert kivvet.open_book(small_book).shares("new", "samples", column="ph").to_frame() is not None
    added = kivvet.open_book(small_book).extend("station", pd.DataFrame({"station": ["007", "555"]}))
    assert added.n_added == 1 and "555" in (small_book / "tables/station.csv").read_text()


@pytest.mark.parametrize(
    ("given", "told"),
    [
        ([1, 2], "a list is given"),
        ({"ph": [1]}, "a dict is given"),
        (pd.Series([1], name="ph"), "no frame"),
        (7, "an int is given"),
        (pd.DataFrame([[1, 2]], columns=["a", "a"]), "two columns are named 'a'"),
        (pd.DataFrame({"a": [1, "x"]}), "cannot be read"),
    ],
)
def test_what_is_no_frame_is_said(given, told, small_book):
    with pytest.raises(kivvet.DataError, match=told):
        kivvet.open_book(small_book).look(given)
    with pytest.raises(kivvet.DataError, match="read_as is for files of text"):
        kivvet.open_book(small_book).look(TABLE, read_as="decimal = ','")
