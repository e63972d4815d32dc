"""Columns taken over as they are encoded: a target put together of them is the one that is written whole."""

from __future__ import annotations

import os
import re

import duckdb
import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.io import parquet_assembly
from kivvet.io.parquet_assembly import EncodedColumns
from kivvet.io.parquet_files import ParquetSource
from kivvet.io.parquet_footer import footer_bytes, parsed, read_footer
from tests.conftest import SMALL_BOOK, write_book
from tests.conftest import kivvet as run

BOOK = re.sub(r"samples\.csv", "samples.parquet", SMALL_BOOK["book.toml"])
N = 2_500
CHANGES = {"book.toml": BOOK, "data/samples.csv": None}


def samples(n=N):
    rng = np.random.default_rng(4)
    return pa.table(
        {
            "id": np.arange(n),
            "station": pa.array(rng.choice(["007", "008", "9"], n)),
            "ph": pa.array(np.round(rng.normal(7, 2, n), 1), mask=rng.random(n) < 0.1),
            "at.depth": pa.array(rng.random(n)),
            "remark": pa.array([None if k % 7 else ("" if k % 2 else "x" * (k % 9)) for k in range(n)]),
            "kind": pa.array(rng.choice(["a", "b"], n)).dictionary_encode(),
            "depth": pa.array([{"top": k, "parts": [k, k + 1][: k % 3]} for k in range(n)]),
            "when": pa.array(rng.integers(0, 10**15, n))
            .cast(pa.timestamp("us"))
            .cast(pa.timestamp("us", "UTC")),
            "nothing": pa.nulls(n),
            "flag": pa.array(rng.random(n) < 0.5),
            "name": pa.array([f"name {k}" for k in range(n)], pa.large_string()),
        },
        metadata={"note": "kept"},
    )


def written(folder, table, **options):
    write_book(folder, CHANGES)
    (folder / "data").mkdir()
    pq.write_table(table, folder / "data" / "samples.parquet", **options)
    return folder


def applied(folder):
    kivvet.open_book(folder).apply_dataset("samples", replace=True)
    return pq.read_table(folder / "out" / "samples.parquet")


WRITERS = {
    "one group": {},
    "many groups": {"row_group_size": 600},
    "plain": {"use_dictionary": False, "compression": "none", "row_group_size": 999},
    "zstd, v2 pages, indexes": {
        "compression": "zstd",
        "data_page_version": "2.0",
        "write_page_index": True,
        "row_group_size": 1000,
    },
    "no statistics, no arrow schema": {"write_statistics": False, "store_schema": False},
    "small pages, delta": {
        "data_page_size": 100,
        "use_dictionary": False,
        "column_encoding": {"id": "DELTA_BINARY_PACKED", "at.depth": "BYTE_STREAM_SPLIT"},
    },
}


@pytest.mark.parametrize("options", WRITERS.values(), ids=WRITERS)
def test_a_target_with_columns_taken_over_is_the_one_written_whole(tmp_path, monkeypatch, options):
    copied = applied(written(tmp_path / "copied", samples(), **options))
    target = tmp_path / "copied" / "out" / "samples.parquet"
    source = tmp_path / "copied" / "data" / "samples.parquet"
    assert pq.ParquetFile(target).metadata.num_row_groups == pq.ParquetFile(source).metadata.num_row_groups
    monkeypatch.setattr(EncodedColumns, "of", lambda path: None)
    whole = applied(written(tmp_path / "whole", samples(), **options))
    assert copied.schema.remove_metadata().equals(whole.schema.remove_metadata())
    assert copied.combine_chunks().equals(whole.combine_chunks())
    own, theirs = [
        pq.read_metadata(tmp_path / one / "out" / "samples.parquet").metadata for one in ("copied", "whole")
    ]
    assert set(own) == set(theirs) >= {b"kivvet", b"ARROW:schema"}
    assert copied["remark"].to_pylist().count("") == 0


def test_other_programs_read_what_was_put_together(tmp_path):
    table = samples().drop_columns(["nothing"])
    made = applied(written(tmp_path, table, row_group_size=700))
    target = tmp_path / "out" / "samples.parquet"
    found = duckdb.sql(
        f"SELECT id, \"at.depth\", river FROM '{target}' WHERE id BETWEEN 690 AND 710 ORDER BY id"
    )
    assert found.fetchall() == [
        tuple(row.values()) for row in made.select(["id", "at.depth", "river"]).slice(690, 21).to_pylist()
    ]


@pytest.mark.parametrize("writer", ["polars", "duckdb"])
def test_files_of_other_writers_are_taken_over(tmp_path, writer):
    table = samples().select(["id", "station", "ph", "at.depth", "when", "flag", "name"])
    write_book(tmp_path, CHANGES)
    (tmp_path / "data").mkdir()
    path = tmp_path / "data" / "samples.parquet"
    if writer == "polars":
        pl.from_arrow(table).write_parquet(path, row_group_size=800)
    else:
        duckdb.sql(f"COPY (FROM \"table\") TO '{path}' (FORMAT parquet, ROW_GROUP_SIZE 2048)")
    assert ParquetSource(path).encoded() is not None
    made = applied(tmp_path)
    for name in table.column_names:
        assert made[name].to_pylist() == table[name].to_pylist()
    assert made["ph_class"].null_count == 0


def test_texts_that_may_be_empty_or_words_for_missing_are_not_taken_over(tmp_path):
    folder = written(tmp_path, samples())
    source = ParquetSource(folder / "data" / "samples.parquet")
    assert source.holds_no_empty_text("station") and source.holds_no_empty_text("name")
    assert not source.holds_no_empty_text("remark")
    book = folder / "book.toml"
    book.write_text(book.read_text().replace("columns =", 'missing_words = { name = ["name 3"] }\ncolumns ='))
    assert applied(folder)["name"].to_pylist()[2:5] == ["name 2", None, "name 4"]


def changed(folder, file, old, new):
    path = folder / file
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new))


EDITS = {
    "a class": ("tables/ph_class.toml", '"acidic"', '"acid"'),
    "a lookup": ("tables/station.csv", ",Elm", ",Ash Water"),
    "one more column": (
        "book.toml",
        'columns = ["ph_class"',
        'columns = [{ table = "station", keep = ["opened"] }, "ph_class"',
    ),
    "a column less": ("book.toml", '"ph_class", ', ""),
    "what missing means": ("book.toml", "columns =", 'missing_words = { station = ["9"] }\ncolumns ='),
}
PARTLY = {"a class", "a lookup", "one more column", "a column less"}


@pytest.mark.parametrize("form", ["csv", "parquet"])
@pytest.mark.parametrize("edit", EDITS)
def test_a_refresh_gives_what_an_apply_gives_and_says_what_it_kept(tmp_path, form, edit):
    folder = tmp_path / "book"
    if form == "parquet":
        written(folder, samples(), row_group_size=600)
    else:
        write_book(
            folder, {"book.toml": SMALL_BOOK["book.toml"].replace("out/samples.csv", "out/samples.parquet")}
        )
    applied(folder)
    changed(folder, *EDITS[edit])
    (done,) = kivvet.open_book(folder).refresh(["samples"])
    report = done.report
    refreshed = pq.read_table(folder / "out" / "samples.parquet")
    assert bool(report.kept) == (edit in PARTLY)
    assert {table.table for table in report.tables}.isdisjoint(
        {"ph_class"} if "ph_class" in report.kept else set()
    )
    assert [one.state for one in kivvet.open_book(folder).status()] == ["current"]
    whole = applied(folder)
    assert refreshed.schema.remove_metadata().equals(whole.schema.remove_metadata())
    assert refreshed.combine_chunks().equals(whole.combine_chunks())


def test_what_was_altered_by_another_hand_is_worked_out_anew(tmp_path):
    folder = written(tmp_path, samples(), row_group_size=600)
    before = applied(folder)
    target = folder / "out" / "samples.parquet"
    table = pq.read_table(target)
    at = table.schema.get_field_index("ph_class")
    other = table.set_column(at, "ph_class", pa.array(["x"] * len(table)))
    pq.write_table(other, target)
    changed(folder, "tables/station.csv", ",Elm", ",Ash Water")
    with pytest.raises(kivvet.OutputError, match="not written by Kivvet"):
        kivvet.open_book(folder).refresh(["samples"])
    (done,) = kivvet.open_book(folder).refresh(["samples"], replace=True)
    assert done.report.kept == ()
    assert pq.read_table(target)["ph_class"].to_pylist() == before["ph_class"].to_pylist()


@pytest.mark.parametrize("damage", ["cut", "footer", "chunk"])
def test_a_damaged_source_is_told_and_the_target_stays(tmp_path, damage):
    folder = written(tmp_path, samples(), row_group_size=600)
    applied(folder)
    target, source = folder / "out" / "samples.parquet", folder / "data" / "samples.parquet"
    kept, content = target.read_bytes(), bytearray(source.read_bytes())
    if damage == "cut":
        content = content[: len(content) // 2] + content[-8:]
    elif damage == "footer":
        content[-200:-100] = os.urandom(100)
    else:  # the place of a chunk lies beyond the file
        footer = read_footer(source)
        meta = footer[4][1].values[0][1][1].values[0][3][1]
        meta[7] = (meta[7][0], 10**9)
        length = int.from_bytes(content[-8:-4], "little")
        content = content[: -8 - length] + footer_bytes(footer)
    source.write_bytes(content)
    ran = run("apply", cwd=folder)
    assert ran.code in (1, 2)
    assert "samples.parquet" in ran.err + ran.out
    assert target.read_bytes() == kept


whole_numbers = st.integers(-(2**63), 2**63 - 1)
values = st.deferred(
    lambda: st.one_of(
        st.tuples(st.just(1), st.just(True)),
        st.tuples(st.just(2), st.just(False)),
        st.tuples(st.just(3), st.integers(0, 255)),
        st.tuples(st.sampled_from([4, 5, 6]), whole_numbers),
        st.tuples(st.just(7), st.floats(allow_nan=False)),
        st.tuples(st.just(8), st.binary(max_size=20)),
        st.tuples(st.just(12), fields),
    )
)
fields = st.dictionaries(st.integers(1, 200), values, max_size=5)


@settings(deadline=None)
@given(fields)
def test_a_footer_reads_as_it_was_written(made):
    content = footer_bytes(made)
    assert parsed(content[:-8]) == made


@settings(deadline=None)
@given(st.binary(max_size=60))
def test_any_bytes_are_a_structure_or_none(content):
    found = parsed(content)
    assert found is None or isinstance(found, dict)


def test_row_groups_too_large_or_too_many_are_written_anew(tmp_path, monkeypatch):
    folder = written(tmp_path, samples(), row_group_size=600)
    monkeypatch.setattr(parquet_assembly, "_MOST_ROWS_A_GROUP", 500)
    assert ParquetSource(folder / "data" / "samples.parquet").encoded() is None
    assert applied(folder).num_rows == N
