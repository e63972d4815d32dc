"""Rules that go out to a workbook and come back: nothing is lost on the way, what was changed there is taken over as it was
meant, and what the book changed meanwhile is kept; one file of many mappings alike.
"""

import re
import shutil
import tempfile
import tomllib
from pathlib import Path

import openpyxl
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.books.asks.rules_layout import HEADINGS_ROW, sheet_names
from kivvet.books.files.readers import read_csv_rows
from tests.conftest import budget, write_book
from tests.workbooks import by_office

TOML = """\
# Bands of x, agreed in spring.
title = "Bands"
inputs.x = {{ type = "number", step = 0.5 }}
outputs.band = {{ type = "text", order = ["low", "mid", "high"], meaning = {{ low = "bad", high = "good" }} }}
match = "first"
otherwise = {{ band = "mid" }}

rows = [
{rows}]  # end
"""
BOUNDS = ["< 1", "1 to <2", "2 to <4", ">= 4", "missing", "3", "1 to 3", "> 2"]
ROW = st.tuples(st.sampled_from(BOUNDS), st.sampled_from(["low", "mid", "high"]))


def toml_of(rows):
    return TOML.format(rows="".join(f'  ["{asked}", "{band}"],  # as {asked}\n' for asked, band in rows))


def csv_of(rows):
    return "x,note,band\n" + "".join(f'{asked},"of {asked}, once",{band}\n' for asked, band in rows)


def book_with(folder, rows, *, in_csv=False):
    files = {
        "book.toml": "",
        "tables/ph_class.toml": None,
        "tables/station.toml": None,
        "tables/station.csv": None,
    }
    if in_csv:
        toml = toml_of([]).replace("rows = [\n]  # end", 'rows = "bands.csv"')
        files |= {"tables/bands.toml": toml, "tables/bands.csv": csv_of(rows)}
    else:
        files["tables/bands.toml"] = toml_of(rows)
    return write_book(folder, files)


def texts_of(folder):
    return {path.name: path.read_text() for path in sorted((folder / "tables").iterdir())}


def rows_in(folder):
    """Return the rows of the table as the file has them, read apart from what writes them."""
    path = folder / "tables/bands.csv"
    if path.is_file():
        return [(row[0], row[2]) for row in read_csv_rows(path)[0].records[1:]]
    return [tuple(row) for row in tomllib.loads((folder / "tables/bands.toml").read_text())["rows"]]


def edited(path, change):
    """Change a workbook as somebody would, and save it."""
    book = openpyxl.load_workbook(path)
    change(book)
    book.save(path)
    return path


def taken(folder, path, **options):
    return kivvet.open_book(folder).import_rules(path, data=False, **options)


def test_every_table_of_the_survey_comes_back_as_it_went(river, tmp_path):
    folder = tmp_path / "river"
    shutil.copytree(river, folder)
    before = texts_of(folder)
    book = kivvet.open_book(folder)
    path = book.export().save(tmp_path / "rules.xlsx")
    assert all(one.state == "unchanged" for one in book.import_rules(path).tables)
    resaved = edited(path, lambda _: None)
    found = book.import_rules(resaved, write=True)
    assert found.is_clean
    assert not found.changed
    assert texts_of(folder) == before
    out = openpyxl.load_workbook(path)
    for table in book.export(data=False).rules.tables:
        sheet = out[sheet_names([table.name])[table.name]]
        rows = [[cell.value or "" for cell in row] for row in sheet.iter_rows(min_row=HEADINGS_ROW + 1)]
        n = len(table.headings)
        shown = [[str(cell).removeprefix(":") for cell in row[1 : n + 1]] for row in rows]
        assert shown == [[cell.removeprefix(":") for cell in record] for record in table.records]


@pytest.mark.parametrize("ending", ["ods", "xlsx"])
def test_what_an_office_program_saves_comes_back_as_it_went(river, tmp_path, ending):
    path = kivvet.open_book(river).export(data=False).save(tmp_path / "rules.xlsx")
    found = taken(river, by_office(path, ending))
    assert [one.state for one in found.tables] == ["unchanged"] * len(found.tables)
    assert not found.notes


@st.composite
def edits(draw):
    """Return rows, and what becomes of them: a list of (number before, or None for a new one; the row)."""
    rows = draw(st.lists(ROW, min_size=1, max_size=6))
    after = [(number, row) for number, row in enumerate(rows, 1)]
    for _ in range(draw(st.integers(1, 4))):
        what = draw(st.sampled_from(["change", "remove", "add", "move"]))
        at = draw(st.integers(0, len(after)))
        if what == "add" or not after:
            after.insert(at, (None, draw(ROW)))
            continue
        at = min(at, len(after) - 1)
        if what == "change":
            after[at] = (after[at][0], draw(ROW))
        elif what == "move":
            after.insert(draw(st.integers(0, len(after) - 1)), after.pop(at))
        elif len(after) > 1:
            after.pop(at)
    return rows, after


def put(book, rows, after, *, in_csv):
    """Write rows into the sheet of the table, from the headings on, as a person would who moves and deletes them."""
    sheet = book["bands"]
    for row in range(max(len(after), len(rows))):
        number, (asked, band) = after[row] if row < len(after) else (None, (None, None))
        note = None if number is None else f"of {rows[number - 1][0]}, once"
        cells = (number, asked, *((note,) if in_csv else ()), band)
        for column, value in enumerate(cells, 1):
            sheet.cell(HEADINGS_ROW + 1 + row, column).value = value


@settings(max_examples=budget(15))
@given(case=edits(), in_csv=st.booleans())
def test_what_is_changed_in_the_workbook_is_what_the_file_says_then(case, in_csv):
    rows, after = case
    with tempfile.TemporaryDirectory() as home:
        folder = book_with(Path(home) / "book", rows, in_csv=in_csv)
        before = texts_of(folder)
        path = kivvet.open_book(folder).export(data=False).save(Path(home) / "rules.xlsx")
        edited(path, lambda book: put(book, rows, after, in_csv=in_csv))
        found = taken(folder, path)
        assert texts_of(folder) == before
        (one,) = found.tables
        same = [row for _, row in after] == rows and [number for number, _ in after] == list(
            range(1, len(rows) + 1)
        )
        if one.state == "unchanged":
            assert [row for _, row in after] == rows
            return
        assert not same
        if one.errors:
            with pytest.raises(kivvet.BookError, match="nothing was written"):
                taken(folder, path, write=True)
            return
        written = taken(folder, path, write=True)
        assert len(written.written) == 1
        assert rows_in(folder) == [row for _, row in after]
        text = texts_of(folder)["bands.csv" if in_csv else "bands.toml"]
        for number, row in after:
            asked = None if number is None else rows[number - 1][0]
            if (
                asked is not None and row == rows[number - 1]
            ):  # a row that stays has its line, with its note or comment
                assert (
                    f'{asked},"of {asked}, once",{row[1]}\n'
                    if in_csv
                    else f'["{asked}", "{row[1]}"],  # as {asked}'
                ) in text
        assert in_csv or ("# Bands of x, agreed in spring." in text and "]  # end" in text)
        assert all(one.state in ("already", "unchanged") for one in taken(folder, path).tables)


PLAIN = [("< 1", "low"), ("1 to <2", "mid"), ("2 to <4", "mid"), (">= 4", "high")]


def change_cell(sheet, row, column, value):
    def change(book):
        book[sheet].cell(HEADINGS_ROW + row, column).value = value

    return change


@pytest.mark.parametrize("in_csv", [False, True])
def test_what_the_book_changed_meanwhile_is_kept(tmp_path, in_csv):
    folder = book_with(tmp_path / "book", PLAIN, in_csv=in_csv)
    path = kivvet.open_book(folder).export(data=False).save(tmp_path / "rules.xlsx")
    edited(path, change_cell("bands", 1, 4 if in_csv else 3, "mid"))
    file = folder / ("tables/bands.csv" if in_csv else "tables/bands.toml")
    text = file.read_text()
    file.write_text(text.replace(">= 4", ">= 4.5").replace("2 to <4", "2 to <4.5"))
    found = taken(folder, path, write=True)
    assert found.tables[0].merged.is_proven
    assert rows_in(folder) == [("< 1", "mid"), ("1 to <2", "mid"), ("2 to <4.5", "mid"), (">= 4.5", "high")]
    theirs = re.sub(r"(< 1.*)low", r"\1high", text)
    file.write_text(theirs)
    (one,) = taken(folder, path).tables
    assert one.state == "undecided"
    assert "x < 1" in one.merged.clashes[0].where
    with pytest.raises(kivvet.BookError, match=r"nothing was written: bands is not ready"):
        taken(folder, path, write=True)
    assert file.read_text() == theirs


def without(name):
    return lambda book: book.remove(book[name])


@pytest.mark.parametrize(
    ("change", "state", "said"),
    [
        (change_cell("bands", 2, 1, 99), "unreadable", r"A5 is no number of a row[\s\S]*1 to 4"),
        (change_cell("bands", 2, 1, "two"), "unreadable", "is no number of a row"),
        (
            change_cell("bands", 2, 2, "1 too 2"),
            "unreadable",
            r"rules.xlsx:bands:B5: cannot be read: B5 '1 too 2'",
        ),
        (change_cell("bands", 0, 2, "y"), "unreadable", "the column 'x' is not there any more"),
        (change_cell("bands", 0, 1, "line"), "unreadable", "has no row of headings any more"),
        (lambda book: book["bands"].delete_rows(HEADINGS_ROW + 1, 4), "unreadable", "has no row any more"),
        (without("bands"), "unchanged", "its sheet is not there any more"),
    ],
)
def test_what_cannot_be_taken_is_said_with_its_place(tmp_path, change, state, said):
    folder = book_with(tmp_path / "book", PLAIN)
    path = kivvet.open_book(folder).export(data=False).save(tmp_path / "rules.xlsx")
    (one,) = taken(folder, edited(path, change)).tables
    assert one.state == state
    assert re.search(said, one.why_not)


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (without("kivvet"), "has no column 'table'|and it is not said which is read"),
        (lambda book: setattr(book["kivvet"]["A2"], "value", "abc"), "the sheet 'kivvet' was changed"),
    ],
)
def test_a_workbook_that_lost_what_went_out_is_refused(tmp_path, change, said):
    folder = book_with(tmp_path / "book", PLAIN)
    path = kivvet.open_book(folder).export(data=False).save(tmp_path / "rules.xlsx")
    with pytest.raises(kivvet.KivvetError, match=said):
        taken(folder, edited(path, change))


def test_errors_that_a_change_brings_keep_it_from_being_written(tmp_path):
    folder = book_with(tmp_path / "book", PLAIN)
    toml = folder / "tables/bands.toml"
    toml.write_text(toml.read_text().replace('match = "first"\n', ""))
    path = kivvet.open_book(folder).export(data=False).save(tmp_path / "rules.xlsx")
    before = toml.read_text()
    edited(path, change_cell("bands", 2, 2, "0 to <2"))
    (one,) = taken(folder, path).tables
    assert [found.kind for found in one.errors] == ["overlap"]
    with pytest.raises(kivvet.BookError, match="nothing was written"):
        taken(folder, path, write=True)
    assert toml.read_text() == before


def test_the_workbook_offers_classes_and_shows_what_was_found(survey, run):
    assert run("export", "rules.xlsx", cwd=survey).code == 0
    book = openpyxl.load_workbook(survey / "rules.xlsx")
    sheet = book["oxygen_status"]
    heads = [cell.value for cell in sheet[HEADINGS_ROW]]
    assert heads == ["row", "oxygen", "oxygen_status", "rows of data", "found"]
    (offer,) = sheet.data_validations.dataValidation
    column, last = offer.formula1.replace("$", "").partition("!")[2].split(":")
    offered = [cell.value for (cell,) in book["classes"][f"{column}:{last}"]]
    assert offered[:4] == ["good", "watch", "poor", "critical"]
    assert sheet.cell(HEADINGS_ROW + 1, 2).number_format == "@"
    assert sum(sheet.cell(HEADINGS_ROW + row, 4).value for row in range(1, 5)) > 3_000
    found = [cell.value for name in book.sheetnames for cell in book[name]["A"][1:2]]
    assert any("near-miss" in (text or "") or "note:" in (text or "") for text in found)
    assert book["kivvet"].sheet_state == book["classes"].sheet_state == "hidden"


def test_a_file_that_is_no_workbook_of_rules_stays(tmp_path, run):
    folder = book_with(tmp_path / "book", PLAIN)
    other = openpyxl.Workbook()
    other.save(folder / "mine.xlsx")
    held = (folder / "mine.xlsx").read_bytes()
    assert run("export", "mine.xlsx", cwd=folder).code != 0
    assert (folder / "mine.xlsx").read_bytes() == held
    assert run("export", "mine.xlsx", "--replace", cwd=folder).code == 0
    assert run("export", "mine.xlsx", cwd=folder).code == 0
    assert run("export", "rules.txt", cwd=folder).code != 0
    assert run("export", "rules.xlsx", "bandz", cwd=folder).code == 2


def test_names_of_sheets_are_each_their_own():
    names = sheet_names(["tables", "a" * 40, "A" * 40, "x/y", "Kivvet"])
    assert len({name.casefold() for name in names.values()}) == 5
    assert all(len(name) <= 31 and "/" not in name for name in names.values())
    assert "tables" not in names.values()


@pytest.mark.parametrize("name", ["rules.xlsx", "rules.csv"])
def test_an_output_that_is_called_as_its_input_is_told_from_it(river, tmp_path, name):
    folder = tmp_path / "river"
    shutil.copytree(river, folder)
    path = kivvet.open_book(folder).export(["yes_no"], data=False).save(tmp_path / name)
    if name.endswith("csv"):
        path.write_text(path.read_text().replace(",yes\n", ",seen\n"))
    else:
        edited(path, change_cell("yes_no", 1, 3, "seen"))
    taken(folder, path, write=True)
    assert '["y | yes", "seen"],' in (folder / "tables/yes_no.toml").read_text()


# One file of many mappings.


def test_lines_of_the_survey_come_back_as_they_went(river, tmp_path):
    folder = tmp_path / "river"
    shutil.copytree(river, folder)
    before = texts_of(folder)
    book = kivvet.open_book(folder)
    for name, options in (("all.csv", {}), ("all.xlsx", {"long": True})):
        path = book.export(data=False).save(tmp_path / name, **options)
        found = taken(folder, path, write=True)
        assert {one.state for one in found.tables} == {"unchanged"}
    assert texts_of(folder) == before


VALUES = st.dictionaries(
    st.sampled_from(["a", "b", "c", "007", "x y"]), st.sampled_from(["k", "m", "n"]), min_size=1
)


@settings(max_examples=budget(22))
@given(before=VALUES, said=VALUES, in_csv=st.booleans())
def test_a_line_says_what_its_value_gives_and_others_stay(before, said, in_csv):
    with tempfile.TemporaryDirectory() as home:
        rows = [f'["{value}", "{label}"],' for value, label in before.items()]
        toml = 'inputs.v = "text"\noutputs.k = "text"\nrows = ' + (
            '"k.csv"\n' if in_csv else "[" + "".join(rows) + "]\n"
        )
        files = {
            "book.toml": "",
            "tables/ph_class.toml": None,
            "tables/station.toml": None,
            "tables/k.toml": toml,
        }
        if in_csv:
            files["tables/k.csv"] = "v,k\n" + "".join(f"{value},{label}\n" for value, label in before.items())
        folder = write_book(Path(home) / "book", files)
        lines = "".join(
            f"{table},{value},{label}\n" for table in ("k", "new") for value, label in said.items()
        )
        path = Path(home) / "lines.csv"
        path.write_text("table,value,class\n" + lines)
        found = taken(folder, path, write=True)
        states = {one.name: one.state for one in found.tables}
        assert states == {"k": "unchanged" if said.items() <= before.items() else "changed", "new": "new"}
        book = kivvet.open_book(folder)
        probes = [*{**before, **said}, "other"]
        expected = [{**before, **said}.get(value) for value in probes]
        given_by = {"v": probes, "new": probes}
        made = book.apply(pd.DataFrame(given_by), ["k", "new"])
        assert [None if pd.isna(one) else one for one in made["k"]] == expected
        assert [None if pd.isna(one) else one for one in made["new_class"]] == [
            said.get(value) for value in probes
        ]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("tabel,value,class\nbands,a,b\n", "has no column 'table'"),
        ("table,value,class\n,a,b\n", "row 1 names no table"),
        (
            "table,value,class\nbands,< 1,low\nbands,< 1,mid\n",
            "row 2: '< 1' of table bands is 'mid' here, and 'low' above",
        ),
        ("table,value,class,output\nbands,< 1,low,bend\n", "table bands has no output 'bend'"),
        ("table,value,class,input\nbands,< 1,low,y\n", "table bands reads x, not y"),
        ("table,value,class\nbands,1 too 2,low\n", "could not be read then"),
    ],
)
def test_lines_that_say_nothing_that_can_be_are_told(tmp_path, run, text, said):
    folder = book_with(tmp_path / "book", PLAIN)
    (folder / "lines.csv").write_text(text)
    before = texts_of(folder)
    ran = run("import", "lines.csv", "--write", cwd=folder)
    assert ran.code != 0
    assert said in run("import", "lines.csv", cwd=folder).all
    assert texts_of(folder) == before


def test_the_command_shows_then_writes(river, tmp_path, run):
    survey = tmp_path / "survey"
    shutil.copytree(river, survey)
    assert (
        "when it comes back: kivvet import rules.xlsx"
        in run("export", "rules.xlsx", "method", cwd=survey).out
    )
    edited(survey / "rules.xlsx", change_cell("method", 1, 3, "grab"))
    shown = run("import", "rules.xlsx", cwd=survey)
    assert shown.code == 0
    assert "method = KN  net     grab" in shown.out
    assert "samples  3,600 rows" in shown.out
    assert "to write it: kivvet import rules.xlsx --write" in shown.out
    assert "grab" not in (survey / "tables/method.csv").read_text().splitlines()[1]
    assert "written  tables/method.csv" in run("import", "rules.xlsx", "--write", cwd=survey).out
    assert (survey / "tables/method.csv").read_text().splitlines()[1] == "KN,grab,kick net"
    assert '"state": "already"' in run("import", "rules.xlsx", "--format", "json", cwd=survey).out
