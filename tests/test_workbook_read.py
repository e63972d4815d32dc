"""Sheets as they are: types as the cells have them, traps told, and where the table lies recognised; whoever wrote the file."""

import datetime as dt

import pandas as pd
import pytest
import xlsxwriter
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.words.errors import DataError
from kivvet.io.recognise_sheet import recognise_sheet
from kivvet.io.workbook_source import WorkbookSource
from tests.conftest import budget, write_book
from tests.workbooks import (
    by_office,
    edited_parts,
    grid,
    read,
    with_odfpy,
    with_openpyxl,
    with_xlsxwriter,
)

DAY, MOMENT = dt.date(2024, 2, 29), dt.datetime(2024, 3, 1, 12, 30)
WRITERS = {"xlsxwriter.xlsx": with_xlsxwriter, "openpyxl.xlsx": with_openpyxl, "odfpy.ods": with_odfpy}
PLAIN = [
    ["site", "n", "flow", "day", "when", "open"],
    ["007", 1, 1.5, DAY, MOMENT, True],
    ["012", 2, None, DAY, MOMENT, False],
]
TYPES = ["string", "int64", "double", "date32[day]", "timestamp[us]", "bool"]


@pytest.fixture(params=WRITERS)
def writer(request, tmp_path):
    return lambda sheets: WRITERS[request.param](tmp_path / request.param, sheets)


def test_types_are_those_of_the_cells(writer):
    source, rows = read(writer({"S": grid(1, 1, PLAIN)}))
    assert list(map(str, source.schema.values())) == TYPES
    assert rows == [dict(zip(PLAIN[0], values, strict=True)) for values in PLAIN[1:]]
    assert not source.notes


@pytest.mark.parametrize("ending", ["ods", "xls", "xlsx"])
def test_what_an_office_program_saves_is_read_alike(tmp_path, ending):
    path = by_office(with_xlsxwriter(tmp_path / "plain.xlsx", {"S": grid(3, 2, PLAIN)}), ending)
    source, rows = read(path)
    booleans = {"ods": (1, 0)}.get(ending, (True, False))  # the program itself makes numbers of them there
    expected = [dict(zip(PLAIN[0], values, strict=True)) for values in PLAIN[1:]]
    assert rows == [{**row, "open": flag} for row, flag in zip(expected, booleans, strict=True)]
    assert str(source.place_of_row(2)).endswith(f"plain.{ending}:S:5")


CELL = st.one_of(
    st.none(),
    st.sampled_from(["a", "007", "n/a", "-", " x ", "=1+1", "1,5"]),
    st.integers(-5, 2000),
    st.sampled_from([0.1, 2.5, -1e-7, 123456.789]),
    st.dates(dt.date(1901, 1, 1), dt.date(2090, 1, 1)),
    st.booleans(),
)
COLUMN_KINDS = (
    st.sampled_from(["a", "007", "12", "n/a"]),
    st.integers(-(10**6), 10**6),
    st.floats(-1e6, 1e6, allow_nan=False).map(lambda number: round(number, 3)),
    st.dates(dt.date(1901, 1, 1), dt.date(2090, 1, 1)),
    st.booleans(),
    CELL,
)


@st.composite
def tables(draw):
    """Return a table whose columns are mostly of one kind, and where it lies."""
    kinds = draw(st.lists(st.sampled_from(COLUMN_KINDS), min_size=1, max_size=5))
    n_rows = draw(st.integers(1, 6))
    columns = [draw(st.lists(st.one_of(st.none(), kind), min_size=n_rows, max_size=n_rows)) for kind in kinds]
    return [[f"c{at}" for at in range(len(kinds))], *map(list, zip(*columns, strict=True))]


def plain_text(value):
    """Return a value of a mixed column as it is written, worked out apart from the code."""
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, float):
        return str(int(value)) if value == int(value) else repr(value)
    return str(value)


def expected_of(rows):
    """Return by column what a reader of types has to give, cell by cell."""
    heads, *body = [row for row in rows if any(value is not None for value in row)]
    made = {}
    for at, head in enumerate(heads):
        values = [row[at] for row in body]
        kinds = {
            "text" if isinstance(one, str) else "flag" if isinstance(one, bool) else "day" if isinstance(one, dt.date) else "number"
            for one in values
            if one is not None
        }  # fmt: skip
        made[head] = values if len(kinds) < 2 else [plain_text(one) for one in values]
    return made


@settings(max_examples=budget(60), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(rows=tables(), top=st.integers(1, 4), left=st.integers(1, 4), writer=st.sampled_from(sorted(WRITERS)))
def test_every_cell_is_read_whoever_wrote_it_wherever_it_stands(tmp_path, rows, top, left, writer):
    path = WRITERS[writer](tmp_path / writer, {"S": grid(top, left, rows)})
    source, _ = read(path)
    expected = expected_of(rows)
    got = {name: [] for name in source.names}
    for batch in source.batches():
        for name in got:
            got[name] += batch.column(name).to_pylist()
    assert got == expected
    mixed = [
        name
        for name, values in expected.items()
        if values != [row[int(name[1:])] for row in rows[1:] if any(v is not None for v in row)]
    ]
    assert {note.message.split("'")[1] for note in source.notes if note.kind == "mixed-cells"} == set(mixed)


# Where the table lies.

ROWS = [["site", "river", "flow"], *[[f"S{n}", "Elm" if n % 2 else "Mire", n * 1.5] for n in range(8)]]


@settings(max_examples=budget(40), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    top=st.integers(1, 5),
    left=st.integers(1, 3),
    titles=st.integers(0, 2),
    gap=st.booleans(),
    total=st.booleans(),
    units=st.booleans(),
    aside=st.booleans(),
    others=st.integers(0, 2),
)
def test_a_table_is_found_among_what_stands_around_it(
    tmp_path, top, left, titles, gap, total, units, aside, others
):
    cells = {f"A{row}": f"Title {row}" for row in range(1, titles + 1)}
    begin = top + titles
    body = [ROWS[0], *([["", "", "m3/s"]] if units else []), *ROWS[1:]]
    if gap:
        body = [*body[:5], [None] * 3, *body[5:]]
    if total:
        body = [*body, ["Total", None, 42.0]]
    body = [[value or None if isinstance(value, str) else value for value in row] for row in body]
    cells |= grid(begin, left, body)
    if aside:
        cells |= grid(begin, left + 5, [["limit", "value"], ["a", 1], ["b", 2], ["c", 3]])
    sheets = {f"Notes {n}": {"A1": "see the field book"} for n in range(others)} | {"Data": cells}
    path = with_xlsxwriter(tmp_path / "found.xlsx", sheets)
    options = recognise_sheet(path).options
    source = WorkbookSource(path, options)
    rows = [list(row.values()) for batch in source.batches() for row in batch.to_pylist()]
    assert source.names == ROWS[0]
    assert rows == ROWS[1:]
    assert options.sheet == (("Data",) if others else ())


def test_headings_in_two_rows_are_put_together(tmp_path):
    path = tmp_path / "two.xlsx"
    book = xlsxwriter.Workbook(path)
    sheet = book.add_worksheet()
    sheet.merge_range("B1:C1", "2023")
    sheet.merge_range("D1:E1", "2024")
    for column, text in enumerate(["", "n", "share", "n", "share"]):
        sheet.write(1, column, text)
    sheet.write("A1", "site")
    for row in range(2, 8):
        sheet.write_row(row, 0, [f"S{row}", row, row / 10, row + 1, row / 20])
    book.close()
    found = recognise_sheet(path)
    assert found.options.headings == ("site", "2023 n", "2023 share", "2024 n", "2024 share")
    assert "put together" in found.remarks[0]
    assert read(path, **found.options.said())[1][0]["2024 n"] == 3


# Which part is read.

SHEETS = {
    "2023": grid(1, 1, [["site", "n"], ["a", 1]]),
    "2024": grid(1, 1, [["site", "n", "more"], ["b", 2.5, "x"]]),
    "Notes": {"A1": "n"},
}


def test_sheets_are_chosen_by_name_pattern_or_list(tmp_path):
    path = with_xlsxwriter(tmp_path / "years.xlsx", SHEETS)
    source, rows = read(path, sheet=("20*",), sheet_column="year")
    assert rows == [
        {"site": "a", "n": 1.0, "more": None, "year": "2023"},
        {"site": "b", "n": 2.5, "more": "x", "year": "2024"},
    ]
    assert [str(source.place_of_row(row)).rpartition("/")[2] for row in (1, 2)] == [
        "years.xlsx:2023:2",
        "years.xlsx:2024:2",
    ]
    assert any("sheet '2023' has no column more" in note.message for note in source.notes)
    assert read(path, sheet=("2024",))[1] == [{"site": "b", "n": 2.5, "more": "x"}]


@pytest.mark.parametrize(
    ("options", "said"),
    [
        ({}, r"has 3 sheets, and it is not said which is read"),
        (
            {"sheet": ("2025",)},
            r"has no sheet '2025'[\s\S]*one of: '2023', '2024', 'Notes'[\s\S]*did you mean",
        ),
        ({"sheet": ("2023",), "cells": "'2024'!A1:B2"}, r"is on sheet '2024', and sheet names '2023'"),
        ({"sheet": ("2023",), "cells": "A1:B"}, r"'A1:B' is no range of cells"),
        ({"sheet": ("2023",), "cells": "F20:G30"}, r"the cells F20:G30 hold nothing"),
        ({"sheet": ("2023",), "headings_on_line": 9}, r"row 9 holds no headings[\s\S]*is row 1"),
        ({"sheet": ("2023",), "headings": ("a",)}, r"has 2 columns, and 1 heading is given"),
        ({"sheet": ("20*",), "sheet_column": "site"}, r"a column is named 'site' already"),
        ({"sheet": ("2023",), "leave_out": "sight = 'a'"}, r"leave_out names column 'sight'"),
    ],
)
def test_what_is_not_there_is_said_with_what_is(tmp_path, options, said):
    path = with_xlsxwriter(tmp_path / "years.xlsx", SHEETS)
    with pytest.raises(DataError, match=said):
        read(path, **options)


def test_ranges_of_cells_columns_and_names(tmp_path):
    path = tmp_path / "ranges.xlsx"
    book = xlsxwriter.Workbook(path)
    sheet = book.add_worksheet("A b")
    for cell, value in {
        **grid(2, 2, [["x", "y"], [1, 2], [3, 4]]),
        **grid(2, 6, [["z"], [9]]),
        "B9": 7,
        "C9": 8,
    }.items():
        sheet.write(cell, value)
    book.define_name("Block", "='A b'!$B$2:$C$4")
    book.close()
    block = [{"x": 1, "y": 2}, {"x": 3, "y": 4}]
    assert read(path, cells="B2:C4")[1] == block
    assert read(path, cells="Block")[1] == block
    assert read(path, cells="$C$4:$B$2")[1] == block
    assert read(path, cells="B:C")[1] == [*block, {"x": 7, "y": 8}]
    assert read(path, cells="F2")[1] == [{"z": 9}]
    assert read(with_odfpy(tmp_path / "r.ods", {"T": grid(2, 2, [["x"], [1]])}), cells="B2:B3")[1] == [
        {"x": 1}
    ]


# Traps.


def test_what_is_hidden_merged_or_shown_otherwise_is_read_and_told(tmp_path):
    path = tmp_path / "told.xlsx"
    book = xlsxwriter.Workbook(path)
    sheet = book.add_worksheet("S")
    sheet.write_row(0, 0, ["river", "site", "share", "cost", "code"])
    sheet.merge_range("A2:A3", "Elm")
    formats = [
        None,
        None,
        *(book.add_format({"num_format": code}) for code in ("0.0%", '#,##0.00 "EUR"', "000")),
    ]
    for row in (1, 2, 3):
        for column, value in enumerate([None, f"S{row}", 0.25, 12.5, 7]):
            if value is not None:
                sheet.write(row, column, value, formats[column])
    sheet.write(3, 0, "Mire")
    sheet.set_row(2, None, None, {"hidden": True})
    sheet.set_column("D:D", None, None, {"hidden": True})
    book.add_worksheet("secret").hide()
    book.close()
    source, rows = read(path)
    assert [row["river"] for row in rows] == ["Elm", "Elm", "Mire"]
    said = "\n".join(note.message for note in source.notes)
    for part in (
        "1 row and 1 column of sheet 'S' are hidden, and read like the others",
        "merged cells are filled with the value of the first: A2:A3",
        "column 'share' (C) is shown in percent: 25 % is read as 0.25",
        "column 'cost' (D) is shown as money",
        "column 'code' (E) holds numbers that are shown with 3 digits: 007 is 7",
    ):
        assert part in said
    assert "1 sheet is hidden: 'secret'" in recognise_sheet(path).remarks[0]


def book_of(tmp_path, sheets, dataset, formats=(), tables=None):
    folder = write_book(
        tmp_path / "book",
        {"book.toml": dataset, "tables/ph_class.toml": None, "tables/station.toml": None, **(tables or {})},
    )
    with_xlsxwriter(folder / "data/in.xlsx", sheets, formats)
    return folder


def test_types_say_what_numbers_stand_for(tmp_path, run):
    rows = [["code", "day", "amount"], [7, 45000, 1], [12, 45001.25, "n/a"]]
    folder = book_of(
        tmp_path,
        {"S": grid(1, 1, rows)},
        '[datasets.d]\nsource = "data/in.xlsx"\ntarget = "out/d.csv"\nmissing_words = ["n/a"]\n'
        'types = { code = "text", day = "datetime" }\n',
        {"A": "000"},
    )
    assert run("apply", "d", cwd=folder).code == 0
    written = (folder / "out/d.csv").read_text()
    assert written == "code,day,amount\n007,2023-03-15 00:00,1\n012,2023-03-16 06:00,\n"


def test_a_number_is_no_code_and_says_why(tmp_path, run):
    table = 'inputs.code = "text"\noutputs.k = "text"\notherwise = { k = "z" }\nrows = [["007", "a"]]\n'
    folder = book_of(
        tmp_path,
        {"S": grid(1, 1, [["code"], [7]])},
        '[datasets.d]\nsource = "data/in.xlsx"\ntarget = "out/d.csv"\ncolumns = ["k"]\n',
        tables={"tables/k.toml": table},
    )
    ran = run("check", cwd=folder)
    assert ran.code == 1
    assert "error    type" in ran.out
    assert "have lost their leading zeros" in ran.out
    cured = (folder / "book.toml").read_text() + 'types = { code = "text" }\n'
    (folder / "book.toml").write_text(cured)
    assert run("check", cwd=folder).code == 0
    assert run("apply", cwd=folder).code == 0
    assert (folder / "out/d.csv").read_text() == "code,k\n7,z\n"


def with_error(path):
    return edited_parts(
        with_xlsxwriter(path, {"S": grid(1, 1, [["n", "m"], [1, 1], [2, 2]])}),
        {
            "xl/worksheets/sheet1.xml": lambda text: text.replace(
                b'<c r="B3"><v>2</v>', b'<c r="B3" t="e"><f>1/0</f><v>#DIV/0!</v>'
            )
        },
    )


def test_errors_are_texts_that_may_mean_missing(tmp_path):
    path = with_error(tmp_path / "error.xlsx")
    source, rows = read(path)
    assert rows == [{"n": 1, "m": "1"}, {"n": 2, "m": "#DIV/0!"}]
    (note,) = source.notes
    assert note.kind == "mixed-cells"
    assert "'#DIV/0!' in B3" in note.message
    folder = book_of(
        tmp_path,
        {},
        '[datasets.d]\nsource = "../error.xlsx"\ntarget = "out/d.csv"\nmissing_words = ["#DIV/0!"]\n',
    )
    kivvet.open_book(folder).apply_dataset("d")
    assert (folder / "out/d.csv").read_text() == "n,m\n1,1\n2,\n"


def test_a_formula_without_its_value_is_refused_with_its_cell(tmp_path):
    path = tmp_path / "unvalued.xlsx"
    book = xlsxwriter.Workbook(path)
    sheet = book.add_worksheet("S")
    sheet.write_row(0, 0, ["n", "m"])
    sheet.write(1, 0, 1)
    sheet.write_formula(1, 1, "=A2*2", None, "")
    book.close()
    with pytest.raises(DataError, match=r"unvalued.xlsx:S:B2: 1 cell holds a formula without its value"):
        read(path)
    assert read(path, cells="A:A")[1] == [{"n": 1}]
    assert read(by_office(path, "ods"))[1] == [{"n": 1, "m": 2}]  # which has worked it out


def test_days_are_counted_from_1904_where_the_workbook_says_so(tmp_path):
    path = tmp_path / "old.xlsx"
    book = xlsxwriter.Workbook(path, {"date_1904": True})
    sheet = book.add_worksheet("S")
    sheet.write_row(0, 0, ["day", "number"])
    sheet.write_datetime(1, 0, dt.datetime(2024, 1, 2), book.add_format({"num_format": "yyyy-mm-dd"}))
    sheet.write_number(1, 1, 43831)
    book.close()
    folder = book_of(
        tmp_path,
        {},
        '[datasets.d]\nsource = "../old.xlsx"\ntarget = "out/d.csv"\ntypes = { number = "date" }\n',
    )
    kivvet.open_book(folder).apply_dataset("d")
    assert (folder / "out/d.csv").read_text() == "day,number\n2024-01-02,2024-01-02\n"


def test_many_workbooks_are_one_dataset(tmp_path, run):
    folder = book_of(
        tmp_path,
        {},
        '[datasets.d]\nsource = "data/y*.xlsx"\nfile_column = "file"\nsheet = "S"\nsheet_column = "sheet"\ntarget = "out/d.csv"\n',
    )
    with_xlsxwriter(folder / "data/y1.xlsx", {"S": grid(1, 1, [["n"], [1]])})
    with_openpyxl(folder / "data/y2.xlsx", {"S": grid(2, 2, [["n"], [1.5]]), "T": {"A1": "x"}})
    assert run("apply", cwd=folder).code == 0
    lines = (folder / "out/d.csv").read_text().splitlines()
    assert lines == ["n,sheet,file", "1,S,data/y1.xlsx", "1.5,S,data/y2.xlsx"]
    assert run("status", cwd=folder).code == 0


# In a book: lookups, rows of conditions, drafts.


def test_a_lookup_and_rows_of_conditions_on_sheets_mean_what_text_means(tmp_path, run):
    folder = write_book(tmp_path / "book", {"tables/ph_class.toml": (
        'inputs.ph = { type = "number", step = 0.1 }\noutputs.ph_class = "text"\noutputs.half = "number"\n'
        'missing = { ph_class = "not measured" }\nrows = "ph.xlsx"\n'
    )})  # fmt: skip
    before = kivvet.open_book(write_book(tmp_path / "text")).table("station")
    toml = (folder / "tables/station.toml").read_text()
    (folder / "tables/station.toml").write_text(
        toml.replace('"station.csv"', '"station.xlsx"\nsheet = "Stations"')
    )
    rows = [
        ["keeper", "Station no.", "opened", "river"],
        ["Ida", "007", dt.date(2001, 2, 3), "Elm"],
        ["Tom", "008", None, "Ash"],
    ]
    with_xlsxwriter(folder / "tables/station.xlsx", {"Stations": grid(4, 2, rows), "More": {"A1": "x"}})
    conditions = [
        ["ph", "ph_class", "half", "note"],
        ["< 6.5", "acidic", ":=ph / 2", "n"],
        ["6.5 to <8.5", "neutral", 1.5, None],
        [">= 8.5", "alkaline", 2, None],
    ]
    with_openpyxl(folder / "tables/ph.xlsx", {"R": grid(1, 1, conditions)})
    book = kivvet.open_book(folder)
    assert book.compare("station", before).is_same
    assert book.apply(pd.DataFrame({"ph": [6.0, 7.0, 9.0]}), ["ph_class"])["half"].tolist() == [3.0, 1.5, 2.0]
    assert run("check", "--no-data", cwd=folder).code == 0
    assert run("apply", cwd=folder).code == 0
    broken = [[*row] for row in conditions]
    broken[2][0] = "6.5 too 8.5"
    with_openpyxl(folder / "tables/ph.xlsx", {"R": grid(1, 1, broken)})
    assert "tables/ph.xlsx:R:A3" in run("check", "--no-data", cwd=folder).out


def test_what_is_recognised_is_added_and_drafted(tmp_path, run):
    folder = book_of(
        tmp_path,
        {"Data": {"A1": "A title"} | grid(3, 1, [*ROWS, ["Total", None, 42.0]]), "N": {"A1": "n"}},
        "",
    )
    assert 'sheet            = "Data"' in run("look", "data/in.xlsx", cwd=folder).out
    assert run("add", "d", "data/in.xlsx", "--to", "out/d.csv", cwd=folder).code == 0
    assert run("apply", "d", cwd=folder).code == 0
    assert len((folder / "out/d.csv").read_text().splitlines()) == len(ROWS)
    assert run("draft", "place", "--on", "data/in.xlsx", "--key", "site", cwd=folder).code == 0
    table = kivvet.open_book(folder).table("place")
    assert table.n_rows == len(ROWS) - 1


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ('sheet = ""', "sheet is the name of a sheet"),
        ('sheet = ["a", 1]', "sheet is the name of a sheet"),
        ('delimiter = ";"', "delimiter is for files of text, and data/in.xlsx is none"),
        ('encoding = "cp1252"', "encoding is for files of text"),
        ("cells = 3", "cells says where the table lies"),
    ],
)
def test_options_that_do_not_fit_are_told(tmp_path, run, line, said):
    folder = book_of(
        tmp_path, {"S": {"A1": "a", "A2": 1}}, f'[datasets.d]\nsource = "data/in.xlsx"\n{line}\n'
    )
    assert said in run("check", cwd=folder).out
    folder = book_of(tmp_path, {}, '[datasets.d]\nsource = "data/samples.csv"\nsheet = "S"\n')
    assert "sheet is for workbooks, and data/samples.csv is none" in run("check", cwd=folder).out
