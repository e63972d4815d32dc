"""Rows that are no data are found, proposed and left out as a file is read; nothing that is data ever is."""

from __future__ import annotations

import csv
import datetime as dt
import io
import random
from decimal import Decimal

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.book import look_at
from kivvet.io.csv_source import CsvSource
from kivvet.io.recognise import recognise
from kivvet.io.source_and_target import ReadOptions

STATIONS = ("0042", "0044", "0019", "Elm 3", "Ash 1")
HEADINGS = ["station", "day", "load", "remark"]


def clean(rng, n_rows):
    """Rows as somebody measured them; days have no other pattern."""
    first = dt.date(2026, 3, 14)
    return [
        [
            rng.choice(STATIONS),
            f"{first + dt.timedelta(days=rng.randint(0, 15)):%d.%m.%Y}",
            str(Decimal(rng.randint(1, 999)) / 10),
            rng.choice(["", "", "low", "ice"]),
        ]
        for _ in range(n_rows)
    ]


def written(rows, delimiter=",", headings=HEADINGS):
    out = io.StringIO()
    csv.writer(out, delimiter=delimiter, lineterminator="\n").writerows([headings, *rows])
    return out.getvalue()


def total(rows):
    return str(sum(Decimal(row[2]) for row in rows))


#: What people put into such files besides, each as a change of a text of lines.
DIRT = {
    "titles": lambda rng, lines, rows, d: ["Logger 12, river Elm", "exported by hand", *lines],
    "units": lambda rng, lines, rows, d: [lines[0], f"{d}{d}kg/d{d}", *lines[1:]],
    "blank rows": lambda rng, lines, rows, d: [*lines[:3], d * 3, *lines[3:], d * 3],
    "blank lines": lambda rng, lines, rows, d: [*lines[:3], "", *lines[3:], "", ""],
    "repeated headings": lambda rng, lines, rows, d: [*lines[:4], lines[0], *lines[4:]],
    "total": lambda rng, lines, rows, d: [*lines, f"Total{d}{d}{total(rows)}{d}"],
    "subtotals": lambda rng, lines, rows, d: [
        *lines[:5],
        f"Subtotal{d}{d}{total(rows[:4])}{d}",
        *lines[5:],
        f"Subtotal{d}{d}{total(rows[4:])}{d}",
    ],
    "notes": lambda rng, lines, rows, d: [*lines, "", "* preliminary values", "** by the keeper"],
    "notes in the first column": lambda rng, lines, rows, d: [*lines, f"Values are not yet checked{d}{d}{d}"],
}
ORDER = ("blank rows", "repeated headings", "subtotals", "total", "units", "blank lines", "notes", "titles")


def dirtied(rng, rows, kinds, delimiter):
    lines = written(rows, delimiter).splitlines()
    for kind in kinds:
        lines = DIRT[kind](rng, lines, rows, delimiter)
    return "\n".join(lines) + "\n"


def looked(path):
    made = look_at(None, path)
    return made.rows, [(one.name, one.type, one.values, one.missing) for one in made.columns]


@pytest.mark.parametrize("kind", DIRT)
@pytest.mark.parametrize("delimiter", [";", ","])
def test_a_dirty_file_is_read_as_its_clean_copy_by_a_newcomer_in_two_commands(kind, delimiter, tmp_path, run):
    rng = random.Random(kind)
    rows = clean(rng, 12)
    for name, kinds in (("clean", []), ("dirty", [kind])):
        (tmp_path / f"{name}.csv").write_text(dirtied(rng, rows, kinds, delimiter))
    (tmp_path / "book.toml").write_text("")
    (tmp_path / "tables").mkdir()
    (tmp_path / "tables/band.toml").write_text(
        'inputs.load = { type = "number", step = 0.1 }\noutputs.band = "text"\nrows = [["< 50", "low"], [">= 50", "high"]]\n'
    )
    (tmp_path / "formulas.toml").write_text('share = "load / SUM(load) OVER ()"\n')
    made = {}
    for name in ("clean", "dirty"):
        added = run("add", name, f"{name}.csv", "--apply", "band", "--apply", "share", cwd=tmp_path)
        assert added.code == 0 and run("apply", name, cwd=tmp_path).code == 0, added.err
        made[name] = kivvet.open_book(tmp_path).show(name, first=100).to_dict("list")
    assert made["dirty"] == made["clean"]
    assert sum(made["clean"]["share"]) == pytest.approx(1)
    said = run("add", "again", "dirty.csv", cwd=tmp_path).out
    assert ("note" in said) == (kind not in ("titles", "blank lines")), said


@settings(deadline=None)
@given(st.randoms(use_true_random=False), st.sets(st.sampled_from(ORDER)), st.sampled_from(";,\t|"))
def test_whatever_dirt_there_is_the_file_looks_as_its_clean_copy(tmp_path_factory, rng, kinds, delimiter):
    folder = tmp_path_factory.mktemp("dirt")
    rows = clean(rng, rng.randint(9, 40))
    chosen = [kind for kind in ORDER if kind in kinds and not (kind == "total" and "subtotals" in kinds)]
    for name, of in (("clean", []), ("dirty", chosen)):
        (folder / f"{name}.csv").write_text(dirtied(rng, rows, of, delimiter))
    assert looked(folder / "dirty.csv") == looked(folder / "clean.csv"), (folder / "dirty.csv").read_text()


FIELDS = st.sampled_from(
    ["", " ", "a", "Total", "total", "7", "7.5", "-1", "kg", "two words", "x;y", "* note"]
)


@settings(deadline=None)
@given(st.lists(st.lists(FIELDS, min_size=3, max_size=3), min_size=1, max_size=25))
def test_a_row_that_was_proposed_to_be_left_out_is_said(tmp_path_factory, rows):
    path = tmp_path_factory.mktemp("said") / "d.csv"
    path.write_text(written(rows, headings=["a", "b", "c"]))
    found = recognise(path)
    left = found.options
    n_proposed = (
        bool(left.leave_out) + bool(left.skip_blank) + bool(left.skip_last) + bool(left.skip_below_headings)
    )
    assert sum("no data" in one or " in " in one or "repeat" in one for one in found.remarks) >= n_proposed


CONDITIONS = ["", "a = 'Total'", "a LIKE 'T%' OR b = '7'", "a IN ('a', 'kg') AND c IS NOT NULL", "b IS NULL"]


@settings(deadline=None)
@given(
    st.lists(st.lists(FIELDS, min_size=3, max_size=3), max_size=25),
    st.sampled_from(CONDITIONS),
    st.booleans(),
    st.integers(0, 3),
    st.integers(0, 4),
    st.sampled_from(["utf-8", "utf-16", "cp1252"]),
)
def test_what_is_left_out_is_what_a_loop_over_the_lines_leaves_out(
    tmp_path_factory, rows, condition, skips_blank, below, last, encoding
):
    path = tmp_path_factory.mktemp("loop") / "d.csv"
    text = written(rows, headings=["a", "b", "c"])
    path.write_bytes(text.encode(encoding))
    options = ReadOptions(
        encoding, skip_below_headings=below, skip_last=last, skip_blank=skips_blank, leave_out=condition
    )
    source = CsvSource(path, options)
    lines = text.splitlines()
    end = len(lines) - last
    expected, places, left_out = [], [], {}
    for number, record in enumerate(rows, 1):
        if number <= below or number >= end:
            continue
        a, b, c = (field.strip() for field in record)
        holds = {
            "": False,
            CONDITIONS[1]: a == "Total",
            CONDITIONS[2]: a.startswith("T") or b == "7",
            CONDITIONS[3]: a in ("a", "kg") and bool(c),
            CONDITIONS[4]: not b,
        }[condition]
        if skips_blank and not (a or b or c):
            left_out["all fields are blank"] = left_out.get("all fields are blank", 0) + 1
        elif holds:
            left_out[condition] = left_out.get(condition, 0) + 1
        else:
            expected.append(record)
            places.append(number + 1)
    for names in (None, ["c"]):
        found = [list(row.values()) for batch in source.batches(names) for row in batch.to_pylist()]
        assert found == [row if names is None else row[2:] for row in expected]
    assert source.rows_left_out() == left_out
    assert CsvSource(path, options).rows_left_out() == left_out
    assert [source.line_of_row(row) for row in range(1, len(expected) + 1)] == places


@pytest.mark.parametrize(
    ("said", "told"),
    [
        ("leave_out = \"stationn = 'x'\"", "did you mean 'station'?"),
        ('leave_out = "load > 3"', "as the texts they are"),
        ('leave_out = "COUNT(*) OVER () > 3"', "one row alone"),
        ('leave_out = "station"', "is a condition"),
        ('leave_out = "station ="', "ends too soon"),
        ("leave_out = 3", "leave_out is a condition"),
        ("skip_last = -1", "is a number of lines"),
        ("skip_blank = 1", "skip_blank is true or false"),
        ("skip_below_headings = true", "is a number of lines"),
    ],
)
def test_options_that_leave_nothing_sensible_out_are_explained(said, told, tmp_path, run):
    (tmp_path / "book.toml").write_text(f'[datasets.d]\nsource = "d.csv"\ntarget = "o.csv"\n{said}\n')
    (tmp_path / "d.csv").write_text(written(clean(random.Random(1), 5)))
    ran = run("apply", cwd=tmp_path)
    assert ran.code != 0 and told in ran.err and not (tmp_path / "o.csv").exists()


def test_a_rule_that_leaves_every_row_out_is_told_and_one_that_leaves_out_more_than_last_time(tmp_path, run):
    rows = clean(random.Random(2), 6)
    (tmp_path / "d.csv").write_text(written(rows))
    entry = '[datasets.d]\nsource = "d.csv"\ntarget = "o.csv"\ncolumns = []\nleave_out = "{}"\n'
    (tmp_path / "book.toml").write_text(entry.format("station = 'Total'"))
    assert "no data" not in run("apply", cwd=tmp_path).out
    (tmp_path / "d.csv").write_text(written([*rows, ["Total", "", "1", ""]]))
    out = run("refresh", cwd=tmp_path).out
    assert "no data  1 row of the file left out: station = 'Total' 1" in out and "that are no data: +1" in out
    (tmp_path / "book.toml").write_text(entry.format("station IS NOT NULL OR load IS NOT NULL"))
    out = run("refresh", cwd=tmp_path).out
    assert "every row of the file is left out" in out
    assert (tmp_path / "o.csv").read_text() == "station,day,load,remark\n"


def test_a_lookup_and_rows_of_conditions_leave_out_what_is_no_data(tmp_path):
    (tmp_path / "book.toml").write_text("")
    (tmp_path / "tables").mkdir()
    (tmp_path / "tables/keys.csv").write_text("code,name\n,text\na,one\nb,two\nTotal,2\n* by hand,\n")
    options = "skip_below_headings = 1\nskip_last = 1\nleave_out = \"code = 'Total'\"\n"
    (tmp_path / "tables/keys.toml").write_text(
        f'inputs.code = "text"\noutputs.name = "text"\nlookup = "keys.csv"\n{options}'
    )
    (tmp_path / "tables/rules.csv").write_text("code,name\n,text\na,one\nb | c,two\nTotal,2\n* by hand,\n")
    (tmp_path / "tables/rules.toml").write_text(
        f'inputs.code = "text"\noutputs.name = "text"\nrows = "rules.csv"\n{options}'
    )
    book = kivvet.open_book(tmp_path)
    assert not [one for one in book.check(data=False) if one.severity == "error" and one.kind != "gap"]
    assert book.table("keys").n_rows == book.table("rules").n_rows == 2


def month_book(folder, months, more=""):
    (folder / "m").mkdir()
    for name, text in months.items():
        (folder / "m" / name).write_text(text)
    (folder / "book.toml").write_text(
        f'[datasets.m]\nsource = "m/*.csv"\ntarget = "o.csv"\ncolumns = []\n{more}\n'
    )
    return folder


@settings(deadline=None)
@given(
    st.randoms(use_true_random=False),
    st.integers(0, 4),
    st.sampled_from(["as is", "upper", "blanks", "signs"]),
)
def test_months_of_other_titles_orders_and_spellings_are_read_as_one(
    tmp_path_factory, rng, n_titles, spelled
):
    rows = clean(rng, 8)
    order = rng.sample(range(4), 4)
    heads = ["station no", "day", "load", "remark"]
    spell = {
        "as is": str,
        "upper": str.upper,
        "blanks": lambda name: f"  {name.replace(' ', '  ')} ",
        "signs": lambda name: name.replace(" ", "_"),
    }[spelled]
    second = written(
        [[row[at] for at in order] for row in rows[4:]], headings=[spell(heads[at]) for at in order]
    )
    if spelled == "signs" and n_titles:
        n_titles = 0  # titles are found by headings that differ by case and blanks alone
    titles = "".join(f"Month {number}, by hand\n" for number in range(n_titles))
    folder = month_book(
        tmp_path_factory.mktemp("months"),
        {"1.csv": written(rows[:4], headings=heads), "2.csv": titles + second},
        'types = { "station no" = "text" }',
    )
    kivvet.open_book(folder).apply_dataset("m")
    assert (folder / "o.csv").read_text() == written(rows, headings=heads)


@pytest.mark.parametrize(
    "headings", [["a", "b", "c", "d"], ["station", "b", "c", "d"], ["station", "day", "c", "d"]]
)
def test_a_month_that_shares_half_of_its_columns_or_less_is_an_error(tmp_path, run, headings):
    rows = clean(random.Random(3), 4)
    months = {"1.csv": written(rows), "2.csv": written(rows, headings=headings)}
    folder = month_book(tmp_path, months)
    ran = run("apply", cwd=folder)
    assert ran.code == 1 and "m/2.csv: has " in ran.err and "in common with m/1.csv, of 4 columns" in ran.err
    assert not (folder / "o.csv").exists()


def test_headings_that_are_read_otherwise_are_told(tmp_path, run):
    rows = clean(random.Random(4), 4)
    months = {"1.csv": written(rows), "2.csv": written(rows, headings=["Station", "day", "LOAD", "remark"])}
    told = run("check", "--in-full", cwd=month_book(tmp_path, months)).out
    assert "'Station' is read as 'station', 'LOAD' is read as 'load'" in told


@pytest.mark.parametrize("ends", ["rows", "headings", "both"])
@pytest.mark.parametrize("delimiter", [";", "\t", "|"])
def test_a_delimiter_at_the_end_of_lines_hides_neither_headings_nor_types(tmp_path, ends, delimiter):
    rows = clean(random.Random(5), 9)
    plain = tmp_path / "plain.csv"
    plain.write_text(written(rows, delimiter))
    head, *lines = written(rows, delimiter).splitlines()
    if ends != "headings":
        lines = [line + delimiter for line in lines]
    if ends != "rows":
        head += delimiter
    path = tmp_path / "ends.csv"
    path.write_text("\n".join(["Logger 12", head, *lines]) + "\n")
    assert recognise(path).options.headings_on_line == 2
    found = {one.name: (one.type, one.values) for one in look_at(None, path).columns}
    for one in look_at(None, plain).columns:
        assert found[one.name] == (one.type, one.values)
