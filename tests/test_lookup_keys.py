"""Lookups with several keys and with ranges: a loop over the rows is the referee."""

import datetime as dt
import itertools

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.classify import key_finders, key_match
from kivvet.core.compare.compare import changes_between
from kivvet.core.read.meaning import definition_of, table_of
from kivvet.core.words.errors import TableError
from kivvet.rule_table import rule_table, value_of
from tests.conftest import budget

thorough = settings(max_examples=budget(82), deadline=None, suppress_health_check=[HealthCheck.too_slow])
TEXTS = st.sampled_from(["a", "b", "A", "007", "7", "é", "longer than eight"])
NUMBERS = st.one_of(st.integers(-2, 3), st.sampled_from([2**40, -(2**40)]))
DAYS = st.integers(0, 12).map(lambda n: dt.date(2026, 2, 25) + dt.timedelta(n))
VALUES = {"text": TEXTS, "integer": NUMBERS, "date": DAYS, "number": st.integers(-4, 4).map(lambda n: n / 2)}
ARROW = {
    "text": pa.string(),
    "integer": pa.int64(),
    "date": pa.date32(),
    "number": pa.float64(),
    "boolean": pa.bool_(),
}


@st.composite
def lookups(draw, n_ranges):
    """A lookup of up to three keys and some ranges, as inputs, rows and data."""
    keys = draw(
        st.lists(
            st.sampled_from(["text", "integer", "date"]),
            min_size=0 if n_ranges else 1,
            max_size=2 if n_ranges else 3,
        )
    )
    ranges = draw(
        st.lists(st.sampled_from(["date", "number", "integer", "text"]), min_size=n_ranges, max_size=n_ranges)
    )
    inputs, fields = {}, {}
    for place, kind in enumerate(keys):
        inputs[f"k{place}"] = {
            "type": kind,
            **({"fold": ["case"]} if kind == "text" and draw(st.booleans()) else {}),
        }
        fields[f"k{place}"] = (
            st.one_of(VALUES[kind], VALUES[kind], st.none()) if draw(st.integers(0, 4)) == 0 else VALUES[kind]
        )
    for place, kind in enumerate(ranges):
        ends = draw(st.sampled_from(["[]", "[)", "(]", "()", "by row"]))
        by_row = {"from": f"lc{place}", "to": f"hc{place}"}
        inputs[f"r{place}"] = {
            "type": kind,
            "from": f"low{place}",
            "to": f"high{place}",
            "ends": by_row if ends == "by row" else ends,
        }
        fields[f"low{place}"] = fields[f"high{place}"] = st.one_of(
            VALUES[kind], VALUES[kind], VALUES[kind], st.none()
        )
        if ends == "by row":
            fields[f"lc{place}"] = fields[f"hc{place}"] = st.booleans()
    rows = draw(st.lists(st.fixed_dictionaries(fields), max_size=8))
    kinds = [*keys, *ranges]
    data = draw(
        st.lists(
            st.tuples(*(st.one_of(VALUES[kind], VALUES[kind], st.none()) for kind in kinds)), max_size=12
        )
    )
    types = {name: ARROW[inputs[name]["type"]] for name in inputs if name.startswith("k")}
    for place, kind in enumerate(ranges):
        types |= {
            f"low{place}": ARROW[kind],
            f"high{place}": ARROW[kind],
            f"lc{place}": pa.bool_(),
            f"hc{place}": pa.bool_(),
        }
    columns = {name: pa.array([row[name] for row in rows], types[name]) for name in fields}
    frame = pa.table({**columns, "y": pa.array(range(len(rows)), pa.int64())})
    table = kivvet.RuleTable(
        "t",
        inputs,
        {"y": "integer"},
        lookup=frame,
        match="first",
        otherwise={"y": -1},
        missing={"y": -2},
        severity={"blank-key": "note", "impossible": "note"},
    )
    read = pa.table(
        {
            name: pa.array([row[n] for row in data], ARROW[kind])
            for n, (name, kind) in enumerate(zip(inputs, kinds, strict=True))
        }
    )
    return table, inputs, rows, data, read


def key_meets(about, key, value):
    if key is None:
        return False
    return key.casefold() == value.casefold() if "fold" in about else key == value


def in_range(about, row, place, value):
    low, high = row[f"low{place}"], row[f"high{place}"]
    closed = {"[]": (True, True), "[)": (True, False), "(]": (False, True), "()": (False, False)}
    low_in, high_in = (
        (row[f"lc{place}"], row[f"hc{place}"]) if isinstance(about["ends"], dict) else closed[about["ends"]]
    )
    above = low is None or value > low or (low_in and value == low)
    return above and (high is None or value < high or (high_in and value == high))


def expected(inputs, rows, values):
    """The row that a plain loop finds, or how none was found."""
    n_keys = sum(name.startswith("k") for name in inputs)
    if None in values:
        return "missing"
    abouts = list(inputs.values())
    of_key = [
        number
        for number, row in enumerate(rows)
        if all(key_meets(abouts[n], row[f"k{n}"], values[n]) for n in range(n_keys))
    ]
    blank = [number for number, row in enumerate(rows) if any(row[f"k{n}"] is None for n in range(n_keys))]
    of_key = [number for number in of_key if number not in blank]
    found = [
        number
        for number in of_key
        if all(in_range(abouts[n], rows[number], n - n_keys, values[n]) for n in range(n_keys, len(abouts)))
    ]
    if found:
        return found[0]
    return "no-period" if n_keys < len(abouts) and (of_key or (n_keys == 0 and rows)) else "unmatched"


@thorough
@given(st.integers(0, 2).flatmap(lookups), st.booleans())
def test_each_row_gets_what_a_loop_over_the_lookup_finds(made, tabulates):
    table, inputs, rows, data, read = made
    wanted = [expected(inputs, rows, row) for row in data]
    with pytest.MonkeyPatch.context() as patch:
        if not tabulates:
            patch.setattr(key_match, "_MOST_TABULATED", 0)
            patch.setattr(key_finders, "_MOST_DENSE", -1)
        frames = [
            read,
            pa.table({name: read[name].combine_chunks().dictionary_encode() for name in read.column_names}),
        ]
        for frame in frames:
            applied = table.apply_with_report(frame)
            numbers = [one if isinstance(one, int) else -2 if one == "missing" else -1 for one in wanted]
            assert applied.frame["y"].to_pylist() == numbers
            (report,) = applied.report.tables
            assert report.no_period == wanted.count("no-period")
            assert report.unmatched == wanted.count("no-period") + wanted.count("unmatched")
            assert sum(n for _, n in report.unmatched_values) == report.unmatched
    again = rule_table(table_of("t", definition_of(value_of(table))))
    if not again.check().has_errors:
        assert again.apply(read)["y"].to_pylist() == numbers
    assert changes_between(value_of(again), value_of(table)) == ()


@thorough
@given(st.integers(1, 2).flatmap(lookups))
def test_rows_of_one_key_whose_ranges_meet_are_just_those_found(made):
    table, inputs, rows, _, _ = made
    n_keys = sum(name.startswith("k") for name in inputs)
    abouts = list(inputs.values())
    meeting = set()
    for early, late in itertools.combinations(range(len(rows)), 2):
        a, b = rows[early], rows[late]
        same = all(
            a[f"k{n}"] is not None and b[f"k{n}"] is not None and key_meets(abouts[n], a[f"k{n}"], b[f"k{n}"])
            for n in range(n_keys)
        )
        if same and all(shares_a_value(abouts[n], a, b, n - n_keys) for n in range(n_keys, len(abouts))):
            meeting.add((early + 1, late + 1))
    told = (one for one in table.check() if one.kind in ("overlap", "duplicate"))
    found = {pair.rows for one in told for pair in one.pairs}
    assert found == meeting


def shares_a_value(about, a, b, place):
    if about["type"] == "text":
        values = {row[f"{end}{place}"] for row in (a, b) for end in ("low", "high")} - {None}
        values |= {value + tail for value in values for tail in ("\0", "~")} | {"\0", "~~"}
    elif about["type"] == "date":
        values = {dt.date(2026, 2, 20) + dt.timedelta(n) for n in range(30)}
    else:
        step = 1 if about["type"] == "integer" else 0.25
        bounds = {row[f"{end}{place}"] for row in (a, b) for end in ("low", "high")} - {None}
        values = {bound + n * step for bound in bounds or {0} for n in (-1, 0, 1)}
    return any(in_range(about, a, place, value) and in_range(about, b, place, value) for value in values)


# Named examples

LIMITS = pd.DataFrame(
    {
        "water": ["river", "river", "lake"],
        "since": ["2024-01-01", "2026-01-01", "2025-06-01"],
        "limit": [50, 40, 25],
    }
)


def limits(frame=LIMITS, **options):
    about = {"type": "date", "from": "since", **options}
    return kivvet.RuleTable(
        "limits", {"water": "text", "sampled_on": about}, {"limit": "number"}, lookup=frame
    )


def test_without_an_end_a_row_holds_until_the_next_start_of_its_key():
    days = [
        dt.date(2023, 12, 31),
        dt.date(2024, 1, 1),
        dt.date(2025, 12, 31),
        dt.date(2026, 1, 1),
        dt.date(2030, 1, 1),
    ]
    frame = pa.table(
        {"water": ["river"] * 5 + ["lake", "pond", None], "sampled_on": [*days, days[0], days[0], days[0]]}
    )
    made = limits().apply_with_report(frame)
    assert made.frame["limit"].to_pylist() == [None, 50, 50, 40, 40, None, None, None]
    (report,) = made.report.tables
    assert (report.matched, report.no_period, report.unmatched, report.missing) == (4, 2, 3, 1)


def test_how_each_row_was_decided_tells_a_wrong_time_from_an_unknown_key(tmp_path):
    folder = tmp_path
    (folder / "tables").mkdir()
    (folder / "book.toml").write_text(
        '[datasets.d]\nsource = "d.csv"\ntarget = "t.csv"\ncolumns = [{ table = "limits", status = "how", row = "by" }]\n'
    )
    (folder / "tables/limits.toml").write_text(
        'inputs.water = "text"\ninputs.day = { type = "date", from = "from", to = "to", ends = "[)" }\noutputs.limit = "integer"\nlookup = "limits.csv"\n'
    )
    (folder / "tables/limits.csv").write_text(
        "to,limit,from,water,extra\n2026-01-01,50,2024-01-01,river,x\n,40,2026-01-01,river,\n,,2026-01-01,lake,\n"
    )
    (folder / "d.csv").write_text(
        "water,day\nriver,2025-12-31\nriver,2026-01-01\nriver,2020-01-01\npond,2026-01-01\n,2026-01-01\nriver,\nlake,2026-02-01\n"
    )
    book = kivvet.open_book(folder)
    book.apply_dataset("d")
    assert (folder / "t.csv").read_text().split() == [
        "water,day,limit,how,by",
        "river,2025-12-31,50,matched,1",
        "river,2026-01-01,40,matched,2",
        "river,2020-01-01,,no-period,",
        "pond,2026-01-01,,unmatched,",
        ",2026-01-01,,missing,",
        "river,,,missing,",
        "lake,2026-02-01,,unfinished,3",
    ]
    assert book.status()[0].state == "current"
    assert [one.decided for one in book.explain("d", 3)] == ["no-period"]


def test_holes_between_the_ranges_of_a_key_are_gaps_and_the_outer_ends_with_a_domain():
    rows = [
        {"k": "a", "low": 0, "high": 5, "y": 1},
        {"k": "a", "low": 7, "high": 9, "y": 2},
        {"k": "b", "low": 0, "high": 9, "y": 3},
    ]
    about = {"type": "integer", "from": "low", "to": "high"}
    table = kivvet.RuleTable("t", {"k": "text", "n": about}, {"y": "integer"}, lookup=rows)
    assert [(one.region, one.severity) for one in table.check().of_kind("gap")] == [
        ({"k": "a", "n": "6"}, "warning")
    ]
    table = kivvet.RuleTable(
        "t", {"k": "text", "n": {**about, "domain": "0 to 10"}}, {"y": "integer"}, lookup=rows
    )
    assert [one.region for one in table.check().of_kind("gap")] == [
        {"k": "a", "n": "6"},
        {"k": "a", "n": "10"},
        {"k": "b", "n": "10"},
    ]


def test_ranges_that_meet_and_keys_that_repeat_name_their_rows():
    rows = [{"k": "a", "low": 0, "high": 5, "y": 1}, {"k": "a", "low": 5, "high": 9, "y": 2}]
    about = {"type": "integer", "from": "low", "to": "high"}
    (one,) = (
        kivvet.RuleTable("t", {"k": "text", "n": about}, {"y": "integer"}, lookup=rows)
        .check()
        .of_kind("overlap")
    )
    assert one.message == "rows 1, 2 of the key 'a' both hold n 5 and differs in y"
    assert (one.rows, one.region) == ((1, 2), {"k": "a", "n": "5"})
    rows = [{"a": "x", "b": 1, "y": 1}, {"a": "x", "b": 2, "y": 1}, {"a": "x", "b": 1, "y": 2}]
    (one,) = kivvet.RuleTable("t", {"a": "text", "b": "integer"}, {"y": "integer"}, lookup=rows).check()
    assert (one.kind, one.rows) == ("conflict", (1, 3))
    assert "the key (a = x, b = 1) stands in rows 1, 3" in one.message


@pytest.mark.parametrize(
    ("inputs", "says"),
    [
        (
            {"k": "text", "n": {"type": "integer", "from": "lwo", "to": "high"}},
            "the lookup has no column 'lwo'",
        ),
        (
            {"k": "text", "n": {"type": "integer", "from": "low", "to": "high", "ends": "[["}},
            "ends says whether both ends are in",
        ),
        ({"k": "text", "n": {"type": "integer", "to": "high"}}, "from and to name the columns"),
        ({"k": "text", "n": {"type": "date", "from": "low", "to": "high"}}, "date is declared"),
        ({"key": "text"}, "the lookup has no column 'key'"),
    ],
)
def test_faults_of_ranges_are_told(inputs, says):
    with pytest.raises(TableError, match=says.replace("(", r"\(")):
        kivvet.RuleTable("t", inputs, {"y": "integer"}, lookup=[{"k": "a", "low": 0, "high": 5, "y": 1}])


def test_a_long_column_finds_its_keys_in_threads():
    rng = np.random.default_rng(1)
    texts, numbers = [f"place {n}" for n in range(300)], np.arange(100) * 7
    rows = pa.table({"a": np.repeat(texts, 100), "b": np.tile(numbers, 300), "y": np.arange(30_000)})
    table = kivvet.RuleTable("t", {"a": "text", "b": "integer"}, {"y": "integer"}, lookup=rows)
    a, b = rng.integers(0, 310, 450_000), rng.integers(0, 710, 450_000)
    frame = pa.table({"a": pa.array([*texts, *(f"x{n}" for n in range(10))]).take(pa.array(a)), "b": b})
    made = table.apply(frame)["y"].to_numpy()
    known = (a < 300) & (b % 7 == 0) & (b < 700)
    assert np.array_equal(np.isnan(made), ~known)
    assert np.array_equal(made[known], a[known] * 100 + b[known] // 7)


def test_a_domain_may_be_the_keys_or_the_classes_of_another_table(tmp_path):
    from tests.conftest import write_book

    division = 'inputs.group = { type = "text", domain = "groups.name" }\noutputs.division = "text"\nrows = [["north", "A"], ["east", "B"]]\n'
    folder = write_book(
        tmp_path,
        {
            "tables/groups.toml": 'inputs.code = { type = "text", domain = "station.station" }\noutputs.name = "text"\nlookup = "groups.csv"\n',
            "tables/groups.csv": "code,name\n007,north\n008,south\n009,north\n",
            "tables/division.toml": division,
            "tables/section.toml": 'inputs.division = { type = "text", domain = "division.division" }\noutputs.section = "text"\nrows = [["A | B", "S"]]\n',
        },
    )
    found = [(one.table, one.kind, one.region) for one in kivvet.open_book(folder).check(data=False)]
    assert ("division", "gap", {"group": "south"}) in found
    assert ("division", "out-of-domain", {"group": "east"}) in found
    assert not [one for one in found if one[0] == "section"]
    said = [one.message for one in kivvet.open_book(folder).check(data=False) if one.table == "groups"]
    assert said == ["1 row of code lies outside the domain: '009'"]
    (folder / "tables/groups.csv").write_text("code,name\n007,north\n")
    said = [one.message for one in kivvet.open_book(folder).check(data=False) if one.table == "groups"]
    assert said == ["1 value of the domain of code has no row: '008'"]
    (folder / "tables/groups.csv").write_text("code,name\n007,north\n008,south\n")
    # Roll-up through three tables, in the order that is needed.
    (folder / "tables/division.toml").write_text(division.replace('["east"', '["south"'))
    made = kivvet.open_book(folder).apply(
        pa.table({"station": ["008", "x"]}),
        [
            "section",
            {"table": "division", "input": {"group": "name"}},
            {"table": "groups", "input": {"code": "station"}},
        ],
    )
    assert made["section"].to_pylist() == ["S", None]
    for wrong, says in (
        ("group.name", "there is no table 'group'"),
        ("groups.nam", "has no key and no output 'nam'"),
    ):
        (folder / "tables/division.toml").write_text(division.replace("groups.name", wrong))
        assert any(says in one.message and one.remedy for one in kivvet.open_book(folder).check(data=False))


FRAME = pa.table(
    {
        "extra": [1, 2],
        "opened": [dt.date(2001, 2, 3), None],
        "code": ["007", "NA"],
        "height": pa.array([1.5, None]),
        "n": pa.array([2**60 + 1, 3]),
    }
)


def write_lookup(frame, path):
    if path.suffix == ".parquet":
        import pyarrow.parquet as pq

        pq.write_table(frame, path)
    elif path.suffix == ".arrow":
        with pa.ipc.new_file(str(path), frame.schema) as file:
            file.write_table(frame)
    elif path.suffix == ".jsonl":
        import json

        path.write_text("".join(json.dumps(row, default=str) + "\n" for row in frame.to_pylist()))
    else:
        sign = "\t" if path.suffix == ".tsv" else ","
        rows = [
            frame.column_names,
            *([("" if v is None else str(v)) for v in row.values()] for row in frame.to_pylist()),
        ]
        path.write_text("".join(sign.join(row) + "\n" for row in rows))


@pytest.mark.parametrize("kind", ["csv", "tsv", "parquet", "arrow", "jsonl"])
def test_types_of_a_lookup_are_the_same_from_every_kind_of_file(kind, tmp_path):
    (tmp_path / "book.toml").write_text("")
    (tmp_path / "tables").mkdir()
    (tmp_path / "tables/t.toml").write_text(
        f'inputs.code = "text"\noutputs.opened = "date"\noutputs.height = "number"\noutputs.n = "integer"\nlookup = "t.{kind}"\n'
    )
    write_lookup(FRAME, tmp_path / f"tables/t.{kind}")
    book = kivvet.open_book(tmp_path)
    assert book.check().is_clean
    made = book.apply(pa.table({"code": ["NA", "007", "7"]}), ["t"])
    assert made.column("opened").to_pylist() == [None, dt.date(2001, 2, 3), None]
    assert made.column("height").to_pylist() == [None, 1.5, None]
    assert made.column("n").to_pylist() == [3, 2**60 + 1, None]
    (tmp_path / f"tables/t.{kind}").write_bytes(b"\xff\xfe nothing of the kind")
    assert kivvet.open_book(tmp_path).check().has_errors


@pytest.mark.parametrize("form", ["frame", "arrow", "dicts", "categories", "nullable"])
def test_a_lookup_is_given_in_any_form_of_frame(form):
    frame = FRAME.to_pandas()
    given = {
        "frame": frame,
        "arrow": FRAME,
        "dicts": FRAME.to_pylist(),
        "categories": frame.assign(code=frame["code"].astype("category")),
        "nullable": frame.convert_dtypes(),
    }[form]
    table = kivvet.RuleTable("t", {"code": "text"}, {"height": "number", "n": "integer"}, lookup=given)
    assert table.apply(pa.table({"code": ["NA", "007"]}))["n"].to_pylist() == [3, 2**60 + 1]


@pytest.mark.parametrize("kind", ["number", "integer", "date"])
def test_a_long_column_finds_its_ranges(kind):
    rng = np.random.default_rng(2)
    starts = np.unique(rng.integers(-5_000, 20_000, 700))
    ends = starts + np.minimum(rng.integers(1, 60, len(starts)), np.diff(starts, append=99_999))
    values = rng.integers(-6_000, 21_000, 150_000)
    place = np.searchsorted(starts, values, side="right") - 1
    known = (place >= 0) & (values < ends[place])
    arrays = [pa.array(one.astype(np.int32), pa.int32()) for one in (starts, ends, values)]
    if kind == "number":
        arrays = [pa.array(one) for one in (starts / 8, ends / 8, values / 8)]
    elif kind == "date":
        arrays = [one.view(pa.date32()) for one in arrays]
    rows = pa.table({"low": arrays[0], "high": arrays[1], "y": np.arange(len(starts))})
    about = {"type": kind, "from": "low", "to": "high", "ends": "[)"}
    table = kivvet.RuleTable("t", {"x": about}, {"y": "integer"}, lookup=rows, severity={"gap": "note"})
    made = table.apply(pa.table({"x": arrays[2]}))["y"].fill_null(-1).to_numpy()
    assert np.array_equal(made, np.where(known, place, -1))


def test_keys_of_the_table_that_differ_only_by_case_or_blanks_are_told():
    rows = [{"k": "North", "y": 1}, {"k": "south", "y": 2}, {"k": "north ", "y": 3}]
    (one,) = kivvet.RuleTable("t", {"k": "text"}, {"y": "integer"}, lookup=rows).check()
    assert (one.kind, one.rows) == ("near-miss", (1, 3))
    assert (
        kivvet.RuleTable("t", {"k": {"type": "text", "fold": ["case"]}}, {"y": "integer"}, lookup=rows[:2])
        .check()
        .is_clean
    )
