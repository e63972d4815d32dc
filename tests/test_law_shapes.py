"""Tables of every shape over any rows: what a file gets, what a frame of each kind gets and what `explain` says of each row is what
a loop over rows and rules gives.
"""

from __future__ import annotations

import datetime as dt
import shutil
import tempfile
from contextlib import contextmanager
from pathlib import Path

import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from tests.conftest import budget

DAY = dt.date(2026, 3, 1)
KINDS, ANSWERS = ("lake", "brook"), ("yes", "Yes ", "no", " NO", "maybe", None)
CODES = ("A00", "A07", "A15", "A99", "B20", "B5", "a07", "C100", None)
COLUMNS = [
    '{ table = "limit", status = "limit_how", row = "limit_row" }',
    '"tags"',
    '"points"',
    '"flags"',
    '{ table = "area", status = "area_how" }',
    '{ table = "answer", over = ["q1", "q2"], keep = { answer = "{input}_label" } }',
    '{ table = "decided", row = "decided_row" }',
    '{ indicators = "area", name = "is_{class}", rest = "is_nowhere" }',
]
BOOK = """\
[datasets.d]
source  = "d.parquet"
target  = "out/d.parquet"
columns = [{columns}]
{where}
"""
#: Cells of whole numbers, and what they mean.
CELLS = {
    "< 5": lambda x: x < 5,
    "5 to 9": lambda x: 5 <= x <= 9,
    ">= 8": lambda x: x >= 8,
    "3": lambda x: x == 3,
    "not 3": lambda x: x != 3,
    "1 | 7 | 11": lambda x: x in (1, 7, 11),
    "(2, 6]": lambda x: 2 < x <= 6,
    "> 20": lambda x: False,
}
#: Ranges of codes of a letter and two digits, and whether one of that shape lies there.
RANGES = {
    "A00* to A09*": lambda code: "A00" <= code[:3] <= "A09",
    "A10* to A99*": lambda code: "A10" <= code[:3] <= "A99",
    "B*": lambda code: code.startswith("B"),
    "C10*": lambda code: code.startswith("C10"),
}

rows = st.fixed_dictionaries(
    {
        "x": st.one_of(st.none(), st.integers(0, 12)),
        "y": st.one_of(st.none(), st.integers(0, 12)),
        "kind": st.sampled_from((*KINDS, "ditch", None)),
        "day": st.one_of(st.none(), st.integers(0, 40).map(lambda n: DAY + dt.timedelta(n))),
        "code": st.sampled_from(CODES),
        "q1": st.sampled_from(ANSWERS),
        "q2": st.sampled_from(ANSWERS),
    }
)
cuts = st.lists(st.integers(0, 40), min_size=1, max_size=4, unique=True).map(sorted)


@st.composite
def rules(draw):
    """What each table holds, as plain values."""
    periods = []  # of a kind from a day to the next cut, some left out
    for kind in KINDS:
        days = draw(cuts)
        ends = [*days[1:], None]
        for n, (day, end) in enumerate(zip(days, ends, strict=True)):
            if n == 0 or draw(st.booleans()):
                periods.append(
                    (kind, DAY + dt.timedelta(day), None if end is None else DAY + dt.timedelta(end), n + 1)
                )
    cells = st.sampled_from(sorted(CELLS))
    return {
        "limit": draw(st.permutations(periods)),
        "tags": draw(st.lists(st.tuples(cells, st.sampled_from(("low", "mid", "high"))), min_size=1, max_size=5)),
        "points": draw(st.lists(st.tuples(cells, st.integers(-3, 5)), min_size=1, max_size=4)),
        "area": draw(st.lists(st.sampled_from(sorted(RANGES)), min_size=1, max_size=3, unique=True)),
        "decided": draw(st.lists(st.sampled_from(("x > y", "x + y >= 12", "x IS NULL", "y = 3 OR x < 2", "NOT x = y")), max_size=3)),
    }  # fmt: skip


def files(rules, columns, where):
    limit = "".join(
        f"{kind},{since},{'' if until is None else until},{n}\n" for kind, since, until, n in rules["limit"]
    )
    tags = [list(one) for one in rules["tags"]]
    noted = 'severity = { gap = "note", shadowed = "note", duplicate = "note", impossible = "note", unused = "note" }\n'
    decided = [["", "", when, f"by {n}"] for n, when in enumerate(rules["decided"], 1)]
    number = 'inputs.x = "integer"\n'
    return {
        "tables/limit.csv": "kind,since,until,limit\n" + limit,
        "tables/limit.toml": 'inputs.kind = "text"\ninputs.day = { type = "date", from = "since", to = "until", ends = "[)" }\n'
        'outputs.limit = "integer"\nlookup = "limit.csv"\n' + noted,
        "tables/tags.toml": f'{noted}{number}match = "every"\noutputs.tags = {{ type = "text", combine = "join", separator = "+" }}\nrows = {tags}\n',
        "tables/points.toml": f'{noted}{number}match = "every"\noutputs.points = {{ type = "integer", combine = "sum" }}\n'
        f"rows = {[[cell, str(n)] for cell, n in rules['points']]}\n",
        "tables/flags.toml": f'{noted}{number}match = "every"\noutputs.is = {{ type = "text", combine = "flags" }}\nrows = {tags}\n',
        "tables/area.toml": f'{noted}inputs.code = {{ type = "text", shape = "A99" }}\noutputs.area = "text"\n'
        f"rows = {[[cell, cell[0].lower() + str(n)] for n, cell in enumerate(rules['area'])]}\n",
        "tables/answer.toml": f'{noted}inputs.answer = {{ type = "text", fold = ["case", "space"] }}\noutputs.answer = "text"\n'
        'missing.answer = "none"\notherwise.answer = "other"\nrows = [["yes", "y"], ["no", "n"]]\n',
        "tables/decided.toml": f'{noted}inputs.x = "integer"\ninputs.y = "integer"\noutputs.decided = "text"\nmatch = "first"\n'
        f'rows = {[["x", "y", "when", "decided"], *decided, ["missing", "", "", "no x"], ["", ">= 3", "", "some"], ["", "", "", "rest"]]}\n',
        "book.toml": BOOK.format(columns=", ".join(columns), where=where),
    }  # fmt: skip


# The loop


def limit_of(rules, row):
    if row["kind"] is None or row["day"] is None:
        return None, "missing", None
    for number, (kind, since, until, n) in enumerate(rules["limit"], 1):
        if kind == row["kind"] and since <= row["day"] and (until is None or row["day"] < until):
            return n, "matched", number
    return None, "no-period" if row["kind"] in KINDS else "unmatched", None


def area_of(rules, code):
    if code is None:
        return None, "missing"
    is_shaped = len(code) >= 3 and code[0].isupper() and code[1:3].isdigit()
    for n, cell in enumerate(rules["area"]):
        if RANGES[cell](code) and (is_shaped or "to" not in cell):
            return cell[0].lower() + str(n), "matched"
    return None, "unmatched"


def answer_of(text):
    if text is None:
        return "none"
    return {"yes": "y", "no": "n"}.get(text.strip().lower(), "other")


def decided_by(rules, x, y):
    there = x is not None and y is not None
    holds = {
        "x > y": there and x > y,
        "x + y >= 12": there and x + y >= 12,
        "x IS NULL": x is None,
        "y = 3 OR x < 2": y == 3 or (x is not None and x < 2),
        "NOT x = y": there and x != y,
    }
    for n, when in enumerate(rules["decided"], 1):
        if holds[when]:
            return f"by {n}", n
    n = len(rules["decided"])
    return ("no x", n + 1) if x is None else ("some", n + 2) if y is not None and y >= 3 else ("rest", n + 3)


def of_every(pairs, x):
    return [] if x is None else [result for cell, result in pairs if CELLS[cell](x)]


def made_of(rules, row):
    """All that is added to a row."""
    limit, how, by = limit_of(rules, row)
    area, area_how = area_of(rules, row["code"])
    tags, points = of_every(rules["tags"], row["x"]), of_every(rules["points"], row["x"])
    decided, number = decided_by(rules, row["x"], row["y"])
    classes = list(dict.fromkeys(tag for _, tag in rules["tags"]))
    areas = [cell[0].lower() + str(n) for n, cell in enumerate(rules["area"])]
    return {
        "limit": limit,
        "limit_how": how,
        "limit_row": by,
        "tags": "+".join(dict.fromkeys(tags)) or None,
        "points": sum(points) if points else None,
        **{f"is_{name}": None if row["x"] is None else name in tags for name in classes},
        "area": area,
        "area_how": area_how,
        "q1_label": answer_of(row["q1"]),
        "q2_label": answer_of(row["q2"]),
        "decided": decided,
        "decided_row": number,
        **{f"is_{name}": int(area == name) for name in areas},
        "is_nowhere": int(area is None),
    }


@contextmanager
def book_of(rules, data, columns=COLUMNS, where=""):
    folder = Path(tempfile.mkdtemp())
    try:
        for name, text in files(rules, columns, where).items():
            (folder / name).parent.mkdir(exist_ok=True)
            (folder / name).write_text(text)
        pq.write_table(table_of(data), folder / "d.parquet", row_group_size=3)
        yield kivvet.open_book(folder), folder
    finally:
        shutil.rmtree(folder)


def table_of(data):
    types = {"x": pa.int64(), "y": pa.int64(), "day": pa.date32()}
    return pa.table(
        {name: pa.array([row[name] for row in data], types.get(name, pa.string())) for name in data[0]}
    )


@settings(max_examples=budget(40), deadline=None)
@given(rules(), st.lists(rows, min_size=1, max_size=9))
def test_a_file_gets_what_a_loop_gives(rules, data):
    with book_of(rules, data) as (book, folder):
        report = book.apply_dataset("d")
        wanted = [made_of(rules, row) for row in data]
        held = pq.read_table(folder / "out/d.parquet").select(list(wanted[0])).to_pylist()
        assert held == wanted
        assert report.rows == len(data)
        for told in report.tables:
            assert told.matched + told.unfinished + told.missing + told.unmatched == told.rows == len(data)
            if told.table in ("limit", "area"):
                how = [row[f"{told.table}_how"] for row in wanted]
                assert told.matched == how.count("matched") and told.missing == how.count("missing")
                assert told.no_period == how.count("no-period")
                assert told.unmatched == how.count("no-period") + how.count("unmatched")
            if told.table == "decided":
                by = [row["decided_row"] for row in wanted]
                assert told.rows_by_row == tuple(by.count(n) for n in range(1, len(rules["decided"]) + 4))
            if told.table == "tags":
                gathered = [of_every(rules["tags"], row["x"]) for row in data]
                assert told.several == sum(len(one) > 1 for one in gathered)
                assert told.matched == sum(bool(one) for one in gathered)
        assert book.status(["d"])[0].state == "current"


@settings(max_examples=budget(25), deadline=None)
@given(rules(), st.lists(rows, min_size=1, max_size=6), st.sampled_from(("Arrow", "pandas", "polars")))
def test_a_frame_gets_what_a_loop_gives(rules, data, kind):
    with book_of(rules, data) as (book, _):
        entries = ["tags", "points", {"table": "limit", "status": "limit_how"}, {"table": "area", "status": "area_how"}, "decided"]  # fmt: skip
        frame = table_of(data)
        frame = {"Arrow": lambda: frame, "pandas": frame.to_pandas, "polars": lambda: pl.DataFrame(frame)}[
            kind
        ]()
        made = book.apply(frame, entries)
        names = ["tags", "points", "limit", "limit_how", "area", "area_how", "decided"]
        table = (
            made if kind == "Arrow" else pa.table(made) if kind == "polars" else pa.Table.from_pandas(made)
        )
        wanted = [made_of(rules, row) for row in data]
        assert table.select(names).to_pylist() == [{name: row[name] for name in names} for row in wanted]


@settings(max_examples=budget(15), deadline=None)
@given(rules(), st.lists(rows, min_size=1, max_size=4))
def test_each_row_is_explained_as_it_was_decided(rules, data):
    with book_of(rules, data) as (book, _):
        for number, row in enumerate(data, 1):
            wanted = made_of(rules, row)
            for one in book.explain("d", number):
                if one.table in ("limit", "area", "decided"):
                    assert one.results[one.table] == wanted[one.table], one
                if one.table in ("limit", "area"):
                    assert one.decided == wanted[f"{one.table}_how"], one
                if one.table == "decided":
                    assert one.rows == (wanted["decided_row"],), one
                if one.table in ("tags", "points"):
                    assert len(one.rows) == len(of_every(rules[one.table], row["x"])), one


@settings(max_examples=budget(20), deadline=None)
@given(rules(), st.lists(rows, min_size=1, max_size=9), st.sampled_from(("tags IS NOT NULL", "points > 2", "limit_how = 'matched'", "decided <> 'rest' AND x < 9")))  # fmt: skip
def test_rows_that_are_kept_are_those_of_a_loop(rules, data, where):
    def is_kept(row, made):
        points, x = made["points"], row["x"]
        return {
            "tags IS NOT NULL": made["tags"] is not None,
            "points > 2": points is not None and points > 2,
            "limit_how = 'matched'": made["limit_how"] == "matched",
            "decided <> 'rest' AND x < 9": made["decided"] != "rest" and x is not None and x < 9,
        }[where]

    with book_of(rules, data, where=f'where = "{where}"') as (book, folder):
        report = book.apply_dataset("d")
        kept = [(row, made) for row in data if is_kept(row, made := made_of(rules, row))]
        table = pq.read_table(folder / "out/d.parquet")
        assert table.select(list(data[0])).to_pylist() == [row for row, _ in kept]
        assert [row["tags"] for row in table.to_pylist()] == [made["tags"] for _, made in kept]
        assert (report.rows, report.left_out) == (len(data), len(data) - len(kept))
        shown = book.show("d", columns=["x", "decided"], first=100)
        assert len(shown) == len(kept)
        counted = book.cross_table("d", by=["decided"])
        assert sum(counted.cell(line).values[0] for line in counted.lines if line and line[0].kind == "value") == len(kept)  # fmt: skip


@pytest.mark.parametrize("column", COLUMNS)
def test_each_entry_alone_makes_what_it_makes_among_others(column):
    drawn = [{"x": n % 13 if n % 4 else None, "y": (n * 5) % 13, "kind": (*KINDS, None)[n % 3], "day": DAY + dt.timedelta(n), "code": CODES[n % 9], "q1": ANSWERS[n % 6], "q2": ANSWERS[(n * 2) % 6]} for n in range(40)]  # fmt: skip
    some = {
        "limit": [("lake", DAY, DAY + dt.timedelta(9), 1), ("lake", DAY + dt.timedelta(9), None, 2), ("brook", DAY, None, 3)],
        "tags": [("< 5", "low"), ("(2, 6]", "mid"), ("not 3", "high")],
        "points": [(">= 8", 2), ("5 to 9", -1)],
        "area": ["A10* to A99*", "B*"],
        "decided": ["x > y"],
    }  # fmt: skip
    alone = [COLUMNS[4], column] if "indicators" in column else [column]
    with book_of(some, drawn, columns=alone) as (book, folder):
        book.apply_dataset("d")
        table = pq.read_table(folder / "out/d.parquet")
        made = [name for name in table.column_names if name not in drawn[0]]
        wanted = [made_of(some, row) for row in drawn]
        assert made and table.select(made).to_pylist() == [
            {name: row[name] for name in made} for row in wanted
        ]
