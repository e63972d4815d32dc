"""Data in parts: reports that are put together, sources that are opened once, batches without any value."""

from __future__ import annotations

import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.books.files import dataset as datasets
from kivvet.io import parquet_files
from tests.conftest import SMALL_BOOK, write_book

EVERY = kivvet.RuleTable(
    "flags",
    {"x": "integer", "s": "text"},
    {"y": "text"},
    [["x", "s", "y"], ["> 3", "", "high"], ["", "a", "named"], ["< 2", "b", "low"]],
    match="every",
)
BINS = kivvet.RuleTable(
    "bin", {"x": "integer"}, {"y": "text"}, [["0 to 3", "low"], ["> 3", "high"], ["< 0", ""]]
)
LOOKUP = kivvet.RuleTable(
    "name",
    {"s": "text", "x": {"type": "integer", "from": "since", "to": "until"}},
    {"y": "text"},
    lookup=[
        {"s": "a", "since": 0, "until": 3, "y": "p"},
        {"s": "a", "since": 5, "until": 9, "y": "q"},
        {"s": "b", "since": 0, "until": 9, "y": "p"},
    ],
)
values = st.lists(
    st.tuples(st.none() | st.integers(-2, 9), st.sampled_from([None, "a", "b", "c"])), max_size=12
)


def report_of(table, rows):
    frame = pa.table(
        {"x": pa.array([x for x, _ in rows], pa.int64()), "s": pa.array([s for _, s in rows], pa.string())}
    )
    return table.apply_with_report(frame).report


@pytest.mark.parametrize("table", [EVERY, BINS, LOOKUP], ids=lambda table: table.name)
@settings(deadline=None, max_examples=40)
@given(first=values, later=values)
def test_reports_on_two_parts_are_together_the_report_on_the_whole(table, first, later):
    whole = report_of(table, [*first, *later])
    merged = report_of(table, first).merged(report_of(table, later))
    assert {**merged.as_dict(), "tables": []} == {**whole.as_dict(), "tables": []}
    (one,), (two,) = merged.tables, whole.tables
    assert {name: dict(counted) for name, counted in one.classes.items()} == {
        name: dict(counted) for name, counted in two.classes.items()
    }
    plain = [{**report.as_dict(), "classes": None} for report in (one, two)]
    assert plain[0] == plain[1] and one.rows_by_row == two.rows_by_row
    assert dict(one.first_rows) == dict(two.first_rows)


def test_formulas_of_two_parts_add_up_too():
    def report(values):
        book = {"x": values}
        return _formula_report(pd.DataFrame(book))

    whole = report([1.0, 0.0, None, 4.0, 0.0])
    merged = report([1.0, 0.0]).merged(report([None, 4.0, 0.0]))
    assert merged == whole
    assert merged.formulas[0].made_missing == {"division by zero": (2, 2)}


def _formula_report(frame):
    from kivvet.core.formulas.formula import Formula
    from kivvet.core.formulas.parser import parse_formula
    from kivvet.core.run.entries import Entry
    from kivvet.core.run.frames import apply_entries

    formula = Formula("f", "1 / x", parse_formula("1 / x"))
    return apply_entries(frame, [Entry("f")], {}, formulas={"f": formula}).report


@pytest.fixture
def opened(monkeypatch):
    """The sources that are opened, by name, in order."""
    names = []
    real = datasets.open_location

    def counting(path, options=None):
        names.append(path.name)
        return real(path, options)

    monkeypatch.setattr(datasets, "open_location", counting)
    return names


def test_a_book_opens_each_source_once_for_all_that_a_command_asks(tmp_path, run, opened):
    book = SMALL_BOOK["book.toml"]
    section = book[book.index("[datasets.samples]") :]
    book += section.replace("samples", "b") + section.replace("samples", "c")
    files = {f"data/{name}.csv": SMALL_BOOK["data/samples.csv"] for name in ("b", "c")}
    folder = write_book(tmp_path, {"book.toml": book, **files})
    for command in ("check", "apply", "status", "refresh", "unmatched"):
        opened.clear()
        assert run(command, cwd=folder).code == 0
        assert sorted(opened) == ["b.csv", "c.csv", "samples.csv"], command


def test_a_source_that_changed_is_opened_again(tmp_path, opened):
    folder = write_book(tmp_path)
    book = kivvet.open_book(folder)
    book.apply_dataset("samples")
    samples = folder / "data" / "samples.csv"
    samples.write_text(samples.read_text().replace("remark", "note"))
    assert book.status()[0].state == "stale"
    book.apply_dataset("samples")
    assert opened == ["samples.csv"] * 2
    assert "note" in (folder / "out" / "samples.csv").read_text().split("\n")[0]


def test_batches_with_nothing_but_missing_values_are_of_the_type_of_the_others(tmp_path, monkeypatch):
    monkeypatch.setattr(parquet_files, "_ROWS_A_BATCH", 4)
    frame = pa.table({"x": pa.array([None] * 4 + [1.5, 2.5, None, 4.0]), "s": ["a"] * 4 + [None] * 4})
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "data/d.parquet"\ntarget = "out/d.parquet"\n'
            'columns = ["half", "named", "least", "size"]\n',
            "formulas.toml": 'half = "x / 2"\nnamed = "UPPER(s) || \'!\'"\nleast = "MIN(x) OVER (ORDER BY x)"\n',
            "tables/size.toml": 'inputs.half = "number"\noutputs.size = "text"\nmatch = "first"\n'
            'rows = [["< 1", "small"], ["present", "large"]]\n',
        },
    )
    (folder / "data").mkdir(exist_ok=True)
    pq.write_table(frame, folder / "data" / "d.parquet", row_group_size=4)
    report = kivvet.open_book(folder).apply_dataset("d")
    made = pq.read_table(folder / "out" / "d.parquet").to_pydict()
    assert made["half"] == [None] * 4 + [0.75, 1.25, None, 2.0]
    assert made["named"] == ["A!"] * 4 + [None] * 4
    assert made["least"] == [1.5] * 8
    assert made["size"] == [None] * 4 + ["small", "large", None, "large"]
    assert [one.type for one in report.formulas] == ["number", "text", "number"]


def test_a_formula_whose_types_do_not_fit_is_one_fault_and_the_rest_is_checked(tmp_path, run):
    folder = write_book(
        tmp_path,
        {
            "book.toml": SMALL_BOOK["book.toml"].replace(
                'columns = ["ph_class"', 'columns = ["ph_class", "f", "g"'
            ),
            "formulas.toml": 'f = "UPPER(ph)"\ng = "f || \'b\'"\n',
        },
    )
    checked, applied, state = (run(command, cwd=folder) for command in ("check", "apply", "status"))
    for said in (checked.out, applied.err, state.out):
        assert said.count("ph is number, and a text is expected") == 1
    assert "missing-input" in checked.out and "4 rows of samples read" in checked.out
    assert (checked.code, applied.code) == (1, 1) and not (folder / "out").exists()
