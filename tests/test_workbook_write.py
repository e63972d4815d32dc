"""Results as workbooks: what is written is read again as it was, by us and by others; the same bytes each time; what a sheet
cannot hold is refused and nothing is changed.
"""

import datetime as dt
import decimal
import zipfile

import openpyxl
import pyarrow as pa
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.words.errors import OutputError
from kivvet.io.source_and_target import ReadOptions
from kivvet.io.workbook_source import WorkbookSource
from kivvet.io.workbook_target import ROWS_SHEET, WorkbookTarget
from tests.conftest import budget, write_book

TEXTS = st.text(
    st.characters(codec="utf-8", exclude_categories=("Cs",), exclude_characters="\ufffe\uffff"), max_size=8
) | st.sampled_from(["=1+1", "+x", "-", "@a", " a ", "a\nb", "_x0041_", "<&>\"'", "\x07", "007", "1e5"])
COLUMNS = {
    "text": (pa.string(), TEXTS.filter(bool)),
    "class": (
        pa.dictionary(pa.int32(), pa.string(), ordered=True),
        st.sampled_from(["low", "=high", "<mid>"]),
    ),
    "whole": (pa.int64(), st.integers(-(2**53), 2**53)),
    "number": (pa.float64(), st.floats(allow_nan=False, allow_infinity=False)),
    "day": (pa.date32(), st.dates(dt.date(1900, 3, 1), dt.date(9999, 12, 31))),
    "time": (
        pa.timestamp("us"),
        st.datetimes(dt.datetime(1900, 3, 1), dt.datetime(2200, 1, 1)).map(
            lambda one: one.replace(microsecond=0)
        ),
    ),
    "flag": (pa.bool_(), st.booleans()),
}


def written(path, batches):
    target = WorkbookTarget(path, path, batches[0].schema)
    for batch in batches:
        target.write(batch.columns)
    target.commit(lambda _: {})
    return path


@st.composite
def frames(draw):
    names = draw(st.lists(st.sampled_from(sorted(COLUMNS)), min_size=1, max_size=5, unique=True))
    n_rows = draw(st.integers(1, 6))
    columns = {
        name: draw(st.lists(st.none() | COLUMNS[name][1], min_size=n_rows, max_size=n_rows)) for name in names
    }
    return pa.table({name: pa.array(columns[name], COLUMNS[name][0]) for name in names})


def plain_lines(value):
    """Return a text with the ends of lines that a sheet has."""
    return value.replace("\r\n", "\n").replace("\r", "\n") if isinstance(value, str) else value


def near(one, other):
    """Return whether a value came back: times to the millisecond, as sheets count them."""
    if isinstance(one, dt.datetime) and isinstance(other, dt.datetime):
        return abs(one - other) < dt.timedelta(milliseconds=2)
    return one == other or (isinstance(one, float) and repr(one) == repr(float(other)))


@settings(max_examples=budget(44), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(table=frames())
def test_what_is_written_is_read_again(tmp_path, table):
    path = written(tmp_path / "out.xlsx", table.to_batches())
    source = WorkbookSource(path, ReadOptions(sheet=(ROWS_SHEET,)))
    expected = [row for row in table.to_pylist() if any(value is not None for value in row.values())]
    rows = [row for batch in source.batches() for row in batch.to_pylist()]
    assert len(rows) == len(expected)
    sheet = openpyxl.load_workbook(path)[ROWS_SHEET]
    others = [[cell.value for cell in row] for row in sheet.iter_rows(min_row=2)]
    assert len(others) >= len(expected)
    for before, after in zip(expected, rows, strict=True):
        for name, value in before.items():
            got = after[name]
            if (
                isinstance(got, dt.date)
                and isinstance(value, dt.datetime)
                and not isinstance(got, dt.datetime)
            ):
                got = dt.datetime(got.year, got.month, got.day)
            assert near(plain_lines(value), plain_lines(got)), (name, value, got)
    for cells in sheet.iter_rows(min_row=2):
        assert all(cell.data_type != "f" for cell in cells)


def test_the_same_rows_make_the_same_bytes(tmp_path):
    table = pa.table({"a": ["x", "=y", None], "n": [1, None, 3]})
    one, two = (written(tmp_path / f"{name}.xlsx", table.to_batches()).read_bytes() for name in "ab")
    assert one == two


def test_heading_widths_filter_formats_and_texts_like_formulas(tmp_path):
    table = pa.table({"a name": ["=1+1", "x" * 30], "day": [dt.date(2024, 1, 2)] * 2})
    sheet = openpyxl.load_workbook(written(tmp_path / "w.xlsx", table.to_batches()))[ROWS_SHEET]
    assert sheet.freeze_panes == "A2"
    assert sheet.auto_filter.ref == "A1:B3"
    assert sheet.column_dimensions["A"].width > 30
    assert sheet["B2"].number_format == "yyyy-mm-dd"
    assert sheet["A2"].quotePrefix
    assert not sheet["A3"].quotePrefix
    assert sheet["A1"].font.bold


@pytest.mark.parametrize(
    ("array", "said"),
    [
        (pa.array([2**53 + 1]), "whole numbers that a sheet rounds"),
        (pa.array([float("inf")]), "an infinity, which a sheet does not have"),
        (pa.array([dt.date(1899, 1, 1)]), "days before March 1900"),
        (pa.array([dt.datetime(1850, 1, 1)]), "days before March 1900"),
        (pa.array(["x" * 40_000]), "a text of more than 32,767 characters"),
        (pa.array([decimal.Decimal("1234567890.12345678")]), "more than 15 digits"),
    ],
)
def test_what_a_sheet_cannot_hold_is_refused(tmp_path, array, said):
    with pytest.raises(OutputError, match=said):
        written(tmp_path / "no.xlsx", pa.table({"c": array}).to_batches())


BOOK = """\
[datasets.samples]
source  = "data/samples.csv"
target  = "out/samples.xlsx"
types   = { station = "text" }
columns = ["ph_class", "station"]

[summaries.by_class]
from   = "samples"
by     = ["ph_class"]
values = { n = "COUNT(*)" }
target = "out/by_class.xlsx"
"""
PH = """\
inputs.ph = { type = "number", step = 0.1 }
outputs.ph_class = { type = "text", order = ["acidic", "neutral", "alkaline", "unknown"], meaning = { acidic = "bad", neutral = "good" } }
missing = { ph_class = "unknown" }
rows = [["< 6.5", "acidic"], ["6.5 to <8.5", "neutral"], [">= 8.5", "alkaline"]]
"""


def test_a_workbook_is_a_target_as_any_other(tmp_path, run):
    folder = write_book(tmp_path / "book", {"book.toml": BOOK, "tables/ph_class.toml": PH})
    assert run("apply", cwd=folder).code == 0
    assert run("status", cwd=folder).code == 0
    before = (folder / "out/samples.xlsx").read_bytes()
    book = openpyxl.load_workbook(folder / "out/samples.xlsx")
    assert [[cell.value for cell in row] for row in book["classes"].iter_rows(min_row=2, max_row=5)] == [
        ["ph_class", place, text]
        for place, text in enumerate(["acidic", "neutral", "alkaline", "unknown"], 1)
    ]
    painted = book["rows"].conditional_formatting
    assert {rule.formula[0] for one in painted for rule in one.rules} >= {'"acidic"', '"neutral"'}
    summary = openpyxl.load_workbook(folder / "out/by_class.xlsx")["rows"]
    assert [[cell.value for cell in row] for row in summary.iter_rows(min_row=2)] == [
        ["acidic", 1], ["neutral", 1], ["alkaline", 1], ["unknown", 1],
    ]  # fmt: skip
    (folder / "tables/ph_class.toml").write_text(
        PH.replace('"alkaline", "unknown"]', '"unknown", "alkaline"]')
    )
    assert run("status", "--fail-if", "stale", cwd=folder).code == 1  # the order of its classes is another
    assert run("refresh", cwd=folder).code == 0
    assert (folder / "out/samples.xlsx").read_bytes() != before
    (folder / "tables/ph_class.toml").write_text(PH)
    assert run("refresh", cwd=folder).code == 0
    assert (folder / "out/samples.xlsx").read_bytes() == before


def test_what_something_else_changed_in_it_is_told_and_kept(tmp_path, run):
    folder = write_book(tmp_path / "book", {"book.toml": BOOK, "tables/ph_class.toml": PH})
    run("apply", cwd=folder)
    path = folder / "out/samples.xlsx"
    book = openpyxl.load_workbook(path)
    book["rows"]["E2"] = "by hand"
    book.save(path)
    ran = run("apply", "samples", cwd=folder)
    assert ran.code != 0
    assert "was changed by something else" in ran.all
    assert "ph_class" in run("status", "samples", cwd=folder).out
    assert openpyxl.load_workbook(path)["rows"]["E2"].value == "by hand"
    assert run("apply", "samples", "--replace-edited", cwd=folder).code == 0


def test_a_run_that_fails_leaves_the_target_as_it_was(tmp_path):
    folder = write_book(tmp_path / "book", {"book.toml": BOOK, "tables/ph_class.toml": PH})
    book = kivvet.open_book(folder)
    book.apply_dataset("samples")
    before = (folder / "out/samples.xlsx").read_bytes()
    (folder / "data/samples.csv").write_text(
        "id,station,ph,remark\n1,007,inf,x\n2,008,7," + "y" * 40_000 + "\n"
    )
    with pytest.raises(kivvet.KivvetError):
        kivvet.open_book(folder).apply_dataset("samples")
    assert (folder / "out/samples.xlsx").read_bytes() == before
    assert [one.name for one in (folder / "out").iterdir() if "part" in one.name] == []
    assert zipfile.is_zipfile(folder / "out/samples.xlsx")
