"""No wrong class, no false proof, no lost value: corners that real tables and hostile tries found."""

from __future__ import annotations

import copy
import datetime as dt
import os
import pickle

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import kivvet
from kivvet.core.tables.table import UNFINISHED
from kivvet.rule_table import value_of
from tests.conftest import SMALL_BOOK, write_book

TABLE = kivvet.RuleTable
Y = {"y": "text"}
BOOK = SMALL_BOOK["book.toml"]


def applied(table, **columns):
    (name,) = [output.name for output in table.outputs][:1]
    return table.apply(pa.table(columns))[name].to_pylist()


# Whole numbers on columns of floats


@pytest.mark.parametrize(
    ("bound", "values", "wanted"),
    [
        (40_000_000, np.array([4e7, 4e7 + 4], np.float32), ["a", "b"]),
        (16_777_217, np.array([2.0**24, 2.0**24 + 2], np.float32), ["a", "b"]),
        (2**53 + 1, np.array([2.0**53, 2.0**53 + 2]), ["a", "b"]),
        (2**53, np.array([2.0**53, 2.0**53 + 2, -np.inf, np.inf]), ["a", "b", "a", "b"]),
        (-(2**53) - 1, np.array([-(2.0**53), -(2.0**53) - 2]), ["b", "a"]),
        (10**30, np.array([1e30, 1e29, np.nan]), ["a" if 1e30 <= 10**30 else "b", "a", None]),
    ],
)
def test_thresholds_of_whole_numbers_are_exact_in_the_columns_own_type(bound, values, wanted):
    table = TABLE("t", {"x": "integer"}, Y, [[f"<= {bound}", "a"], [f"> {bound}", "b"]])
    assert applied(table, x=values) == wanted


def test_ranges_and_keys_of_lookups_meet_whole_numbers_in_floats_exactly():
    ranges = {"x": {"type": "integer", "from": "low", "to": "high"}}
    rows = [{"low": None, "high": 40_000_000, "y": "a"}, {"low": 40_000_001, "high": None, "y": "b"}]
    assert applied(TABLE("t", ranges, Y, lookup=rows), x=np.array([4e7, 4e7 + 4], np.float32)) == ["a", "b"]
    keys = TABLE(
        "t", {"k": "integer"}, Y, lookup=[{"k": 20_000_000_000_000_000, "y": "a"}, {"k": 2**53 + 1, "y": "b"}]
    )
    assert applied(keys, k=np.array([2e16, 2.0**53, np.nan])) == ["a", None, None]


@pytest.mark.parametrize("kind", ["csv", "parquet"])
def test_long_whole_numbers_of_an_undeclared_column_stay_exact(tmp_path, run, kind):
    fields = (
        ["1234567890123456789", "1234567890123456790"],
        ["12345678901234567890", "1"],
        ["10000000000000001", "0.5"],
    )
    lines = ["i,t,m,ph,station", *(",".join(row) + ",7,007" for row in zip(*fields, strict=True))]
    folder = write_book(
        tmp_path,
        {
            "data/samples.csv": "\n".join(lines) + "\n",
            "book.toml": BOOK.replace("out/samples.csv", f"out/samples.{kind}"),
        },
    )
    said = run("apply", cwd=folder)
    target = folder / f"out/samples.{kind}"
    if kind == "csv":
        assert [line.split(",")[:3] for line in target.read_text().splitlines()[1:]] == [
            list(row) for row in zip(*fields, strict=True)
        ]
        return
    made = pq.read_table(target)
    assert made["i"].to_pylist() == [1234567890123456789, 1234567890123456790]
    assert [made[name].to_pylist() for name in "tm"] == [list(one) for one in fields[1:]]
    assert (
        "column t holds whole numbers that 64 bits do not hold, such as 12345678901234567890: it stays text"
        in said.out
    )


def test_a_blank_line_in_a_file_of_one_column_is_a_missing_value(tmp_path):
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "t.csv"\ncolumns = ["c"]\n',
            "d.csv": "x\na\n\nb\n\n",
            "tables/c.toml": 'inputs.x = "text"\noutputs.c = "text"\nmissing = { c = "none" }\nrows = [["a | b", "C"]]\n',
        },
    )
    report = kivvet.open_book(folder).apply_dataset("d")
    assert (folder / "t.csv").read_text() == "x,c\na,C\n,none\nb,C\n,none\n"
    assert (report.rows, report.tables[0].missing) == (4, 2)


# What a target holds is in its record


def test_types_that_a_table_gave_a_column_are_part_of_what_is_current(tmp_path):
    entry = '{ table = "code", write = false }'
    folder = write_book(
        tmp_path,
        {
            "book.toml": f'[datasets.d]\nsource = "d.csv"\ntarget = "t.parquet"\ncolumns = ["size", {entry}]\n',
            "d.csv": "x,code\n1,01\n2,02\n",
            "tables/size.toml": 'inputs.x = "integer"\noutputs.size = "text"\nrows = [["< 2", "s"], [">= 2", "l"]]\n',
            "tables/code.toml": 'inputs.code = "integer"\noutputs.c = "text"\nrows = [["< 2", "s"], [">= 2", "l"]]\n',
        },
    )
    book = folder / "book.toml"
    kivvet.open_book(folder).apply_dataset("d")
    assert pq.read_table(folder / "t.parquet")["code"].to_pylist() == [1, 2]
    before = book.read_text()
    book.write_text(before.replace(f", {entry}", ""))
    (one,) = kivvet.open_book(folder).status()
    assert (one.state, [reason.message for reason in one.reasons]) == (
        "stale",
        ["column code is read as text, and was as integer"],
    )
    book.write_text(
        before.replace(entry, '{ table = "code", write = false }').replace(
            "columns", 'types = { code = "integer" }\ncolumns'
        )
    )
    assert kivvet.open_book(folder).status()[0].state == "current"  # said in another place, the same
    book.write_text(before)
    code = folder / "tables/code.toml"
    code.write_text(
        code.read_text().replace('"integer"', '"text"').replace('"< 2"', '"01"').replace('">= 2"', '"02"')
    )
    assert kivvet.open_book(folder).status()[0].state == "stale"
    kivvet.open_book(folder).refresh()
    assert pq.read_table(folder / "t.parquet")["code"].to_pylist() == ["01", "02"]
    assert kivvet.open_book(folder).status()[0].state == "current"


# Proofs


FED = {
    "book.toml": '[datasets.a]\nsource = "a.csv"\ncolumns = ["visit"]\n\n[datasets.b]\nsource = "b.csv"\ncolumns = ["visit"]\n',
    "a.csv": "day\n2026-01-01\n2026-01-02\n",
    "formulas.toml": 'number = "RANK() OVER (ORDER BY day)"\n',
    "tables/visit.toml": 'inputs.number = "integer"\noutputs.visit = "text"\nrows = [["1", "first"], ["> 1", "repeat"]]\n',
}


def test_what_a_dataset_feeds_that_cannot_be_read_limits_nothing(tmp_path):
    folder = write_book(tmp_path, {**FED, "b.csv": "day\n2026-01-03\n"})
    assert "gap" not in {one.kind for one in kivvet.open_book(folder).check()}
    (folder / "b.csv").write_text("number\n0\n")  # read as a column of the source: anything may be in it
    assert "gap" in {one.kind for one in kivvet.open_book(folder).check()}
    (folder / "b.csv").unlink()
    assert "gap" in {one.kind for one in kivvet.open_book(folder).check()}


def test_a_frame_is_judged_by_itself(tmp_path):
    folder = write_book(tmp_path, {**FED, "b.csv": "day\n2026-01-03\n"})
    book = kivvet.open_book(folder)
    days = pd.DataFrame({"day": pd.to_datetime(["2026-01-01", "2026-01-02"])})
    assert list(book.apply(days, ["visit"])["visit"]) == ["first", "repeat"]
    with pytest.raises(kivvet.TableError, match="number < 1 is covered by no row"):
        book.apply(pd.DataFrame({"number": [0, 1]}), ["visit"])


def test_the_worst_pair_of_rows_that_meet_speaks_and_all_are_in_json():
    rows = [
        ["a", "b", "when", "y"],
        ["", "", "a * b < 10", "p"],
        ["> 50", "", "", "q"],
        ["> 70", "", "", "r"],
    ]
    report = TABLE("t", {"a": "number", "b": "number"}, Y, rows).check()
    certain, possible = report.of_kind("overlap")
    assert (certain.severity, certain.rows, certain.possible) == ("error", (2, 3, 1), False)
    assert [(one["rows"], one["possible"]) for one in certain.as_dict()["pairs"]] == [
        ([2, 3], False),
        ([1, 3], True),
    ]
    assert (possible.severity, possible.rows) == ("warning", (1, 2))


def test_gaps_over_computed_inputs_are_whole_and_their_examples_are_true():
    table = TABLE(
        "t", {"a": "number", "b": "number"}, Y, [["a", "b", "when", "y"], ["", "", "a + b < 10", "p"]]
    )
    (gap,) = table.check().of_kind("gap")
    assert gap.region == {"when": "a + b >= 10"}
    assert sum(float(gap.witness[name]) for name in "ab") >= 10
    mended = TABLE(
        "t",
        {"a": "number", "b": "number"},
        Y,
        [["a", "b", "when", "y"], ["", "", "a + b < 10", "p"], ["", "", gap.region["when"], "q"]],
    )
    assert not mended.check().of_kind("gap")


def test_counts_of_gaps_add_up_to_the_rows_that_fall_through(tmp_path):
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ncolumns = ["t"]\n',
            "d.csv": "a,b\n" + "".join(f"{a},{b}\n" for a in range(-3, 12) for b in range(-3, 12)),
            "tables/t.toml": 'inputs.a = "number"\ninputs.b = "number"\noutputs.t = "text"\n'
            'rows = [["a", "b", "when", "t"], ["< 5", "", "a + b < 10", "p"], ["", "< 0", "a + b >= 10", "q"]]\n',
        },
    )
    report = kivvet.open_book(folder).check()
    gaps = report.of_kind("gap")
    falls = sum(
        not ((a < 5 and a + b < 10) or (b < 0 and a + b >= 10)) for a in range(-3, 12) for b in range(-3, 12)
    )
    assert len(gaps) > 1 and sum(one.count for one in gaps) == falls


def test_a_row_that_texts_of_another_shape_reach_is_not_shadowed():
    rows = [['["a9", "b5")', "r"], ["(b* to z*) | missing", "r"], ['>="b100"', "p"]]
    table = TABLE("t", {"x": {"type": "text", "shape": "a9"}}, Y, rows, match="first")
    assert not table.check().of_kind("shadowed")
    assert applied(table, x=["zz", "a95", None]) == ["p", "r", "r"]


def test_rows_that_meet_off_the_shape_only_are_an_overlap():
    table = TABLE("t", {"x": {"type": "text", "shape": "a9"}}, Y, [['>= "b"', "p"], ['"zz"', "q"]])
    (overlap,) = table.check().of_kind("overlap")
    assert overlap.witness == {"x": "zz"}


def test_holes_of_lookups_with_several_ranges_are_found():
    inputs = {
        "k": "text",
        "w": {"type": "number", "from": "a", "to": "b", "ends": "[)"},
        "d": {"type": "date", "from": "c", "to": "e"},
    }
    day = dt.date
    rows = [
        {"k": "x", "a": 0, "b": 10, "c": day(2025, 1, 1), "e": day(2025, 12, 31), "p": 1.0},
        {"k": "x", "a": 0, "b": 20, "c": day(2026, 1, 1), "e": day(2026, 12, 31), "p": 2.0},
        {"k": "y", "a": 0, "b": 20, "c": day(2026, 1, 1), "e": day(2026, 12, 31), "p": 2.0},
    ]
    (gap,) = TABLE("t", inputs, {"p": "number"}, lookup=rows).check().of_kind("gap")
    assert gap.region == {"k": "x", "w": "10 to <20", "d": "2025-01-01 to 2025-12-31"}
    assert gap.witness == {"k": "x", "w": "10", "d": "2025-01-01"}
    complete = [*rows, {"k": "x", "a": 10, "b": 20, "c": day(2025, 1, 1), "e": day(2025, 12, 31), "p": 3.0}]
    assert not TABLE("t", inputs, {"p": "number"}, lookup=complete).check().of_kind("gap")


def test_moments_between_two_microseconds_are_a_gap():
    rows = [["<= 2026-01-01 10:00", "a"], [">= 2026-01-01 10:00:00.000001", "b"]]
    (gap,) = TABLE("t", {"x": "datetime"}, Y, rows).check().of_kind("gap")
    assert gap.region == {"x": ">2026-01-01 10:00 to <2026-01-01 10:00:00.000001"}
    assert gap.witness == {"x": "2026-01-01 10:00:00.000000001"}
    between = pa.array([1767261600000000001], pa.timestamp("ns"))
    noted = TABLE("t", {"x": "datetime"}, Y, rows, severity={"gap": "note"})
    assert applied(noted, x=between) == [None]


# Targets


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({"target": "tables/ph_class.toml.csv"}, "within the folder of the book's tables"),
        ({"target": "tables/station.csv"}, "the rows of table station"),
        ({"target": "link.csv", "link": "tables/station.csv"}, "the rows of table station"),
        ({"target": "link.csv", "hard": "tables/station.csv"}, "the rows of table station"),
        ({"target": "link/samples.csv", "link_folder": "tables"}, "within the folder of the book's tables"),
        ({"target": ".kivvet/samples.csv"}, "within Kivvet's own folder"),
    ],
)
def test_a_target_is_never_a_file_of_the_book_or_a_source(tmp_path, run, changes, said):
    other = '\n[datasets.other]\nsource = "data/other.csv"\n'
    folder = write_book(
        tmp_path / "book",
        {
            "book.toml": BOOK.replace("out/samples.csv", changes["target"]) + other,
            "data/other.csv": "a\n1\n",
        },
    )
    if "link" in changes:
        (folder / "link.csv").symlink_to(folder / changes["link"])
    if "hard" in changes:
        os.link(folder / changes["hard"], folder / "link.csv")
    if "link_folder" in changes:
        (folder / "link").symlink_to(folder / changes["link_folder"])
    before = {path: path.read_bytes() for path in folder.rglob("*") if path.is_file()}
    ran = run("apply", "samples", cwd=folder)
    assert ran.code == 1 and said in ran.err
    assert said in run("check", "--no-data", cwd=folder).out
    assert {path: path.read_bytes() for path in folder.rglob("*") if path.is_file()} == before


def test_two_datasets_do_not_write_one_target(tmp_path, run):
    folder = write_book(tmp_path, {"book.toml": BOOK + BOOK.split("\n", 2)[2].replace("samples]", "again]")})
    ran = run("apply", cwd=folder)
    assert ran.code == 1 and "is the target of dataset samples too" in ran.err


def test_a_file_that_kivvet_never_wrote_is_replaced_only_when_asked(tmp_path, run):
    folder = write_book(tmp_path, {"out/samples.csv": "mine\n"})
    for command in ("apply", "refresh"):
        ran = run(command, cwd=folder)
        assert ran.code == 2 and "was not written by Kivvet" in ran.err
        assert (folder / "out/samples.csv").read_text() == "mine\n"
    assert run("apply", "--replace", cwd=folder).code == 0
    assert run("apply", cwd=folder).code == 0  # from now on it is Kivvet's


# Values that are copied, options that are repeated, rows that wait


LOOKUP = [{"k": "a", "y": "A"}, {"k": "b", "y": None}]


@pytest.mark.parametrize(
    "table",
    [
        TABLE("t", {"x": "text"}, Y, [["a", "A"], ["b", ""]]),
        TABLE("t", {"k": "text"}, Y, lookup=LOOKUP),
        TABLE("t", {"a": "number", "b": "number"}, Y, [["a", "b", "when", "y"], ["", "", "a < b", "p"]]),
    ],
)
def test_a_copy_is_the_same_table(table):
    table.check()
    for made in (pickle.loads(pickle.dumps(table)), copy.copy(table), copy.deepcopy(table)):
        assert made == table and hash(made) == hash(table)
        assert made.check().findings == table.check().findings
        assert str(made) == str(table)
    assert pickle.loads(pickle.dumps(UNFINISHED)) is UNFINISHED


def test_a_table_of_a_book_can_be_pickled_with_its_places(small_book):
    table = kivvet.open_book(small_book).table("station")
    made = pickle.loads(pickle.dumps(table))
    assert made == table and made._table.place == table._table.place
    assert value_of(made).lookup.locate_row(2) == value_of(table).lookup.locate_row(2) is not None


def test_an_option_given_twice_is_used_or_refused(survey, run):
    ran = run("draft", "x", "--on", "samples", "--column", "ph", "--output", "y", "--output", "z", cwd=survey)
    assert ran.code == 2 and "--output is given 2 times" in ran.err
    ran = run("draft", "x", "--on", "samples", "--key", "station", "--bounds", "1", cwd=survey)
    assert ran.code == 2 and "--bounds has no meaning with --key" in ran.err
    ran = run(
        "draft",
        "x",
        "--on",
        "tables/nitrate_limit.csv",
        "--key",
        "water_type",
        "--key",
        "valid_from",
        cwd=survey,
    )
    assert ran.code == 0, ran.err
    assert [one.name for one in kivvet.open_book(survey).table("x").inputs] == ["water_type", "valid_from"]


def test_rows_to_be_filled_in_are_counted_apart_and_otherwise_answers_for_them(tmp_path, run):
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "t.csv"\ncolumns = [{ table = "c", status = "how" }, { table = "l", status = "found" }]\n',
            "d.csv": 'x\na\nb\nb\nz\n""\n',
            "tables/c.toml": 'inputs.x = "text"\noutputs.c = "text"\notherwise = { c = "rest" }\nrows = [["a", "A"], ["b", ""]]\n',
            "tables/l.toml": 'inputs.x = "text"\noutputs.n = "integer"\noutputs.m = "text"\nlookup = "l.csv"\n',
            "tables/l.csv": "x,n,m\na,1,\nb,,\n",
        },
    )
    book = kivvet.open_book(folder)
    report = book.apply_dataset("d")
    assert (folder / "t.csv").read_text().splitlines()[1:] == [
        "a,A,matched,1,,matched",
        "b,rest,unfinished,,,unfinished",
        "b,rest,unfinished,,,unfinished",
        "z,rest,unmatched,,,unmatched",
        '"",,missing,,,missing'.replace('""', ""),
    ]
    for one in report.tables:
        assert (one.matched, one.unfinished, one.missing, one.unmatched) == (1, 2, 1, 1)
        assert one.unfinished_values == (("b", 2),)
    assert [(one.value, one.rows, one.is_unfinished) for one in book.unmatched() if one.table == "c"] == [
        ("z", 1, False),
        ("b", 2, True),
    ]
    said = run("apply", cwd=folder).out
    assert "matched 1 + unfinished 2 + missing 1 + unmatched 1 = 5" in said
    assert "unfinished  'b' (2); their rows are still to be filled in: c" in said
    assert "rows still to be filled in" in run("unmatched", cwd=folder).out
    assert book.explain("d", 2)[0].decided == "unfinished" and book.explain("d", 2)[0].results == {
        "c": "rest"
    }
    unfinished = [one for one in book.check() if one.kind == "unfinished" and one.table == "c"]
    assert [one.count for one in unfinished] == [2]


def test_a_cure_for_two_columns_of_one_name_keeps_all_that_was_there(tmp_path):
    lookup = {
        "tables/l.toml": 'inputs.k = "text"\noutputs.v = "text"\noutputs.w = "text"\nlookup = "l.csv"\n',
        "tables/l.csv": "k,v,w\na,1,2\n",
    }
    folder = write_book(
        tmp_path,
        {
            **lookup,
            "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "t.csv"\ncolumns = [{ table = "l", input = { k = "key" }, status = "how" }]\n',
            "d.csv": "key,v\na,old\n",
        },
    )
    with pytest.raises(kivvet.TableError) as error:
        kivvet.open_book(folder).apply_dataset("d")
    cure = error.value.findings[0].remedy.removeprefix("rename it: ")
    assert cure == '{ table = "l", input = { k = "key" }, keep = [{ v = "v_class" }, "w"], status = "how" }'
    (folder / "book.toml").write_text(
        f'[datasets.d]\nsource = "d.csv"\ntarget = "t.csv"\ncolumns = [{cure}]\n'
    )
    kivvet.open_book(folder).apply_dataset("d")
    assert (folder / "t.csv").read_text() == "key,v,v_class,w,how\na,old,1,2,matched\n"
    with pytest.raises(
        kivvet.TableError,
        match=r"fix.*'keep': \[\{'v': 'v_class'\}, 'w'\]",
    ):
        kivvet.open_book(folder).apply(pd.DataFrame({"k": ["a"], "v": ["x"]}), ["l"])
