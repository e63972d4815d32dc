"""The file of a lookup is read as a dataset's source is: patterns of dates, marks, units, words for missing."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

import kivvet
from kivvet.core.columns.convert import convert_text
from kivvet.core.columns.field_form import FieldForm, field_of

PERIODS = (
    "station;from;to;fee\nA;01.01.2020;31.12.2021;1,5 EUR\nA;01.01.2022;;2 EUR\nB;03.02.2021;-;0,25 EUR\n"
)
TABLE = """
inputs.station = "text"
inputs.day     = { type = "date", from = "from", to = "to" }
outputs.fee    = "number"
lookup    = "periods.csv"
delimiter = ";"
decimal   = ","
types.from = { type = "date", pattern = "%d.%m.%Y" }
types.to   = { type = "date", pattern = "%d.%m.%Y" }
types.fee  = { type = "number", unit = "EUR" }
missing_words = { to = ["-"] }
"""


@pytest.fixture
def book(tmp_path):
    (tmp_path / "book.toml").write_text("")
    (tmp_path / "tables").mkdir()
    (tmp_path / "tables" / "fee.toml").write_text(TABLE)
    (tmp_path / "tables" / "periods.csv").write_text(PERIODS)
    return tmp_path


def test_forms_of_columns_are_read_as_a_dataset_reads_them(book):
    days = [dt.date(2021, 12, 31), dt.date(2022, 1, 1), dt.date(2030, 1, 1), dt.date(2021, 2, 2)]
    frame = pa.table({"station": ["A", "A", "B", "B"], "day": days})
    opened = kivvet.open_book(book)
    assert opened.check(data=False).is_clean
    assert opened.apply(frame, ["fee"])["fee"].to_pylist() == [1.5, 2.0, 0.25, None]


@pytest.mark.parametrize(
    ("before", "after", "told"),
    [
        ('pattern = "%d.%m.%Y" }\ntypes.to', 'pattern = "%m/%d/%Y" }\ntypes.to', ["type"]),
        ('types.to   = { type = "date", pattern = "%d.%m.%Y" }\n', "", ["type"]),
        ('types.fee  = { type = "number", unit = "EUR" }', 'types.fee = "text"', ["type"]),
        ("missing_words = { to =", "missing_words = { till =", ["type", "unknown-column"]),
        ('lookup    = "periods.csv"', 'rows = "periods.csv"', ["syntax"] * 4),
    ],
)
def test_what_cannot_be_read_is_told_and_nothing_that_follows_from_it(book, before, after, told):
    assert before in TABLE
    (book / "tables" / "fee.toml").write_text(TABLE.replace(before, after))
    findings = kivvet.open_book(book).check(data=False)
    assert [one.kind for one in findings if one.severity == "error"] == told
    assert all(one.places and one.remedy for one in findings)


def test_a_draft_writes_what_was_recognised_and_the_check_reads_it(book, run):
    (book / "owners.csv").write_text(
        "Nr;since;share\n001;03.12.2019;12,5 %\n002;24.12.2019;7 %\n003;01.01.2020;80,5 %\n", "utf-8"
    )
    said = run("draft", "owner", "--on", "owners.csv", "--key", "Nr", cwd=book).out
    text = (book / "tables" / "owner.toml").read_text()
    assert all(f"  {line}".rstrip() in said for line in text.splitlines() if not line.startswith("drafted"))
    opened = kivvet.open_book(book)
    assert opened.table("owner").check().is_clean
    made = opened.apply(pa.table({"Nr": ["002"]}), ["owner"])
    assert made.to_pylist() == [{"Nr": "002", "since": dt.date(2019, 12, 24), "share": 7.0}]


def test_a_key_that_is_added_is_written_as_the_file_writes_its_keys(book, run):
    (book / "tables" / "day.toml").write_text(
        'inputs.day = "date"\noutputs.rate = "number"\nlookup = "days.csv"\ndelimiter = ";"\ndecimal = ","\n'
        'encoding = "cp1252"\ntypes.day = { type = "date", pattern = "%d.%m.%Y" }\n'
    )
    (book / "tables" / "days.csv").write_bytes("day;rate;note\n01.02.2026;1,5;für\n".encode("cp1252"))
    (book / "seen.csv").write_text("day\n2026-02-01\n2026-03-04\n2026-03-04\n")
    assert run("draft", "day", "--extend", "--on", "seen.csv", cwd=book).code == 0
    written = (book / "tables" / "days.csv").read_bytes().decode("cp1252")
    assert written == "day;rate;note\n01.02.2026;1,5;für\n04.03.2026;;2 rows\n"
    day = pa.table({"day": [dt.date(2026, 3, 4)]})
    assert kivvet.open_book(book).apply(day, ["day"])["rate"].to_pylist() == [None]


@given(
    st.one_of(
        st.tuples(st.just("number"), st.integers(-(10**9), 10**9).map(lambda n: Decimal(n) / 1000)),
        st.tuples(st.just("integer"), st.integers(-(10**9), 10**9)),
        st.tuples(st.just("date"), st.dates(dt.date(1000, 1, 1))),
        st.tuples(st.just("boolean"), st.booleans()),
    ),
    st.sampled_from(
        [
            FieldForm(),
            FieldForm(",", ".", "EUR", pattern="%d.%m.%Y", true_words=("ja",), false_words=("nein",)),
            FieldForm(",", "", "%", is_share=True, pattern="%Y%m%d"),
        ]
    ),
)
def test_a_value_that_is_written_in_a_form_is_read_as_that_value(typed, form):
    kind, value = typed
    converted = convert_text(pa.array([field_of(value, form)]), kind, (), form)
    assert converted.bad is None
    made = converted.array[0].as_py()
    assert made == (float(value) if kind == "number" else value)
