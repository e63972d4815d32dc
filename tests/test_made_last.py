"""Columns that look at other rows are written when all others are, so that a source is read once: the target is that of two passes."""

from __future__ import annotations

from dataclasses import replace

import duckdb
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.books.runs import run as run_module
from kivvet.books.runs.run import Run
from kivvet.io import parquet_target
from tests.conftest import budget

TABLE = """
inputs.x = "number"
outputs.size = "text"
missing.size = "none"
rows = [["< 2", "small"], [">= 2", "large"]]
"""
FORMULAS = {
    "load": "x * 2",
    "share": "load / SUM(load) OVER (PARTITION BY k)",
    "place": "RANK() OVER (ORDER BY x DESC)",
    "of_size": "COUNT(*) OVER (PARTITION BY size)",
    "place_of_share": "RANK() OVER (ORDER BY share)",
    "of_key": "FIRST_VALUE(size) OVER (PARTITION BY k ORDER BY x)",
    "number": "ROW_NUMBER() OVER ()",
    "double": "share * 2",
    "label": "k || '-' || size",
    "of_label": "COUNT(*) OVER (PARTITION BY label)",
}
columns = st.lists(st.sampled_from(["size", *FORMULAS]), min_size=1, max_size=6, unique=True)
rows = st.lists(
    st.tuples(st.none() | st.integers(-2, 6), st.none() | st.sampled_from(["a", "b", "c d"])), max_size=14
)


def written(folder, data, chosen, ending, group_rows, where=""):
    (folder / "tables").mkdir(exist_ok=True)
    formulas = "".join(f'{name} = "{formula}"\n' for name, formula in FORMULAS.items())
    text = f'[datasets.d]\nsource = "d.{ending}"\ntarget = "out.parquet"\ntypes.x = "number"\ncolumns = {chosen}\n'
    text += f'where = "{where}"\n' if where else ""
    for name, content in {"book.toml": text, "formulas.toml": formulas, "tables/size.toml": TABLE}.items():
        (folder / name).write_text(content)
    table = pa.table(
        {"x": pa.array([x for x, _ in data], pa.float64()), "k": pa.array([k for _, k in data], pa.string())}
    )
    if ending == "parquet":
        pq.write_table(table, folder / "d.parquet", row_group_size=group_rows)
    else:
        lines = [f"{'' if x is None else x},{k or ''}" for x, k in data]
        (folder / "d.csv").write_text("\n".join(["x,k", *lines, ""]))
    return kivvet.open_book(folder)


@settings(max_examples=budget(80), deadline=None)
@given(
    rows, columns, st.sampled_from(["csv", "parquet"]), st.integers(1, 5), st.sampled_from(["", "", "x > 0"])
)
def test_a_target_written_in_one_pass_is_that_of_two(tmp_path_factory, data, chosen, ending, at_once, where):
    folder = tmp_path_factory.mktemp("made")
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(parquet_target, "_ROWS_A_GROUP", at_once)
        patch.setattr(run_module, "_ROWS_AT_ONCE", at_once + 1)
        book = written(folder, data, chosen, ending, at_once, where)
        reports, tables = [], []
        for made_last in (Run.made_last, ()):
            patch.setattr(Run, "made_last", made_last)
            reports.append(replace(book.apply_dataset("d"), since=None))
            tables.append(pq.read_table(folder / "out.parquet"))
            (status,) = book.status()
            assert status.state == "current"
    assert tables[0].schema.equals(tables[1].schema, check_metadata=True)
    assert tables[0].to_pylist() == tables[1].to_pylist()
    assert reports[0] == reports[1]
    (folder / "tables/size.toml").write_text(TABLE.replace("small", "tiny"))
    kivvet.open_book(folder).refresh()
    refreshed = pq.read_table(folder / "out.parquet")
    kivvet.open_book(folder).apply_dataset("d")
    assert refreshed.to_pylist() == pq.read_table(folder / "out.parquet").to_pylist()


@pytest.mark.parametrize(
    ("chosen", "where", "n_later"),
    [
        (["share"], "", 1),
        (["size", "share", "load", "place_of_share", "of_size", "number"], "", 4),
        (["of_key", "size"], "", 1),
        (["share", "double"], "", 0),
        (["share"], "x > 0", 0),
        (["size", "load"], "", 0),
    ],
)  # fmt: skip
def test_a_source_is_read_once_where_nothing_reads_what_is_made_last(
    tmp_path, monkeypatch, chosen, where, n_later
):
    book = written(tmp_path, [(1, "a"), (3, "b")] * 3, chosen, "csv", 9, where)
    passes = []
    real = Run._reader
    monkeypatch.setattr(Run, "_reader", lambda *given: (passes.append(1), real(*given))[1])
    left = []
    real_last = Run.last_batches
    monkeypatch.setattr(Run, "last_batches", lambda run: (left.append(run.made_last), real_last(run))[1])
    book.apply_dataset("d")
    looks = any("OVER" in FORMULAS.get(name, "") for name in chosen)
    assert len(passes) == 1 + (looks and not n_later)
    assert [len(set(names) & set(chosen)) for names in left] == ([n_later] if n_later else [])


def test_other_programs_read_columns_that_stand_behind_all_others(tmp_path):
    data = [(n % 5, "abc"[n % 3]) for n in range(11)]
    written(tmp_path, data, ["share", "size", "number"], "parquet", 4).apply_dataset("d")
    target = tmp_path / "out.parquet"
    made = pq.read_table(target).to_pylist()
    assert pq.read_metadata(target).num_row_groups == 3
    assert [row["number"] for row in made] == list(range(1, 12))
    assert pl.read_parquet(target).to_dicts() == made
    assert pl.scan_parquet(target).select("number", "x").collect().to_dicts() == [
        {"number": row["number"], "x": row["x"]} for row in made
    ]
    found = duckdb.sql(
        f"SELECT number, share, size FROM '{target}' WHERE number BETWEEN 3 AND 9 ORDER BY number"
    )
    assert found.fetchall() == [(row["number"], row["share"], row["size"]) for row in made[2:9]]
    assert pq.read_table(target, columns=["share"])["share"].to_pylist() == [row["share"] for row in made]
