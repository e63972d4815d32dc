"""A Parquet target holds what was written, however its rows came, in groups that say of themselves what Arrow's own would; and lets go of its file
whatever happens.
"""

from __future__ import annotations

import datetime as dt

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kivvet.io import parquet_encoding, parquet_target
from kivvet.io.parquet_assembly import extend
from kivvet.io.parquet_files import kept_records
from kivvet.io.parquet_target import ParquetTarget
from kivvet.io.source_and_target import AS_IT_IS_NAMED

SCHEMA = pa.schema(
    [
        pa.field("id", pa.int64()),
        pa.field("ph", pa.float64()),
        pa.field("river", pa.string(), metadata={b"class_order": b'["Ash", "Elm"]'}),
        pa.field("band", pa.dictionary(pa.int8(), pa.string())),
        pa.field("day", pa.date32()),
        pa.field("tags", pa.list_(pa.string())),
        pa.field("is_odd", pa.bool_()),
    ],
    metadata={b"made": b"up"},
)
rows = st.fixed_dictionaries(
    {
        "id": st.integers(-9, 9),
        "ph": st.none() | st.sampled_from([0.5, -0.0, 7.25]),
        "river": st.none() | st.sampled_from(["Ash", "Elm", ""]),
        "band": st.none() | st.sampled_from(["low", "high"]),
        "day": st.none() | st.sampled_from([dt.date(2026, 4, 1), dt.date(1, 1, 1)]),
        "tags": st.none() | st.lists(st.sampled_from(["a", "b"]), max_size=2),
        "is_odd": st.none() | st.booleans(),
    }
)


def written(target, table, sizes, n_before=0):
    """Write a table in batches of these sizes, over and over, below rows that stand."""
    at = turn = 0
    while at < len(table):
        part = table.slice(at, sizes[turn % len(sizes)])
        target.write([one.combine_chunks() for one in part.columns])
        at, turn = at + len(part), turn + 1
    target.commit(lambda found: {"target_hash": found, "rows": n_before + len(table)})


@given(
    held=st.lists(rows, max_size=12),
    came=st.lists(rows, max_size=6),
    sizes=st.lists(st.integers(1, 5), min_size=1, max_size=3),
    n_threads=st.sampled_from([1, 3]),
)
def test_what_was_written_is_read_however_it_came_and_grew(tmp_path_factory, held, came, sizes, n_threads):
    folder = tmp_path_factory.mktemp("made")
    first, rest = (pa.Table.from_pylist(some, SCHEMA) for some in (held, came))
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(parquet_target, "_ROWS_A_GROUP", 4)
        patch.setattr(parquet_encoding, "THREADS", n_threads)
        written(ParquetTarget(folder / "a.parquet", folder / "a.parquet", SCHEMA), first, sizes)
        grown = extend(folder / "b.parquet", folder / "a.parquet", SCHEMA, AS_IT_IS_NAMED)
        assert (grown is None) == (len(first) == 0)  # a file without rows is written anew
        if grown is not None:
            written(grown, rest, sizes, len(first))
    both = pa.concat_tables([first, rest])
    for name, table in [("a.parquet", first), ("b.parquet", both)][: 1 if grown is None else 2]:
        read = pq.read_table(folder / name)
        assert read.to_pylist() == table.to_pylist()
        assert read.schema.field("river").metadata[b"class_order"] == b'["Ash", "Elm"]'
        assert read.schema.types == SCHEMA.types and read.schema.metadata[b"made"] == b"up"
        kept = kept_records(folder / name)
        (record,) = kept.values
        assert record["rows"] == len(table) and record["target_hash"] == kept.content_hash
        said = pq.ParquetFile(folder / name).metadata
        at = 0
        for group in (said.row_group(number) for number in range(said.num_row_groups)):
            ids = [one["id"] for one in table.slice(at, group.num_rows).to_pylist()]
            column = group.column(0)
            assert (column.statistics.min, column.statistics.max) == (min(ids), max(ids))
            assert group.total_byte_size == sum(
                group.column(n).total_uncompressed_size for n in range(said.num_columns)
            )
            at += group.num_rows
        assert at == said.num_rows == len(table)


@pytest.mark.parametrize("when", ["encoding", "writing"])
def test_a_fault_on_the_way_is_raised_and_the_file_let_go_of(tmp_path, monkeypatch, when):
    table = pa.Table.from_pylist([{"id": n} for n in range(9)], SCHEMA)
    monkeypatch.setattr(parquet_target, "_ROWS_A_GROUP", 2)
    made = ParquetTarget(tmp_path / "a.parquet", tmp_path / "a.parquet", SCHEMA)

    def fails(*_, **__):
        raise OSError(28, "No space left on device")

    if when == "encoding":
        monkeypatch.setattr(parquet_encoding, "encoded_group", fails)
    else:
        monkeypatch.setattr(made.file, "write", fails)
    with pytest.raises(OSError, match="No space"):
        written(made, table, [2])
    made.abandon()
    assert made.file.closed
