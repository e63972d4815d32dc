"""`kivvet unmatched`: what found nothing, with counts and the first row, across all tables of a dataset."""

import csv
import io
import json

import kivvet
from tests.conftest import kivvet as run
from tests.conftest import write_book

TABLES = {
    "book.toml": """
[datasets.d]
source = "d.csv"
columns = ["code_class", { table = "place", input = { code = "other" }, keep = { name = "other_name" } }, "both"]
""",
    "tables/code_class.toml": 'inputs.code = "text"\noutputs.code_class = "text"\nrows = [["a", "x"], ["b", "y"]]\n',
    "tables/place.toml": 'inputs.code = "text"\ninputs.year = "integer"\noutputs.name = "text"\nlookup = "place.csv"\n',
    "tables/place.csv": "code,year,name\na,1,one\nb,2,two\n",
    "tables/both.toml": 'inputs.code = "text"\ninputs.year = "integer"\noutputs.both = "text"\nrows = [["code", "year", "both"], ["a", "< 2", "p"]]\n[severity]\ngap = "note"\n',
    "d.csv": "code,other,year\na,a,1\nc,b,1\nc,b,1\n,zz,2\na,a,2\nd,,\n",
}


def test_every_table_lists_what_it_does_not_hold(tmp_path):
    folder = write_book(tmp_path, TABLES)
    found = kivvet.open_book(folder).unmatched(["d"])
    assert [(one.table, one.columns, one.value, one.rows, one.first_row) for one in found] == [
        ("code_class", "code", "c", 2, 2), ("code_class", "code", "d", 1, 6),
        ("place", "other, year", "code = b, year = 1", 2, 2), ("place", "other, year", "code = a, year = 2", 1, 5),
        ("place", "other, year", "code = zz, year = 2", 1, 4),
        ("both", "code, year", "code = c, year = 1", 2, 2), ("both", "code, year", "code = a, year = 2", 1, 5),
    ]  # fmt: skip


def test_the_command_prints_a_view_csv_and_json(tmp_path):
    folder = write_book(tmp_path, TABLES)
    shown = run("unmatched", "d", cwd=folder).out
    assert "code_class  code of d   2 values, 3 rows\n  2  'c'   first in row 2\n" in shown
    records = list(csv.DictReader(io.StringIO(run("unmatched", "d", "--csv", cwd=folder).out)))
    made = json.loads(run("unmatched", "d", "--json", cwd=folder).out)
    assert made["version"] == 1
    assert [{name: str(value) for name, value in one.items()} for one in made["unmatched"]] == records
    assert run("unmatched", "nothing", cwd=folder).code == 2
    assert run("unmatched", "--csv", "--json", cwd=folder).code == 2


def test_nothing_unmatched_is_said(tmp_path):
    folder = write_book(tmp_path, {**TABLES, "d.csv": "code,other,year\na,a,1\n"})
    assert run("unmatched", "d", cwd=folder).out == "every value is held by a row\n"
