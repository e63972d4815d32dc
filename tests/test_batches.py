"""Streams of Arrow with new columns: the same values as a frame gets, whatever the batches, and no more held than is needed."""

from __future__ import annotations

import pandas as pd
import pyarrow as pa
import pyarrow.dataset as ds
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from tests.conftest import budget

COLUMNS = ["ph_class", "nitrate_band", "load", "load_decile", "load_share", "method", "station"]


@pytest.fixture(scope="module")
def samples(river):
    """The samples of the survey as a table, with the columns that a frame gets."""
    book = kivvet.open_book(river)
    read = pd.read_csv(river / "data/samples.csv", dtype={"station": str})
    table = pa.Table.from_pandas(read, preserve_index=False)
    return book, table, book.apply(table, COLUMNS)


def same(made, wanted):
    assert made.column_names == wanted.column_names
    for name in wanted.column_names:
        assert made[name].to_pylist() == wanted[name].to_pylist(), name


@settings(max_examples=budget(15), deadline=None)
@given(sizes=st.lists(st.integers(0, 900), max_size=12))
def test_batches_of_any_size_get_what_a_frame_gets(samples, sizes):
    book, table, wanted = samples
    parts, at = [], 0
    for size in [*sizes, table.num_rows]:
        parts += table.slice(at, size).to_batches()
        at = min(at + size, table.num_rows)
    source = pa.Table.from_batches(parts, table.schema)
    same(book.apply_batches(source, COLUMNS).read_all(), wanted)


KINDS = {
    "a dataset": lambda table, folder: ds.dataset(folder / "part.parquet"),
    "a scanner": lambda table, folder: ds.dataset(folder / "part.parquet").scanner(batch_size=100),
    "a table": lambda table, folder: table,
    "a frame of pandas": lambda table, folder: table.to_pandas(),
    "codes": lambda table, folder: ds.dataset(folder / "codes.parquet"),
}


@pytest.mark.parametrize("kind", KINDS)
def test_every_kind_of_source_that_can_be_read_again_gets_the_same(samples, tmp_path, kind):
    book, table, wanted = samples
    pq.write_table(table, tmp_path / "part.parquet", row_group_size=700)
    codes = table.set_column(2, table.column_names[2], table[2].dictionary_encode())
    pq.write_table(codes, tmp_path / "codes.parquet", row_group_size=700)
    made = book.apply_batches(KINDS[kind](table, tmp_path), COLUMNS).read_all()
    for name in COLUMNS:
        if name in made.column_names:
            assert made[name].to_pylist() == wanted[name].to_pylist(), name
    assert made.schema.field("ph_class").type == pa.dictionary(pa.int32(), pa.string(), ordered=True)


class Cursor:
    """What gives an Arrow stream once, as a cursor of a database does."""

    def __init__(self, table):
        self.reader = table.to_reader(max_chunksize=250)

    def __arrow_c_stream__(self, requested_schema=None):
        return self.reader.__arrow_c_stream__(requested_schema)


@pytest.mark.parametrize("make", [Cursor, lambda table: table.to_reader(max_chunksize=250)])
def test_a_stream_that_is_read_once_takes_what_looks_at_single_rows(samples, make):
    book, table, wanted = samples
    single = ["ph_class", "nitrate_band", "load"]
    read = 0
    made = book.apply_batches(make(table), single, where="ph_class = 'acidic'")
    for batch in made:
        read += batch.num_rows
    assert read == wanted["ph_class"].to_pylist().count("acidic")
    with pytest.raises(
        kivvet.DataError, match="load_decile, load_share look at other rows, and this stream is read once"
    ):
        book.apply_batches(make(table), COLUMNS)


def test_nothing_is_read_before_it_is_asked_for(samples):
    book, table, _ = samples
    taken = []

    def rows():
        for batch in table.to_batches(max_chunksize=100):
            taken.append(batch.num_rows)
            yield batch

    made = book.apply_batches(pa.RecordBatchReader.from_batches(table.schema, rows()), ["ph_class"])
    assert not taken
    made.read_next_batch()
    assert sum(taken) == 100


@pytest.mark.parametrize(
    ("source", "message"),
    [
        ([1, 2], "a list is no stream"),
        ("samples.csv", "a str is no stream"),
        (pa.chunked_array([[1]]), "the stream cannot be read"),
        (pa.table([[1], [2]], names=["a", "a"]), "two columns are named 'a'"),
    ],
)
def test_what_is_no_stream_of_rows_is_told(samples, source, message):
    book, _, _ = samples
    with pytest.raises(kivvet.DataError, match=message):
        book.apply_batches(source, ["ph_class"])


def test_empty_streams_have_their_columns(samples):
    book, table, wanted = samples
    made = book.apply_batches(table.slice(0, 0), COLUMNS).read_all()
    assert made.num_rows == 0
    assert made.column_names == wanted.column_names
