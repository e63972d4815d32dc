"""Tables of a lake as sources and targets: a version is what a source is, rows that came are classed alone, a target is one commit."""

from __future__ import annotations

import json
from pathlib import Path

import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import kivvet
from tests.conftest import write_book

deltalake = pytest.importorskip("deltalake", reason="no deltalake here to read a lake with")

BOOK = {
    "book.toml": """
[datasets.d]
source = "data/rows.delta"
target = "out/classed.delta"
columns = ["ph_class", "double"]
""",
    "formulas.toml": 'double = "ph * 2"\n',
    "tables/ph_class.toml": """
inputs.ph = "number"
outputs.ph_class = { type = "text", order = ["acidic", "neutral", "alkaline"] }
missing = { ph_class = "neutral" }
rows = [["< 6.5", "acidic"], ["6.5 to 8.5", "neutral"], ["> 8.5", "alkaline"]]
""",
}


def rows(first, last):
    numbers = range(first, last)
    return pa.table(
        {
            "id": pa.array(numbers, pa.int64()),
            "ph": [None if n % 7 == 0 else n % 13 + 0.5 for n in numbers],
            "day": pd.to_datetime([f"2026-01-{n % 28 + 1:02}" for n in numbers]).date,
        }
    )


@pytest.fixture
def lake(tmp_path):
    folder = write_book(tmp_path / "book", BOOK)
    deltalake.write_deltalake(folder / "data/rows.delta", rows(0, 40))
    deltalake.write_deltalake(folder / "data/rows.delta", rows(40, 100), mode="append")
    return folder


def held(folder, name="out/classed.delta"):
    """What a table holds, by the order of its numbers."""
    return deltalake.DeltaTable(folder / name).to_pyarrow_table().sort_by("id")


def version(folder):
    return deltalake.DeltaTable(folder / "out/classed.delta").version()


def in_memory(folder, table):
    return kivvet.open_book(folder).apply(table, ["ph_class", "double"])


def same(made, wanted):
    assert made.column_names == wanted.column_names
    for name in made.column_names:
        assert made[name].to_pylist() == wanted[name].to_pylist(), name


def test_a_lake_gets_what_a_frame_gets_and_rows_that_came_are_classed_alone(lake, run):
    assert run("apply", "d", cwd=lake).code == 0
    same(held(lake), in_memory(lake, rows(0, 100)))
    assert "d  out/classed.delta  current" in run("status", cwd=lake).out
    first = {one["path"] for one in pa.table(deltalake.DeltaTable(lake / "out/classed.delta").get_add_actions(flatten=True)).to_pylist()}  # fmt: skip
    deltalake.write_deltalake(lake / "data/rows.delta", rows(100, 130), mode="append")
    told = run("status", cwd=lake).out
    assert "the source data/rows.delta went from version 1 to 2, 30 rows came" in told
    assert "30 rows added to 100 that stand" in run("refresh", cwd=lake).out
    same(held(lake), in_memory(lake, rows(0, 130)))
    after = {one["path"] for one in pa.table(deltalake.DeltaTable(lake / "out/classed.delta").get_add_actions(flatten=True)).to_pylist()}  # fmt: skip
    assert first < after, "files that stand stay"
    assert "current" in run("status", cwd=lake).out


def test_rows_that_went_or_changed_are_all_classed_anew(lake, run):
    run("apply", "d", cwd=lake)
    deltalake.DeltaTable(lake / "data/rows.delta").delete("id < 10")
    assert "went from version 1 to 2: 100 rows then, 90 now" in run("status", cwd=lake).out
    assert run("refresh", cwd=lake).code == 0
    same(held(lake), in_memory(lake, rows(10, 100)))


def test_versions_can_be_named(lake, run):
    run("apply", "d", cwd=lake)
    deltalake.write_deltalake(lake / "data/rows.delta", rows(100, 130), mode="append")
    run("refresh", cwd=lake)
    table = lake / "tables/ph_class.toml"
    table.write_text(table.read_text().replace("6.5", "7"))
    moved = {one: sum(6.5 <= ph < 7 for ph in rows(0, n)["ph"].to_pylist() if ph is not None) for one, n in ((0, 40), (1, 100), (2, 130))}  # fmt: skip
    assert len(set(moved.values())) == 3
    for one, n in moved.items():
        told = run("impact", "d", "--as-of", f"version {one}", "--json", cwd=lake)
        (dataset,) = json.loads(told.out)["datasets"]
        assert dataset["rows"] == (40, 100, 130)[one] and dataset["columns"][0]["changed"] == n
    told = run("apply", "d", "--as-of", "version 1", "--to", "out/then.parquet", cwd=lake)
    assert told.code == 0, told.all
    assert (
        pq.read_table(lake / "out/then.parquet")["ph_class"].to_pylist()
        == (held(lake)["ph_class"].to_pylist()[:100])
    )
    told = run("apply", "d", "--as-of", "version 0", "--to", "out/then.parquet", cwd=lake)
    assert told.code == 2 and "read version 0" in told.err and "one of: 1, 2" in told.err
    told = run("impact", "--as-of", "version 9", cwd=lake)
    assert told.code == 2 and "has no version 9" in told.err
    told = run("impact", "--as-of", "zzz", cwd=lake)
    assert told.code == 2 and "no run of d is named 'zzz'" in told.err
    first = json.loads(run("history", "d", "--json", cwd=lake).out)["runs"][0]["run"]
    assert json.loads(run("impact", "--as-of", first, "--json", cwd=lake).out)["datasets"][0]["rows"] == 100


def test_a_changed_rule_writes_one_commit_more_with_its_record(lake, run):
    run("apply", "d", cwd=lake)
    before = version(lake)
    table = lake / "tables/ph_class.toml"
    table.write_text(table.read_text().replace("6.5", "7"))
    run("refresh", cwd=lake)
    assert version(lake) == before + 1
    same(held(lake), in_memory(lake, rows(0, 100)))
    (newest, *_) = deltalake.DeltaTable(lake / "out/classed.delta").history()
    assert json.loads(newest["kivvet"])["rows"] == 100


def test_a_writer_that_was_faster_keeps_its_rows_and_is_told(lake, run, monkeypatch):
    from kivvet.io.lakes import lake_target

    run("apply", "d", cwd=lake)
    commit = lake_target.LakeTarget._commit

    def late(self, found, record):
        deltalake.write_deltalake(lake / "out/classed.delta", held(lake).slice(0, 1), mode="append")
        commit(self, found, record)

    monkeypatch.setattr(lake_target.LakeTarget, "_commit", late)
    told = run("apply", "d", cwd=lake)
    assert told.code == 2
    assert "was not written, since another writer may have been faster" in told.err
    assert held(lake).num_rows == 101, "the other's row is there, and ours are not"
    listed = {Path(one).name for one in deltalake.DeltaTable(lake / "out/classed.delta").file_uris()}
    assert {one.name for one in (lake / "out/classed.delta").glob("*.parquet")} == listed
    monkeypatch.undo()
    assert "edited" in run("status", cwd=lake).out or "changed" in run("status", cwd=lake).out


def test_what_is_not_ours_is_not_written_over(lake, run):
    deltalake.write_deltalake(lake / "out/classed.delta", pa.table({"a": [1]}))
    told = run("apply", "d", cwd=lake)
    assert told.code != 0
    assert deltalake.DeltaTable(lake / "out/classed.delta").version() == 0
    assert run("apply", "d", "--replace", cwd=lake).code == 0
    same(held(lake), in_memory(lake, rows(0, 100)))


def test_a_source_that_breaks_on_the_way_leaves_nothing(lake, run):
    (first, *_) = sorted((lake / "data/rows.delta").glob("*.parquet"))
    first.unlink()
    told = run("apply", "d", cwd=lake)
    assert told.code == 1
    assert "cannot be read; a version whose files were cleaned away is gone" in told.err
    assert not list((lake / "out").glob("**/*.parquet"))


@pytest.mark.parametrize(
    ("column", "said"),
    [
        (pa.array([1], pa.uint64()), "odd (uint64)"),
        (pa.array([1], pa.time64("us")), "odd (time64[us])"),
        (pa.array([1], pa.timestamp("ns")), "odd (timestamp[ns])"),
    ],
)
def test_types_that_a_lake_has_not_are_named_before_anything_is_written(lake, run, column, said):
    (lake / "book.toml").write_text(BOOK["book.toml"].replace("data/rows.delta", "data/odd.parquet"))
    pq.write_table(pa.table({"id": [1], "ph": [7.0], "odd": column}), lake / "data/odd.parquet")
    told = run("apply", "d", cwd=lake)
    assert told.code == 2
    assert said in told.err
    assert not (lake / "out/classed.delta").exists()


def test_names_that_differ_by_case_parted_tables_and_strange_folders_are_told(lake, run):
    (lake / "book.toml").write_text(BOOK["book.toml"].replace("data/rows.delta", "data/two.csv"))
    (lake / "data/two.csv").write_text("ph,PH_CLASS\n7,x\n")
    assert "two columns are 'ph_class' but for their case" in run("apply", "d", cwd=lake).err
    (lake / "book.toml").write_text(BOOK["book.toml"])
    deltalake.write_deltalake(lake / "out/classed.delta", rows(0, 3), partition_by=["id"])
    assert "is parted by id" in run("apply", "d", "--replace", cwd=lake).err
    assert "no such table of a lake" in run("look", "nothing.delta", cwd=lake).err
    (lake / "bent.delta/_delta_log").mkdir(parents=True)
    assert "cannot be opened" in run("look", "bent.delta", cwd=lake).err


def test_a_folder_with_a_log_is_a_lake_whatever_its_name_and_columns_are_read_alone(lake, run):
    (lake / "data/rows.delta").rename(lake / "data/plain")
    told = run("look", "data/plain", "ph", cwd=lake)
    assert "100 rows" in told.out
    made = run("draft", "warmth", "--on", "data/plain", "--column", "ph", "--bins", "3", cwd=lake)
    assert made.code == 0, made.err


def test_a_parted_lake_is_read_whatever_its_values_are(lake, run):
    """Names of folders are quoted on disk, and once more in the log."""
    parted = rows(0, 8).append_column("site", [["weir", "a b", "é/=", "50%", None, "x", "weir", "a b"]])
    (lake / "book.toml").write_text(BOOK["book.toml"].replace("data/rows.delta", "data/parted.delta"))
    deltalake.write_deltalake(lake / "data/parted.delta", parted, partition_by=["site"])
    told = run("apply", "d", cwd=lake)
    assert told.code == 0, told.err
    same(held(lake), in_memory(lake, parted))


def test_without_the_package_it_is_said_what_to_install(lake, run, monkeypatch):
    import sys

    monkeypatch.setitem(sys.modules, "deltalake", None)
    assert 'pip install "kivvet[lake]"' in run("look", "data/rows.delta", cwd=lake).err
