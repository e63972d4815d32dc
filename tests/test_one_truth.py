"""`check`, `apply`, `status` and the reports tell the same truth."""

from __future__ import annotations

import json
import shutil
from collections import Counter

import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import kivvet
from kivvet.books.runs import plans, prepare
from kivvet.core.run.planner import make_plan
from kivvet.io.csv_source import CsvSource
from tests.conftest import SMALL_BOOK, write_book

TABLE = kivvet.RuleTable
Y = {"y": "text"}
BOOK, PH, SAMPLES = (
    SMALL_BOOK["book.toml"],
    SMALL_BOOK["tables/ph_class.toml"],
    SMALL_BOOK["data/samples.csv"],
)


@pytest.mark.parametrize(
    "changes",
    [
        {"data/samples.csv": SAMPLES.replace("6.40", "6,40".join('""'))},
        {"book.toml": BOOK.replace("types   = {", 'types   = { id = "date",'), "data/samples.csv": SAMPLES},
        {"book.toml": BOOK.replace("types   = {", 'types   = { remark = "integer",')},
    ],
)
def test_check_finds_every_field_that_stops_apply_whichever_table_is_named(tmp_path, run, changes):
    folder = write_book(tmp_path, changes)
    assert run("apply", cwd=folder).code == 1
    for named in ([], ["ph_class"], ["station"]):
        ran = run("check", *named, cwd=folder)
        assert ran.code == 1 and "cannot be read as" in ran.out


def test_fields_that_do_not_convert_are_not_counted_as_missing(tmp_path):
    folder = write_book(tmp_path, {"data/samples.csv": SAMPLES.replace("6.40", "x")})
    said = [one.message for one in kivvet.open_book(folder).check() if one.kind == "missing-input"]
    assert said == ["1 row of ph has no value; missing gives ph_class = not measured"]
    both = (
        PH.replace("outputs", 'inputs.remark = "text"\noutputs', 1).split("rows")[0]
        + 'rows = [["ph", "remark", "ph_class"], ["> 0", "", "a"]]\n'
    )
    folder = write_book(
        tmp_path, {"data/samples.csv": SAMPLES.replace("6.40", "x"), "tables/ph_class.toml": both}
    )
    said = [
        one.count
        for one in kivvet.open_book(folder).check()
        if one.kind == "missing-input" and one.table == "ph_class"
    ]
    assert said == [1]


@pytest.mark.parametrize("command", ["apply", "status", "refresh", "unmatched"])
def test_a_book_that_cannot_be_read_ends_every_command_with_1_and_the_place(small_book, run, command):
    (small_book / "book.toml").write_text("title = \n")
    ran = run(command, cwd=small_book)
    assert ran.code == 1 and "book.toml:1:9" in ran.err
    ran = run(command, "samples", cwd=small_book)
    assert ran.code == 1 and "not valid TOML" in ran.err


@pytest.mark.parametrize(
    ("kind", "where"),
    [("unmatched", "book"), ("unmatched", "table"), ("missing-input", "book"), ("near-edge", "book")],
)
def test_findings_about_data_that_are_made_errors_stop_apply(tmp_path, run, kind, where):
    changes = {
        "tables/ph_class.toml": PH.replace(", step = 0.1", ""),
        "data/samples.csv": SAMPLES.replace("8.5", "8.499999999999998"),
    }
    named = f'\n[severity]\n{kind} = "error"\n'
    table = "tables/station.toml" if kind == "unmatched" else "tables/ph_class.toml"
    if where == "book":
        changes["book.toml"] = BOOK + named
    else:
        changes[table] = SMALL_BOOK[table] + named
    folder = write_book(tmp_path, changes)
    ran = run("apply", cwd=folder)
    assert ran.code == 1 and f"error    {kind}" in ran.err and "nothing was written" in ran.err
    assert not (folder / "out/samples.csv").exists()
    assert f"error    {kind}" in run("check", cwd=folder).out


def test_status_says_where_an_apply_would_be_stopped(tmp_path):
    overlap = PH.replace("6.5 to <8.5", "6.5 to 8.5")
    folder = write_book(
        tmp_path,
        {
            "tables/ph_class.toml": overlap + '[severity]\noverlap = "warning"\n',
            "formulas.toml": 'double = "ph / id"\n',
            "book.toml": BOOK.replace('["ph_class",', '["ph_class", "double",'),
            "data/samples.csv": SAMPLES.replace("2,008", "0,008"),
        },
    )
    kivvet.open_book(folder).apply_dataset("samples")
    assert kivvet.open_book(folder).status()[0].state == "current"
    (folder / "formulas.toml").write_text('double = { formula = "ph / id", strict = true }\n')
    (one,) = kivvet.open_book(folder).status()
    assert (
        one.state == "stale"
        and "demand more of the data than when it was made: formula double: strict" in one.reasons[0].message
    )
    (folder / "tables/ph_class.toml").write_text(overlap)
    (one,) = kivvet.open_book(folder).status()
    assert (
        one.state == "cannot tell"
        and "1 error in ph_class, which would stop an apply" in one.reasons[0].message
    )


def test_under_every_each_match_counts(tmp_path):
    outputs = {
        "y": {"type": "text", "combine": "join"},
        "is": {"type": "text", "combine": "flags"},
        "n": {"type": "integer", "combine": "count"},
    }
    rows = [["x", "y", "is", "n"], ["< 5", "low", "low", "1"], ["> 2", "high", "high", "1"]]
    table = TABLE("t", {"x": "integer"}, outputs, rows, match="every")
    made = table.apply_with_report(pa.table({"x": [1, 3, 4, 9, None]}))
    (report,) = made.report.tables
    assert report.rows_by_row == (3, 3)
    assert report.classes["y"] == (("low", 3), ("high", 3), (None, 1))
    assert made.frame["is_low"].to_pylist() == [True, True, True, False, None]
    assert made.frame["n"].to_pylist() == [1, 2, 2, 1, None]


@pytest.mark.parametrize(
    ("shape", "rows"),
    [
        (None, [["A1* to A3*", "x"], ["A12*", "x"]]),
        (None, [["A00* to B49*", "x"], ["A10", "x"]]),
        (None, [["A1*", "x"], ["A12", "x"]]),
        ("A99", [["A00* to B49*", "x"], ["A10*", "x"]]),
    ],
)
def test_a_value_or_prefix_within_a_code_range_of_the_same_result_is_a_duplicate(shape, rows):
    about = {"type": "text", **({"shape": shape} if shape else {})}
    (found,) = TABLE("t", {"x": about}, Y, rows).check().of_kind("duplicate")
    assert found.rows == (2, 1) and found.remedy == "remove row 2"


@pytest.mark.parametrize("kind", ["overlap", "conflict"])
@pytest.mark.parametrize("n_inputs", [1, 2])
def test_where_meeting_is_lowered_the_earlier_row_wins_whatever_the_inputs(kind, n_inputs):
    cells = [["< 5", "p"], ["< 5" if kind == "conflict" else "> 3", "q"]]
    rows = cells if n_inputs == 1 else [["x", "z", "y"], *([one[0], "", one[1]] for one in cells)]
    inputs = {"x": "number"} if n_inputs == 1 else {"x": "number", "z": "text"}
    more = {"severity": {kind: "warning", "gap": "note"}}
    table = TABLE("t", inputs, Y, rows, **more)
    frame = pa.table({"x": [4.0, 9.0], "z": ["a", "b"]})
    assert table.apply(frame)["y"].to_pylist() == ["p", None if kind == "conflict" else "q"]
    with pytest.raises(kivvet.TableError):
        TABLE("t", inputs, Y, rows, severity={"gap": "note"}).apply(frame)


@pytest.mark.parametrize(
    ("name", "before", "after"),
    [
        ("tables/code.toml", '"01 | 02"', '"02 | 01"'),
        ("tables/code.toml", '">= 4"', '"not < 4"'),
        ("tables/l.csv", "a,1\nb,2\n", "b,2\na,1\n"),
        ("book.toml", "target", 'delimiter = ","\ntarget'),
        ("book.toml", "target", 'encoding = "UTF8"\ntarget'),
        ("book.toml", "target", 'types = { n = "number" }\ntarget'),
    ],
)
def test_the_same_meaning_written_otherwise_is_current(tmp_path, name, before, after):
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "t.parquet"\ncolumns = ["code", "size", "l"]\n',
            "d.csv": "c,n,k\n01,5,a\n02,1.5,b\n",
            "tables/code.toml": 'inputs.c = "text"\ninputs.n = "number"\noutputs.code = "text"\nrows = [["c", "n", "code"], ["01 | 02", "", "x"]]\n',
            "tables/size.toml": 'inputs.n = "number"\noutputs.size = "text"\nrows = [["< 4", "s"], [">= 4", "l"]]\n',
            "tables/l.toml": 'inputs.k = "text"\noutputs.v = "integer"\nlookup = "l.csv"\n',
            "tables/l.csv": "k,v\na,1\nb,2\n",
        },
    )
    if name == "tables/code.toml" and "4" in before:
        name = "tables/size.toml"
    kivvet.open_book(folder).apply_dataset("d")
    path = folder / name
    assert before in path.read_text()
    path.write_text(path.read_text().replace(before, after, 1))
    assert kivvet.open_book(folder).status()[0].state == "current"


def test_another_order_of_a_lookup_is_a_change_where_the_number_of_the_row_is_kept(tmp_path):
    folder = write_book(tmp_path, {"book.toml": BOOK})
    kivvet.open_book(folder).apply_dataset("samples")
    path = folder / "tables/station.csv"
    head, first, second = path.read_text().splitlines()
    path.write_text(f"{head}\n{second}\n{first}\n")
    assert kivvet.open_book(folder).status()[0].stale_columns == ("by",)


@pytest.mark.parametrize("kind", ["csv", "parquet"])
def test_what_changed_is_told_by_the_record_where_the_journal_is_lost(tmp_path, kind):
    folder = write_book(tmp_path, {"book.toml": BOOK.replace("out/samples.csv", f"out/samples.{kind}")})
    kivvet.open_book(folder).apply_dataset("samples")
    shutil.rmtree(folder / ".kivvet")
    path = folder / "tables/ph_class.toml"
    path.write_text(path.read_text().replace("alkaline", "basic"))
    (one,) = kivvet.open_book(folder).status()
    assert [str(change) for change in one.reasons[0].changes] == [">= 8.5: alkaline -> basic"]


def test_fields_of_a_later_record_are_kept_and_an_earlier_semantics_is_stale(small_book):
    kivvet.open_book(small_book).apply_dataset("samples")
    path = small_book / "out/samples.csv.kivvet.json"
    values = json.loads(path.read_text())
    values["records"][0] |= {"later": [1], "semantics": 1}
    path.write_text(json.dumps(values))
    (one,) = kivvet.open_book(small_book).status()
    assert one.state == "stale" and "another version of Kivvet" in one.reasons[0].message
    from kivvet.books.runs.record import read_record

    record = read_record(small_book / "out/samples.csv").record
    assert record is not None and json.loads(record.to_json())["later"] == [1]


def test_a_frame_and_a_parquet_source_of_nanoseconds_are_classed_alike(tmp_path):
    moments = pd.to_datetime(["2026-01-01 10:00:00.000000001", "2026-01-01 10:00:00.000000000"])
    rows = [["<= 2026-01-01 10:00", "a"], ["> 2026-01-01 10:00", "b"]]
    table = TABLE("t", {"x": "datetime"}, Y, rows)
    assert list(table.apply(pd.DataFrame({"x": moments}))["y"]) == ["b", "a"]
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.parquet"\ntarget = "t.parquet"\ncolumns = ["t"]\n',
            "tables/t.toml": str(table),
        },
    )
    pq.write_table(pa.table({"x": pa.array(moments, pa.timestamp("ns"))}), folder / "d.parquet")
    kivvet.open_book(folder).apply_dataset("d")
    assert pq.read_table(folder / "t.parquet")["y"].to_pylist() == ["b", "a"]


@pytest.mark.parametrize("command", ["check", "status", "unmatched", "list", "impact", "report"])
def test_a_command_makes_one_plan_a_dataset_and_opens_each_source_once(tmp_path, run, monkeypatch, command):
    columns = '["ph_class", { table = "station", keep = ["river"] }]'
    more = "".join(
        f'[datasets.{name}]\nsource = "{source}"\ntarget = "out/{name}.csv"\ntypes = {{ station = "text" }}\n'
        f"columns = {'[]' if name == 'after' else columns}\n"
        for name, source in (
            ("same", "data/samples.csv"),
            ("other", "data/other.csv"),
            ("after", "out/other.csv"),
        )
    )
    files = {"book.toml": SMALL_BOOK["book.toml"] + more, "data/other.csv": SMALL_BOOK["data/samples.csv"]}
    files["book.toml"] += (
        '[summaries.by_class]\nfrom = "samples"\nby = ["ph_class"]\nvalues = { n = "COUNT(*)" }\ntarget = "out/s.csv"\n'
    )
    folder = write_book(tmp_path, files)
    told = run("apply", cwd=folder)
    assert told.code == 0, told.all
    planned, opened = Counter(), Counter()

    def counted(entries, *given, **more):
        planned[str(entries)] += 1
        return make_plan(entries, *given, **more)

    def begun(self, path, *given):
        opened[str(path)] += 1
        begin(self, path, *given)

    begin = CsvSource.__init__
    for module in (plans, prepare):
        monkeypatch.setattr(module, "make_plan", counted)
    monkeypatch.setattr(CsvSource, "__init__", begun)
    more = ["--to", str(folder / "r.html")] if command == "report" else []
    assert run(command, *more, cwd=folder).code == 0
    assert sum(planned.values()) <= 4 + 2, planned  # a summary has one more: of the rows that it sums up
    assert set(opened.values()) == {1}, opened
