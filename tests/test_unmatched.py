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
        ("code_class", "code", "c", 2, 2),
        ("code_class", "code", "d", 1, 6),
        ("place", "other, year", "code = b, year = 1", 2, 2),
        ("place", "other, year", "code = a, year = 2", 1, 5),
        ("place", "other, year", "code = zz, year = 2", 1, 4),
        ("both", "code, year", "code = c, year = 1", 2, 2),
        ("both", "code, year", "code = a, year = 2", 1, 5),
    ]


def test_the_command_prints_a_view_csv_and_json(tmp_path):
    folder = write_book(tmp_path, TABLES)
    shown = run("unmatched", "d", cwd=folder).out
    assert "code_class  code of d   2 values, 3 rows\n  2  'c'   first in row 2\n" in shown
    records = list(csv.DictReader(io.StringIO(run("unmatched", "d", "--csv", cwd=folder).out)))
    made = json.loads(run("unmatched", "d", "--json", cwd=folder).out)
    assert made["version"] == 1
    assert [
        {name: "" if value is None else str(value).replace("False", "false") for name, value in one.items()}
        for one in made["unmatched"]
    ] == records
    assert run("unmatched", "nothing", cwd=folder).code == 2
    assert run("unmatched", "--csv", "--json", cwd=folder).code == 2


def test_nothing_unmatched_is_said(tmp_path):
    folder = write_book(tmp_path, {**TABLES, "d.csv": "code,other,year\na,a,1\n"})
    assert run("unmatched", "d", cwd=folder).out == "every value is held by a row\n"


def test_keys_of_several_parts_are_added_filled_in_and_refreshed(tmp_path):
    """Every part as the data has it, made columns too; what was there stays; the target follows."""
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "out.csv"\ncolumns = ["code", "limit"]\n',
            "tables/code.toml": 'inputs.raw = "text"\noutputs.code = "text"\nrows = [["a1", "A"], ["b1", "B"], ["c1", "C"]]\n',
            "tables/limit.toml": 'inputs.code = { type = "text", column = "Code", fold = ["case"] }\ninputs.zone = "integer"\n'
            'inputs.day = { type = "date", from = "since" }\noutputs.limit = "number"\nlookup = "limit.tsv"\n',
            "tables/limit.tsv": "zone\tlimit\tCode\tsince\tnote\r\n7\t1.5\tA\t\tkept\r\n",
            "d.csv": "raw,zone,day\na1,7,2026-01-01\nb1,7,2026-01-01\nb1,7,2026-01-02\nc1,8,2026-01-01\nzz,7,2026-01-01\n",
        },
    )
    rows = folder / "tables/limit.tsv"
    before = rows.read_bytes()
    assert run("apply", "d", cwd=folder).code == 0
    said = run("draft", "limit", "--extend", "--on", "d", cwd=folder)
    assert rows.read_bytes() == before + b"7\t\tB\t\t2 rows\r\n8\t\tC\t\t1 row\r\n", said.err
    again = run("draft", "limit", "--extend", "--on", "d", cwd=folder)
    assert again.out == "limit knows every value of the data; nothing to add\n"
    rows.write_bytes(rows.read_bytes().replace(b"7\t\tB", b"7\t2.5\tB"))
    assert "stale" in run("status", cwd=folder).out
    run("refresh", cwd=folder)
    made = [line.split(",")[-1] for line in (folder / "out.csv").read_text().splitlines()[1:]]
    assert made == ["1.5", "2.5", "2.5", "", ""]


def test_what_the_inputs_take_as_one_value_is_added_once(tmp_path):
    folder = write_book(
        tmp_path,
        {
            "book.toml": 'title = "t"\n',
            "d.csv": "code\nNorth\nnorth \nNORTH\nSouth\nNorth\n",
            "tables/place.toml": 'inputs.code = { type = "text", fold = ["case", "space"] }\noutputs.name = "text"\nlookup = "place.csv"\n',
            "tables/place.csv": "code,name\nsouth,S\n",
        },
    )
    assert run("draft", "place", "--extend", "--on", "d.csv", cwd=folder).code == 0
    assert (folder / "tables/place.csv").read_text() == "code,name\nsouth,S\nNorth,\n"


def test_keys_of_a_lookup_that_no_data_uses_are_a_note(tmp_path):
    folder = write_book(
        tmp_path, TABLES | {"tables/place.csv": "code,year,name\na,1,one\nb,2,two\nz,9,nine\n"}
    )
    found = {one.table: one for one in kivvet.open_book(folder).check().findings if one.kind == "unused"}
    assert "meets 2 of 3 keys: (code = b, year = 2), (code = z, year = 9)" in found["place"].message
    assert (found["place"].severity, found["place"].rows) == ("note", (2, 3))
