"""However rules are written down, the whole order of work tells the same: rows in the table's file, in a file of text, on a sheet, in a
database, or in another book.
"""

from __future__ import annotations

import csv
import io
import json
import shutil
import sqlite3
from contextlib import closing

import pytest
import xlsxwriter

from tests.conftest import kivvet as run
from tests.conftest import write_book

HEADINGS = ["ph", "flow", "day", "state", "note"]
#: With a gap, a pair that meets, and a row that never wins: what a check has to find, whatever the form.
ROWS = {
    "sound": [
        ["< 6.5", "", "", "acidic", "a"],
        ["6.5 to <8.5", "< 2", "", "still", ""],
        ["6.5 to <8.5", ">= 2", "< 2026-01-07", "early", "b"],
        ["6.5 to <8.5", ">= 2", ">= 2026-01-07", "late", ""],
        [">= 8.5", "", "", "alkaline", "c"],
    ],
    "faulty": [
        ["< 6.5", "", "", "acidic", "a"],
        ["6.5 to 7", "< 2", "", "still", ""],
        ["7 to <8.5", "", "< 2026-01-07", "early", "b"],
        ["> 9", "", "", "alkaline", "c"],
        ["> 10", "1 to 2", "", "never", ""],
    ],
}
HEAD = """
inputs = { ph = { type = "number", domain = "0 to 14" }, flow = { type = "number", domain = ">= 0" }, day = "date" }
outputs = { state = "text", note = "text" }
missing = { state = "unknown", note = "?" }
"""
DATA = "id,ph,flow,day\n" + "".join(
    f"{n},{ph},{flow},2026-01-{day:02}\n"
    for n, (ph, flow, day) in enumerate(
        [(6.1, 1, 5), (7, 1.5, 5), (7.5, 2, 6), (8.25, 3, 7), (8.5, 1, 8), (8.75, 1, 8), ("", 2, 9), (11, 1.5, 9), (7, 2, 7)], 1
    )
)  # fmt: skip
BOOK = """
[databases.there]
path = "there.db"

[datasets.d]
source = "d.csv"
target = "out/d.csv"
columns = ["state"]
"""


def in_its_file(folder, rows):
    listed = ",\n  ".join(json.dumps(row) for row in rows)
    return f"{HEAD}rows = [\n  {json.dumps(HEADINGS)},\n  {listed},\n]\n"


def in_a_file_of_text(folder, rows, delimiter=",", name="state.csv", more=""):
    out = io.StringIO()
    csv.writer(out, delimiter=delimiter, lineterminator="\n").writerows([HEADINGS, *rows])
    (folder / f"tables/{name}").write_text(out.getvalue())
    return f'{HEAD}rows = "{name}"\n{more}'


def in_a_file_with_semicolons(folder, rows):
    return in_a_file_of_text(folder, rows, ";", more='delimiter = ";"\n')


def in_a_file_with_tabs(folder, rows):
    return in_a_file_of_text(folder, rows, "\t", "state.tsv")


def on_a_sheet(folder, rows):
    with xlsxwriter.Workbook(str(folder / "tables/state.xlsx")) as book:
        sheet = book.add_worksheet("rules")
        for number, row in enumerate([HEADINGS, *rows]):
            for place, cell in enumerate(row):
                sheet.write_string(number, place, cell)
    return f'{HEAD}rows = "state.xlsx"\n'


def in_a_database(folder, rows):
    with closing(sqlite3.connect(folder / "there.db")) as there:
        there.execute("CREATE TABLE state (n INTEGER, ph TEXT, flow TEXT, day TEXT, state TEXT, note TEXT)")
        there.executemany(
            "INSERT INTO state VALUES (?, ?, ?, ?, ?, ?)", [[n, *row] for n, row in enumerate(rows)]
        )
        there.commit()
    query = f"SELECT {', '.join(HEADINGS)} FROM state ORDER BY n"
    return f'{HEAD}rows = {{ database = "there", query = "{query}" }}\n'


FORMS = {
    "its file": in_its_file,
    "text": in_a_file_of_text,
    "semicolons": in_a_file_with_semicolons,
    "tabs": in_a_file_with_tabs,
    "sheet": on_a_sheet,
    "database": in_a_database,
}


def book_with(folder, form, rows, more=""):
    write_book(folder, {"book.toml": BOOK, "d.csv": DATA, **dict.fromkeys(SMALL)})
    (folder / "tables").mkdir(exist_ok=True)
    (folder / "tables/state.toml").write_text(FORMS[form](folder, rows) + more)
    return folder


SMALL = ("tables/ph_class.toml", "tables/station.toml", "tables/station.csv", "data/samples.csv")
ASKED = {
    "check": ["check"],
    "check without data": ["check", "state", "--no-data"],
    "explain": ["explain", "state", "--set", "ph=7", "--set", "flow=2", "--set", "day=2026-01-06"],
    "explain a row": ["explain", "d", "--row", "6"],
    "wanted": ["explain", "d", "--row", "1", "--table", "state", "--wanted", "alkaline"],
    "unmatched": ["unmatched"],
    "summary": ["summary", "d", "--by", "state", "--value", "SUM(flow)"],
    "show": ["show", "d", "--why"],
    "shares": ["shares", "state", "--on", "d", "--against", "d"],
    "list": ["list"],
    "uses": ["list", "--uses", "ph"],
}
#: Where a rule stands, and what follows from that: how it would be changed there.
NOT_OF_RULES = ("place", "places", "file", "remedy", "source", "edited", "last_change", "size", "made_at")


def about_rules(value):
    if isinstance(value, dict):
        return {name: about_rules(one) for name, one in value.items() if name not in NOT_OF_RULES}
    return [about_rules(one) for one in value] if isinstance(value, list) else value


def told(folder):
    made = {}
    for name, command in ASKED.items():
        ran = run(*command, "--json", cwd=folder)
        made[name] = ran.code, about_rules(json.loads(ran.out))
    return made


@pytest.fixture(scope="module", params=list(ROWS))
def as_inline(request, tmp_path_factory):
    folder = book_with(tmp_path_factory.mktemp("inline") / "book", "its file", ROWS[request.param])
    return request.param, folder, told(folder)


@pytest.mark.parametrize("form", [one for one in FORMS if one != "its file"])
def test_rules_mean_and_tell_the_same_in_every_form(tmp_path, as_inline, form):
    kind, inline, wanted = as_inline
    folder = book_with(tmp_path / "book", form, ROWS[kind])
    made = told(folder)
    for name, answer in wanted.items():
        assert made[name] == answer, name
    compared = run("compare", "state", "--against", inline / "tables/state.toml", "--json", cwd=folder)
    assert compared.code == 0 and json.loads(compared.out)["same"] is True, compared.all
    if kind == "sound":
        applied = run("apply", cwd=folder)
        assert applied.code == 0, applied.all
        shutil.copy(inline / "tables/state.toml", folder / "tables/state.toml")
        assert "current" in run("status", cwd=folder).out  # the same meaning, written otherwise


@pytest.mark.parametrize("form", list(FORMS))
def test_a_wrong_cell_is_told_where_it_stands_in_every_form(tmp_path, form):
    rows = [[*row] for row in ROWS["sound"]]
    rows[2][0] = "between six and eight"
    told = run("check", "--no-data", "--json", cwd=book_with(tmp_path / "book", form, rows))
    (finding,) = [one for one in json.loads(told.out)["findings"] if one["severity"] == "error"]
    assert told.code == 1 and "between six and eight" in finding["message"] and finding["rows"] in ([3], [])
    (place, *_) = finding["places"]
    if form != "database":
        assert place["line"] == {"its file": 9}.get(form, 4), place
    assert place["file"].startswith(("tables/state.", "there")), place


@pytest.mark.parametrize(("form", "other"), [("text", "sheet"), ("sheet", "its file"), ("its file", "database"), ("tabs", "semicolons")])  # fmt: skip
def test_a_changed_row_moves_the_same_whatever_form_it_comes_in(tmp_path, form, other):
    folder = book_with(tmp_path / "book", form, ROWS["sound"])
    assert run("apply", cwd=folder).code == 0
    rows = [[*row] for row in ROWS["sound"]]
    rows[0][0], rows[1][0], rows[2][0], rows[3][0] = "< 7", *["7 to <8.5"] * 3
    rows[4][3] = "basic"
    (folder / "tables/state.toml").write_text(FORMS[other](folder, rows))
    (impact,) = json.loads(run("impact", "--json", cwd=folder).out)["datasets"]
    (column,) = [one for one in impact["columns"] if one["column"] == "state"]
    moved = {(one["before"], one["after"]): one["count"] for one in column["moves"]}
    assert moved == {("alkaline", "basic"): 3}, moved
    assert "stale" in run("status", cwd=folder).out and run("refresh", cwd=folder).code == 0
    assert "basic" in (folder / "out/d.csv").read_text() and "current" in run("status", cwd=folder).out
