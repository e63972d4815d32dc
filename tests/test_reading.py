"""Data as people have it: one set of rows in many notations reads as the same, and what cannot be told is said."""

from __future__ import annotations

import csv
import datetime as dt
import io
import json
import re

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.columns import field_form
from kivvet.core.columns.convert import convert_text
from kivvet.core.columns.date_pattern import PatternError, date_pattern
from kivvet.core.columns.field_form import FieldForm
from kivvet.io.csv_source import CsvSource
from kivvet.io.recognise import recognise
from kivvet.io.source_and_target import ReadOptions
from tests.conftest import budget
from tests.conftest import kivvet as run

ROWS = [
    ("007", dt.date(2026, 4, 23), "1234.5", "12.5", True),
    ("008", dt.date(2026, 12, 3), "-0.75", "3", False),
    ("009", None, "", "100", True),
]
NAMES = ("station", "day", "flow", "share", "ok")


def number(text, decimal, thousands):
    whole, _, part = text.partition(".")
    digits, sign = whole.lstrip("-"), "-" if whole.startswith("-") else ""
    if thousands and len(digits) > 3:
        digits = f"{digits[:-3]}{thousands}{digits[-3:]}"
    return sign + digits + (decimal + part if part else "")


#: By country: encoding, delimiter, decimal mark, thousands, pattern, percent, words for true and false.
NATIONAL = {
    "plain": ("utf-8", ",", ".", "", "%Y-%m-%d", "", ("true", "false")),
    "german": ("cp1252", ";", ",", ".", "%d.%m.%Y", " %", ("ja", "nein")),
    "french": ("utf-8-sig", ";", ",", "\u202f", "%d/%m/%Y", " %", ("oui", "non")),
    "american": ("utf-16", "\t", ".", ",", "%m/%d/%Y", "%", ("Yes", "No")),
    "swiss": ("utf-8", ";", ".", "'", "%d.%m.%Y", "%", ("J", "N")),
    "english": ("cp1252", "|", ".", ",", "%d-%b-%Y", "%", ("Y", "N")),
    "spanish": ("latin-1", ";", ",", ".", "%d-%m-%Y", " %", ("sí", "no")),
    "japanese": ("utf-8", ",", ".", "", "%Y/%m/%d", "%", ("true", "false")),
    "mac": ("utf-8", ";", ",", "", "%d.%m.%y", "%", ("true", "false")),
    "wide": ("utf-32", ",", ".", "", "%B %d, %Y", "%", ("on", "off")),
}


def written(form):
    encoding, delimiter, decimal, thousands, pattern, percent, words = form
    buffer = io.StringIO()
    out = csv.writer(buffer, delimiter=delimiter, lineterminator="\r\n")
    out.writerow(NAMES)
    for station, day, flow, share, ok in ROWS:
        out.writerow(
            [
                station,
                "" if day is None else day.strftime(pattern),
                number(flow, decimal, thousands),
                number(share, decimal, thousands) + percent,
                words[0 if ok else 1],
            ]
        )
    return buffer.getvalue().encode(encoding)


@pytest.mark.parametrize("country", NATIONAL)
def test_the_same_rows_in_many_notations_give_the_same_target(tmp_path, country):
    kivvet.new_book(tmp_path)
    (tmp_path / "april.csv").write_bytes(written(NATIONAL[country]))
    added = kivvet.open_book(tmp_path).add("april", tmp_path / "april.csv")
    assert [one.partition(" has years of two digits")[1] != "" for one in added.remarks] == [True] * (
        country == "mac"
    )
    kivvet.open_book(tmp_path).apply_dataset("april")
    made = pq.read_table(tmp_path / "out" / "april.parquet")
    assert made.schema.types == [pa.string(), pa.date32(), pa.float64(), pa.float64(), pa.bool_()]
    assert made.to_pylist() == [
        dict(zip(NAMES, (a, b, float(c) if c else None, float(d), e), strict=True)) for a, b, c, d, e in ROWS
    ]
    assert [one.state for one in kivvet.open_book(tmp_path).status()] == ["current"]
    text = (tmp_path / "book.toml").read_text(encoding="utf-8")
    assert text.startswith("title") and "# A dataset: where" in text  # what stood there before


# What is read and what is said, of small hostile files

FILES = {
    "separator said": ("sep=;\na;b\n1;2\n", ["a", "b"], [["1", "2"]], ""),
    "separator said, of tabs": ("sep=\t\r\na\tb\r\n1\t2\r\n", ["a", "b"], [["1", "2"]], ""),
    "no heading": ("a,,c\n1,2,3\n", ["a", "column_2", "c"], [["1", "2", "3"]], "column 2 has no heading"),
    "heading twice": ("a,a,a\n1,2,3\n", ["a", "a_2", "a_3"], [["1", "2", "3"]], "heading of column 2 too"),
    "a plain name that is taken": (
        "a,,column_2\n1,2,3\n",
        ["a", "column_2_", "column_2"],
        [["1", "2", "3"]],
        "no heading",
    ),
    "padded": (" a , b\n1,2\n", ["a", "b"], [["1", "2"]], ""),
    "delimiter after rows": (
        "a,b\n1,2,\n3,4,\n",
        ["a", "b", "column_3"],
        [["1", "2", ""], ["3", "4", ""]],
        "no heading",
    ),
    "delimiter after headings": ("a,b,\n1,2\n3,4\n", ["a", "b"], [["1", "2"], ["3", "4"]], ""),
    "delimiter after both": ("a,b,\n1,2,\n", ["a", "b", "column_3"], [["1", "2", ""]], "no heading"),
    "one column, a blank line": ("a\n1\n\n3\n", ["a"], [["1"], [""], ["3"]], ""),
    "quotes": ('a,b\n"1,5","x ""y"""\n', ["a", "b"], [["1,5", 'x "y"']], ""),
}


@pytest.mark.parametrize("case", FILES)
def test_headings_and_rows_are_read_as_they_stand(tmp_path, case):
    text, names, rows, said = FILES[case]
    path = tmp_path / "x.csv"
    path.write_bytes(text.encode())
    source = CsvSource(path)
    assert source.names == names
    table = pa.Table.from_batches(list(source.batches()))
    assert [list(row.values()) for row in table.to_pylist()] == rows
    assert bool(source.notes) == bool(said)
    assert all(said in note.message for note in source.notes)


def test_headings_given_and_other_quotes(tmp_path):
    path = tmp_path / "x.csv"
    path.write_text("'1;5';2\n3;4\n")
    source = CsvSource(path, ReadOptions(delimiter=";", quote="'", headings=("p", "q")))
    assert pa.Table.from_batches(list(source.batches())).to_pydict() == {"p": ["1;5", "3"], "q": ["2", "4"]}
    assert source.line_of_row(1) == 1
    with pytest.raises(kivvet.DataError, match="2 columns, and 3 headings are given"):
        CsvSource(path, ReadOptions(delimiter=";", quote="'", headings=("p", "q", "r")))


def test_a_target_keeps_the_headings_as_they_were(tmp_path):
    kivvet.new_book(tmp_path)
    (tmp_path / "x.csv").write_text(" a ,,a\n1,2,3\n")
    kivvet.open_book(tmp_path).add("x", tmp_path / "x.csv", to="out/x.csv")
    report = kivvet.open_book(tmp_path).apply_dataset("x")
    assert (tmp_path / "out" / "x.csv").read_text() == " a ,,a\n1,2,3\n"
    assert any("has no heading" in note for note in report.notes)
    (found,) = [one for one in kivvet.open_book(tmp_path).check().findings if one.kind == "headings"]
    assert 'headings = ["a", "column_2", "a_2"]' in found.remedy


# Forms of values

NUMBERS = [
    (FieldForm(","), ["1,5", "2", "-,5", "1,"], [1.5, 2.0, -0.5, 1.0], []),
    (FieldForm(","), ["1.5", "1,5"], [None, 1.5], [0]),
    (FieldForm(",", "."), ["1.234,5", "1234,5", "12.34", "1.2345"], [1234.5, 1234.5, None, None], [2, 3]),
    (FieldForm(".", " "), ["1 234", "12 345.5", "1 23"], [1234.0, 12345.5, None], [2]),
    (FieldForm(unit="EUR"), ["EUR 3.20", "4 EUR", "5", "EUR 1 EUR"], [3.2, 4.0, None, None], [2, 3]),
    (FieldForm(",", unit="%", is_share=True), ["12,5 %", "100%", None], [0.125, 1.0, None], []),
    (FieldForm(","), ["1e3", "1,5e-3"], [1000.0, 0.0015], []),
    (FieldForm(","), ["", "-", "1,2,3"], [None, None, None], [1, 2]),
]


@pytest.mark.parametrize(("form", "fields", "values", "bad"), NUMBERS)
def test_numbers_are_read_by_their_marks_and_no_others(form, fields, values, bad):
    made = convert_text(pa.array(fields, pa.string()), "number", (), form)
    assert made.array.to_pylist() == values
    assert ([] if made.bad is None else list(made.bad.nonzero()[0])) == bad


@settings(deadline=None)
@given(
    st.lists(st.none() | st.decimals(-(10**9), 10**9, places=2), min_size=1),
    st.sampled_from([(",", ""), (",", "."), (".", ","), (",", " ")]),
    st.integers(0, 3),
)
def test_written_numbers_read_back(values, marks, begin):
    texts = [
        None if one is None else f"{one:,.2f}".translate(str.maketrans({",": marks[1], ".": marks[0]}))
        for one in values
    ]
    made = convert_text(pa.array(texts, pa.string()).slice(begin), "number", (), FieldForm(*marks))
    assert made.bad is None
    assert made.array.to_pylist() == [None if one is None else float(one) for one in values[begin:]]


PATTERNS = [
    "%d.%m.%Y",
    "%m/%d/%Y",
    "%Y%m%d",
    "%d-%b-%y",
    "%B %d, %Y",
    "%Y-%m-%d %H:%M:%S",
    "%d.%m.%Y %I:%M %p",
    "%j/%Y",
    "%Y-%m",
    "%G-W%V-%u",
]


@settings(deadline=None)
@given(
    st.lists(st.none() | st.datetimes(dt.datetime(1970, 1, 1), dt.datetime(2068, 12, 31)), min_size=1),
    st.sampled_from(PATTERNS),
    st.integers(0, 2),
)
def test_dates_written_by_a_pattern_read_back(values, pattern, begin):
    kind = "datetime" if date_pattern(pattern).has_time else "date"
    texts = [None if one is None else one.strftime(pattern) for one in values]
    expected = [
        None if one is None else dt.datetime.strptime(text, pattern)
        for one, text in zip(values, texts, strict=True)
    ]
    made = convert_text(pa.array(texts, pa.string()).slice(begin), kind, (), FieldForm(pattern=pattern))
    assert made.bad is None
    assert made.array.to_pylist() == [
        one.date() if one is not None and kind == "date" else one for one in expected[begin:]
    ]


@settings(deadline=None)
@given(st.dates(dt.date(1970, 1, 1), dt.date(2068, 12, 31)))
def test_a_quarter_and_a_week_stand_for_their_first_day(day):
    quarter = date_pattern("%Y-Q%q").value(f"{day.year}-Q{(day.month + 2) // 3}")
    assert quarter == dt.datetime(day.year, day.month - (day.month - 1) % 3, 1)
    week = date_pattern("%G-W%V").value(day.strftime("%G-W%V"))
    assert week == dt.datetime.combine(day - dt.timedelta(day.weekday()), dt.time())
    assert date_pattern("%G-W%V").value("2024-W53") is None


@settings(deadline=None)
@given(st.lists(st.text("0123456789.", min_size=8, max_size=11), min_size=1, max_size=5))
def test_the_quick_way_of_reading_dates_is_the_slow_one(fields):
    pattern = date_pattern("%d.%m.%Y")
    made, bad = pattern.convert(pa.array(fields), pa.date32())
    slow = [pattern.value(field) for field in fields]
    assert made.to_pylist() == [None if one is None else one.date() for one in slow]
    assert (bad is None) == (None not in slow)


@pytest.mark.parametrize(
    ("pattern", "said"),
    [
        ("%Q", "no sign of a pattern"),
        ("%d.%m", "says the year"),
        ("%d.%d.%Y", "twice"),
        ("%Y-W%V", "a week"),
        ("%Y-Q%q-%d", "a quarter"),
        ("%Y-%m %H", "says the day too"),
        ("%Y-%m-%d %I", "stands with %p"),
        ("%d.%m.%Y %M", "the hour too"),
        ("%d.%m.%Y%", "ends with %"),
    ],
)
def test_patterns_that_say_no_day_are_refused(pattern, said):
    with pytest.raises(PatternError, match=said):
        date_pattern(pattern)


# Recognising

texts = st.text("abcxyzäé ", min_size=1, max_size=6).map(lambda text: f"t{text}".strip())


@settings(deadline=None, max_examples=budget(60))
@given(
    st.lists(
        st.tuples(
            texts, st.dates(dt.date(1970, 1, 1), dt.date(2068, 1, 1)), st.decimals(-9999, 9999, places=2)
        ),
        min_size=3,
        max_size=20,
    ),
    st.sampled_from(["utf-8", "utf-8-sig", "utf-16", "cp1252"]),
    st.sampled_from([",", ";", "\t", "|"]),
    st.sampled_from([".", ","]),
    st.sampled_from(["%Y-%m-%d", "%d.%m.%Y", "%m/%d/%Y", "%d-%b-%Y"]),
)
def test_what_is_recognised_reads_the_file_back(
    tmp_path_factory, rows, encoding, delimiter, decimal, pattern
):
    assume(pattern == "%Y-%m-%d" or any(day.day > 12 for _, day, _ in rows))
    folder = tmp_path_factory.mktemp("book")
    buffer = io.StringIO()
    out = csv.writer(buffer, delimiter=delimiter)
    out.writerow(["name", "day", "flow"])
    for name, day, flow in rows:
        out.writerow([name, day.strftime(pattern), str(flow).replace(".", decimal)])
    (folder / "x.csv").write_bytes(buffer.getvalue().encode(encoding))
    kivvet.new_book(folder)
    kivvet.open_book(folder).add("x", folder / "x.csv")
    kivvet.open_book(folder).apply_dataset("x")
    made = pq.read_table(folder / "out" / "x.parquet").to_pydict()
    assert made["name"] == [name for name, _, _ in rows]
    assert made["day"] == [day for _, day, _ in rows]
    assert made["flow"] == [float(flow) for _, _, flow in rows]


@pytest.mark.parametrize(
    ("text", "remark"),
    [
        ("a;q\n1;2024-Q1\n2;2024-Q2\n", 'types.q = { type = "date", pattern = "%Y-Q%q" }'),
        ("a;q\n1;2024Q1\n2;2024Q2\n", 'pattern = "%YQ%q"'),
        ("a;w k\n1;2024-W01\n2;2024-W02\n", 'types."w k" = { type = "date", pattern = "%G-W%V" }'),
        (
            "a;t\n1;13:30\n2;09:05\n",
            'times of day such as 13:30, which are kept as text; ranges of them: "06:00" to',
        ),
        ("a;t\n1;13:30\n2;9:05\n", "times of day"),
    ],
)
def test_parts_of_days_and_times_of_day_stay_texts_and_are_told(tmp_path, text, remark):
    (tmp_path / "x.csv").write_text(text)
    assert any(remark in one for one in recognise(tmp_path / "x.csv").remarks)


@pytest.mark.parametrize(
    ("text", "remark"),
    [
        ("a;day\n1;03.04.2026\n2;04.03.2026\n", "may be %d.%m.%Y or %m.%d.%Y"),
        ('a,x\n1,"1,234"\n2,"2,500"\n', "may be the decimal mark or stand between thousands"),
    ],
)
def test_what_is_ambiguous_is_said_and_left_as_it_is(tmp_path, text, remark):
    (tmp_path / "x.csv").write_text(text)
    found = recognise(tmp_path / "x.csv")
    assert any(remark in one for one in found.remarks)
    ran = run("look", tmp_path / "x.csv", cwd=tmp_path)
    assert "say which" in ran.out or "say decimal" in ran.out


def test_codes_are_no_numbers_with_units(tmp_path):
    (tmp_path / "x.csv").write_text("id,site,size\nS1,12A,5 mg\nS2,13A,7 mg\n")
    found = recognise(tmp_path / "x.csv")
    assert list(found.columns) == ["size"] and found.columns["size"].form.unit == "mg"


def test_a_column_in_another_notation_is_told_with_the_form_that_fits(tmp_path):
    kivvet.new_book(tmp_path)
    (tmp_path / "x.csv").write_text("day;flow\n23.04.2026;1.234,5\n24.04.2026;7,5\n")
    entry = '\n[datasets.x]\nsource = "x.csv"\ntarget = "out/x.parquet"\ndelimiter = ";"\ntypes = { day = "date", flow = "number" }\ncolumns = []\n'
    book = tmp_path / "book.toml"
    book.write_text(book.read_text() + entry)
    before = run("check", cwd=tmp_path)
    assert before.code == 1 and "missing_words" not in before.out
    assert 'day = { type = "date", pattern = "%d.%m.%Y" }' in before.out
    assert 'flow = { type = "number", decimal = ",", thousands = "." }' in before.out
    form = 'types = { day = { type = "date", pattern = "%d.%m.%Y" }, flow = { type = "number", decimal = ",", thousands = "." } }'
    book.write_text(book.read_text().replace('types = { day = "date", flow = "number" }', form))
    assert run("apply", cwd=tmp_path).code == 0
    assert pq.read_table(tmp_path / "out" / "x.parquet")["flow"].to_pylist() == [1234.5, 7.5]


def test_a_form_is_not_offered_where_it_would_break_other_fields(tmp_path):
    kivvet.new_book(tmp_path)
    (tmp_path / "x.csv").write_text('flow\n"1.5"\n"7,5"\n')
    book = tmp_path / "book.toml"
    entry = '\n[datasets.x]\nsource = "x.csv"\ntypes = { flow = "number" }\ncolumns = []\n'
    book.write_text(book.read_text() + entry)
    ran = run("check", cwd=tmp_path)
    assert "decimal" not in ran.out and "correct the fields" in ran.out


def test_a_lookup_is_read_with_options_too(tmp_path):
    kivvet.new_book(tmp_path)
    (tmp_path / "tables" / "limit.toml").write_text(
        'inputs.kind = "text"\noutputs.limit = "number"\nlookup = "limit.csv"\ndelimiter = ";"\ndecimal = ","\nencoding = "cp1252"\n'
    )
    (tmp_path / "tables" / "limit.csv").write_bytes("kind;limit\nBäche;2,5\nSeen;1\n".encode("cp1252"))
    table = kivvet.open_book(tmp_path).tables["limit"]
    made = table.apply(pa.table({"kind": ["Bäche", "Seen", "Moor"]}))
    assert made["limit"].to_pylist() == [2.5, 1.0, None]


BAD_OPTIONS = [
    ('decimal = "x"', "no decimal mark"),
    ('decimal = ","\nthousands = ","', "both ','"),
    ('quote = "ab"', "quote is one sign"),
    ('headings = ["a", "a"]', "two of the headings"),
    ('types = { a = { type = "date", pattern = "%d" } }', "says the year"),
    ('types = { a = { type = "text", pattern = "%Y-%m-%d" } }', "pattern has no meaning for text"),
    ('types = { a = { type = "number", as = "share" } }', "percent sign"),
    ('types = { a = { kind = "number" } }', "is no type for column"),
]


@pytest.mark.parametrize(("option", "said"), BAD_OPTIONS)
def test_options_that_mean_nothing_are_told(tmp_path, option, said):
    kivvet.new_book(tmp_path)
    (tmp_path / "x.csv").write_text("a\n1\n")
    book = tmp_path / "book.toml"
    book.write_text(book.read_text() + f'\n[datasets.x]\nsource = "x.csv"\n{option}\ncolumns = []\n')
    ran = run("check", "--no-data", cwd=tmp_path)
    assert ran.code == 1 and said in ran.out and "book.toml:" in ran.out


def test_adding_refuses_what_is_there_and_leaves_the_book_alone(tmp_path):
    kivvet.new_book(tmp_path)
    (tmp_path / "x.csv").write_text("a\n1\n")
    assert run("add", "x", "x.csv", cwd=tmp_path).code == 0
    text = (tmp_path / "book.toml").read_bytes()
    for arguments, said in (
        (("x", "x.csv"), "already"),
        (("y", "nowhere.csv"), "no such file"),
        (("y", "x.csv", "--apply", "ph"), "no table or formula"),
        (("y", "x.csv", "--to", "y.doc"), "does not write"),
        (("y", "book.toml"), "does not read"),
    ):
        ran = run("add", *arguments, cwd=tmp_path)
        assert ran.code in (1, 2) and said in ran.all
        assert (tmp_path / "book.toml").read_bytes() == text


# Other formats, and CSV for others

TYPED = pa.table(
    {
        "id": [1, 2, 3],
        "station": ["007", None, 'ä "x"'],
        "day": pa.array([dt.date(2026, 4, 3), None, dt.date(1999, 12, 31)]),
        "at": pa.array(
            [dt.datetime(2026, 4, 3, 13, 30), None, dt.datetime(1999, 12, 31)], pa.timestamp("us")
        ),
        "flow": [1234.5, None, -0.25],
        "ok": [True, None, False],
    }
)
SIZES = 'inputs.flow = "number"\noutputs.size = "text"\nrows = [["< 0", "below"], [">= 0", "above"]]\n'


def book_of(folder, source, target, more=""):
    kivvet.new_book(folder)
    (folder / "tables" / "size.toml").write_text(SIZES)
    book = folder / "book.toml"
    entry = f'\n[datasets.x]\nsource = "{source}"\ntarget = "{target}"\n{more}\ncolumns = ["size"]\n'
    book.write_text(book.read_text() + entry)
    return kivvet.open_book(folder)


def test_a_target_is_written_as_a_country_reads_it_and_reads_back(tmp_path):
    form = 'written_as = { delimiter = ";", encoding = "cp1252", decimal = ",", dates = "%d.%m.%Y", times = "%d.%m.%Y %H:%M" }'
    book = book_of(tmp_path, "x.parquet", "out/x.csv", form)
    pq.write_table(TYPED, tmp_path / "x.parquet")
    book.apply_dataset("x")
    assert (tmp_path / "out" / "x.csv").read_bytes().decode("cp1252") == (
        "id;station;day;at;flow;ok;size\n1;007;03.04.2026;03.04.2026 13:30;1234,5;true;above\n"
        '2;;;;;;\n3;"ä ""x""";31.12.1999;31.12.1999 00:00;-0,25;false;below\n'
    )
    assert [one.state for one in kivvet.open_book(tmp_path).status()] == ["current"]
    (tmp_path / "sent.csv").write_bytes((tmp_path / "out" / "x.csv").read_bytes())
    kivvet.open_book(tmp_path).add("back", tmp_path / "sent.csv")
    kivvet.open_book(tmp_path).apply_dataset("back")
    back = pq.read_table(tmp_path / "out" / "back.parquet")
    assert back.select(TYPED.column_names).to_pylist() == TYPED.to_pylist()
    text = (tmp_path / "book.toml").read_text().replace('encoding = "cp1252", decimal', "decimal")
    (tmp_path / "book.toml").write_text(text)
    assert [one.state for one in kivvet.open_book(tmp_path).status()][:1] == ["stale"]


def test_what_an_encoding_lacks_is_told_and_nothing_is_written(tmp_path):
    book_of(tmp_path, "x.parquet", "out/x.csv", 'written_as = { encoding = "ascii" }')
    pq.write_table(TYPED, tmp_path / "x.parquet")
    ran = run("apply", cwd=tmp_path)
    assert ran.code == 1 and "cannot be written in ascii" in ran.all
    assert not (tmp_path / "out" / "x.csv").exists()


@pytest.mark.parametrize("source", ["parquet", "arrow", "stream", "jsonl"])
@pytest.mark.parametrize("target", ["parquet", "arrow", "jsonl"])
def test_every_kind_of_source_and_target_holds_the_same_rows(tmp_path, source, target):
    ending = {"stream": "arrow"}.get(source, source)
    dates = 'types = { day = "date", at = "datetime" }' if source == "jsonl" else ""
    book = book_of(tmp_path, f"x.{ending}", f"out/x.{target}", dates)
    path = tmp_path / f"x.{ending}"
    if source == "parquet":
        pq.write_table(TYPED, path)
    elif source == "jsonl":
        path.write_text(
            "".join(json.dumps(row, default=str, ensure_ascii=False) + "\n" for row in TYPED.to_pylist())
        )
    else:
        new = pa.ipc.new_file if source == "arrow" else pa.ipc.new_stream
        with new(str(path), TYPED.schema) as writer:
            writer.write_table(TYPED, max_chunksize=2)
    book.apply_dataset("x")
    out = tmp_path / "out" / f"x.{target}"
    made = {
        "parquet": lambda: pq.read_table(out).to_pylist(),
        "arrow": lambda: pa.ipc.open_file(out).read_all().to_pylist(),
        "jsonl": lambda: [json.loads(line) for line in out.read_text().splitlines()],
    }[target]()
    expected = [
        {**row, "size": size} for row, size in zip(TYPED.to_pylist(), ("above", None, "below"), strict=True)
    ]
    if target == "jsonl":
        expected = [
            {name: value.isoformat() if hasattr(value, "isoformat") else value for name, value in row.items()}
            for row in expected
        ]
    assert made == expected
    assert [one.state for one in kivvet.open_book(tmp_path).status()] == ["current"]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "empty"),
        ('{"a": 1}\n{"a": \n', "is no JSON"),
        ('{"a": 1}\n[1]\n', "no JSON object"),
        ("{}\n", "holds no fields"),
    ],
)
def test_broken_json_lines_are_told_with_their_line(tmp_path, text, said):
    book_of(tmp_path, "x.jsonl", "out/x.parquet", "")
    (tmp_path / "x.jsonl").write_text(text)
    ran = run("apply", cwd=tmp_path)
    assert ran.code in (1, 2) and said in ran.all and "x.jsonl" in ran.all


# Many files as one source

MONTHS = {
    "data/2026-01.csv": "site;day;flow\n007;03.01.2026;1,5\n008;04.01.2026;-2,5\n",
    "data/2026-02.csv": "flow;site;day\n3,5;009;13.02.2026\n",
}


def months(folder, files=MONTHS, more=""):
    kivvet.new_book(folder)
    (folder / "tables" / "size.toml").write_text(SIZES)
    (folder / "data").mkdir()
    for name, text in files.items():
        (folder / name).write_text(text)
    book = folder / "book.toml"
    entry = f'\n[datasets.months]\nsource = "data/2026-*.csv"\ntarget = "out/months.parquet"\nfile_column = "file"\n{more}\ncolumns = ["size"]\n'
    form = 'delimiter = ";"\ndecimal = ","\ntypes = { day = { type = "date", pattern = "%d.%m.%Y" } }'
    book.write_text(book.read_text() + entry.replace("columns =", f"{form}\ncolumns ="))
    return folder


def test_a_file_a_month_is_one_dataset_with_columns_by_name(tmp_path):
    kivvet.open_book(months(tmp_path)).apply_dataset("months")
    made = pq.read_table(tmp_path / "out" / "months.parquet").to_pydict()
    assert made["site"] == ["007", "008", "009"] and made["flow"] == [1.5, -2.5, 3.5]
    assert made["day"] == [dt.date(2026, 1, 3), dt.date(2026, 1, 4), dt.date(2026, 2, 13)]
    assert made["file"] == ["data/2026-01.csv", "data/2026-01.csv", "data/2026-02.csv"]
    assert [one.state for one in kivvet.open_book(tmp_path).status()] == ["current"]


def test_status_says_by_which_file_a_source_grew(tmp_path):
    kivvet.open_book(months(tmp_path)).apply_dataset("months")
    (tmp_path / "data" / "2026-03.csv").write_text("site;day;flow\n007;03.03.2026;1\n007;04.03.2026;2\n")
    (status,) = kivvet.open_book(tmp_path).status()
    assert "grew by data/2026-03.csv, 2 rows" in status.reasons[0].message
    kivvet.open_book(tmp_path).refresh()
    assert pq.read_table(tmp_path / "out" / "months.parquet").num_rows == 5
    with (tmp_path / "data" / "2026-03.csv").open("a") as file:
        file.write("008;05.03.2026;3\n")
    (status,) = kivvet.open_book(tmp_path).status()
    assert "has another data/2026-03.csv: 2 rows then, 3 now" in status.reasons[0].message
    (tmp_path / "data" / "2026-01.csv").unlink()
    (status,) = kivvet.open_book(tmp_path).status()
    assert "lost data/2026-01.csv, 2 rows" in status.reasons[0].message


def test_one_file_that_got_longer_is_told_with_its_rows(tmp_path):
    book = book_of(tmp_path, "x.csv", "out/x.csv")
    (tmp_path / "x.csv").write_text("flow\n1\n")
    book.apply_dataset("x")
    (tmp_path / "x.csv").write_text("flow\n1\n2\n3\n")
    (status,) = kivvet.open_book(tmp_path).status()
    assert status.reasons[0].message.endswith("grew by 2 rows")
    (tmp_path / "x.csv").write_text("flow\n2\n3\n")  # another one
    (status,) = kivvet.open_book(tmp_path).status()
    assert "1 row then, 2 now" in status.reasons[0].message


def test_faults_in_one_of_many_files_are_told_with_file_and_line(tmp_path):
    files = {**MONTHS, "data/2026-02.csv": "flow;site;day\n3,5;009;13.02.2026\nx;1;31.02.2026\n"}
    ran = run("check", cwd=months(tmp_path, files, 'types.flow = "number"'.replace("types.flow", "#")))
    assert "data/2026-02.csv:3" in ran.out and "'31.02.2026'; the first is in row 4" in ran.out


def test_a_column_that_one_file_lacks_is_told_and_missing(tmp_path):
    files = {**MONTHS, "data/2026-02.csv": "site;flow;lab\n009;3,5;A\n"}
    folder = months(tmp_path, files)
    ran = run("check", cwd=folder)
    assert ran.code == 0 and "uneven" in ran.out
    assert "2026-01.csv has no column lab" in ran.out and "2026-02.csv has no column day" in ran.out
    kivvet.open_book(folder).apply_dataset("months")
    made = pq.read_table(folder / "out" / "months.parquet").to_pydict()
    assert made["lab"] == [None, None, "A"] and made["day"][2] is None


def test_a_folder_of_parquet_files_gives_the_parts_of_its_names(tmp_path):
    book = book_of(tmp_path, "parts/", "out/x.parquet")
    for year, flow in ((2025, pa.array([1, 2], pa.int32())), (2026, pa.array([3], pa.int64()))):
        path = tmp_path / "parts" / f"year={year}"
        path.mkdir(parents=True)
        pq.write_table(pa.table({"flow": flow, "site": ["a"] * len(flow)}), path / "0.parquet")
    book.apply_dataset("x")
    made = pq.read_table(tmp_path / "out" / "x.parquet")
    assert made.to_pydict() == {
        "flow": [1, 2, 3],
        "site": ["a", "a", "a"],
        "year": ["2025", "2025", "2026"],
        "size": ["above", "above", "above"],
    }
    pq.write_table(pa.table({"flow": ["x"], "site": ["b"]}), tmp_path / "parts" / "odd.parquet")
    ran = run("apply", cwd=tmp_path)
    assert ran.code == 1 and "string in parts/odd.parquet" in ran.all and "expected  one type" in ran.all


def test_a_pattern_is_added_as_one_dataset_and_odd_files_are_told(tmp_path):
    kivvet.new_book(tmp_path)
    (tmp_path / "data").mkdir()
    for name, text in MONTHS.items():
        (tmp_path / name).write_text(text)
    added = run("add", "months", "data/2026-*.csv", cwd=tmp_path)
    assert '= "data/2026-*.csv"' in added.out and re.search(r'decimal +\= ","', added.out)
    (tmp_path / "data" / "2026-03.csv").write_text("site,day,flow\n1,2026-01-01,1.5\n")
    looked = run("look", "data/2026-*.csv", cwd=tmp_path)
    assert "2026-03.csv: has no column in common with data/2026-01.csv" in looked.all
    assert 'the file seems to be written so: delimiter = ","' in looked.all


@pytest.mark.parametrize(
    ("entry", "said"),
    [
        ('source = "data/none-*.csv"\ntarget = "out/x.csv"', "no such file"),
        ('source = "data/*.csv"\ntarget = "data/all.csv"', "target is the source itself"),
        ('source = ["data/a.csv", 3]\ntarget = "out/x.csv"', "a pattern, or a list"),
        ('source = "data/a.csv"\ntarget = "out/x.csv"\nfile_column = "file"', "for a source of many files"),
    ],
)
def test_sources_of_many_files_that_cannot_be_are_told(tmp_path, entry, said):
    kivvet.new_book(tmp_path)
    (tmp_path / "data").mkdir()
    (tmp_path / "data" / "a.csv").write_text("a\n1\n")
    book = tmp_path / "book.toml"
    book.write_text(book.read_text() + f"\n[datasets.x]\n{entry}\ncolumns = []\n")
    ran = run("apply", cwd=tmp_path)
    assert ran.code in (1, 2) and said in ran.all


ZONED = [
    (
        ["2026-04-01T13:30:00Z", "2026-04-01 15:30+02:00", None],
        ["2026-04-01 13:30", "2026-04-01 13:30", None],
        [],
    ),
    (["2026-04-01T13:30:00.25-0500"], ["2026-04-01 18:30:00.250000"], []),
    (["2026-04-01T13:30", "2026-04-01T13:30Z"], ["2026-04-01 13:30", None], [1]),
    (["2026-04-01T13:30+99:00"], [None], [0]),
]


@pytest.mark.parametrize(("fields", "moments", "bad"), ZONED)
def test_times_with_offsets_are_moments(fields, moments, bad):
    made = convert_text(pa.array(fields, pa.string()), "datetime")
    assert ([] if made.bad is None else list(made.bad.nonzero()[0])) == bad
    found = [None if one is None else one.replace(tzinfo=None) for one in made.array.to_pylist()]
    assert found == [None if one is None else dt.datetime.fromisoformat(one) for one in moments]


def test_the_first_time_of_a_column_says_whether_all_have_an_offset(tmp_path, monkeypatch):
    book = book_of(tmp_path, "x.csv", "out/x.parquet", 'types = { at = "datetime" }')
    path = tmp_path / "x.csv"
    path.write_text("at,flow\n,1\n2026-04-01T13:30Z,2\n2026-04-01T13:30+01:00,3\n")
    book.apply_dataset("x")
    made = pq.read_table(tmp_path / "out" / "x.parquet")
    assert made.schema.field("at").type == pa.timestamp("us", "UTC")
    path.write_text(path.read_text() + "2026-04-02 10:00,4\n")
    ran = run("check", cwd=tmp_path)
    assert ran.code == 1 and "'2026-04-02 10:00'; the first is in row 4" in ran.out
    path.write_text("at,flow\n2026-04-01T13:30Z,2\n")
    book_toml = tmp_path / "book.toml"
    book_toml.write_text(book_toml.read_text().replace('types = { at = "datetime" }\n', ""))
    kivvet.open_book(tmp_path).apply_dataset("x")
    assert pq.read_table(tmp_path / "out" / "x.parquet").schema.field("at").type == pa.timestamp("us", "UTC")


MISREAD = [
    ("site;flow\n007;1,5\n", "", 'delimiter = ";", decimal = ","'),
    ("site,flow\n007,1.5,2\n007,1.5\n", "", "a field that holds ',' stands in quotes"),
    ("site;flow\n007;1,5\n008;2\n", "", 'delimiter = ";", decimal = ","'),
    ("site,flow\nBäche,2\n", "", 'encoding = "cp1252"'),
    ("site,flow\n007,1.5\n", 'delimiter = ";"', 'delimiter = ","'),
]


@pytest.mark.parametrize(("text", "options", "said"), MISREAD)
def test_a_file_that_does_not_fit_its_options_is_told_with_those_that_would(tmp_path, text, options, said):
    book_of(tmp_path, "x.csv", "out/x.csv", options)
    (tmp_path / "x.csv").write_bytes(text.encode("cp1252"))
    ran = run("apply", cwd=tmp_path)
    assert ran.code in (1, 2) and said in ran.all


def test_a_bare_file_is_read_as_it_is_said(tmp_path):
    (tmp_path / "x.csv").write_text("day;flow\n03.04.2026;1,234\n03.05.2026;2,500\n")
    form = 'delimiter = ";", thousands = ",", types = { day = { type = "date", pattern = "%m.%d.%Y" } }'
    looked = run("look", "x.csv", "--read-as", form, cwd=tmp_path)
    assert "2026-03-04 to 2026-03-05" in looked.out
    assert "1234 to 2500" in looked.out and "Read as recognised" not in looked.out
    tried = run("formula", "flow * 2", "--on", "x.csv", "--read-as", form, cwd=tmp_path)
    assert tried.code == 0 and "2468" in tried.out
    kivvet.new_book(tmp_path / "b")
    drafted = kivvet.open_book(tmp_path / "b").draft(
        "size", tmp_path / "x.csv", column="flow", bounds=[2000], read_as=form
    )
    assert len(drafted.table.rows) == 2


@pytest.mark.parametrize(
    ("read_as", "said"),
    [
        ("delimiter = ;", "cannot read how the file is written"),
        ('delimeter = ";"', "did you mean"),
        ('decimal = "x"', "no decimal mark"),
    ],
)
def test_what_is_said_of_a_bare_file_and_cannot_be_is_told(tmp_path, read_as, said):
    (tmp_path / "x.csv").write_text("a\n1\n")
    ran = run("look", "x.csv", "--read-as", read_as, cwd=tmp_path)
    assert ran.code in (1, 2) and said in ran.all
    book_of(tmp_path, "x.csv", "out/x.csv")
    ran = run("look", "x", "--read-as", 'delimiter = ";"', cwd=tmp_path)
    assert ran.code in (1, 2) and "says itself how its source is read" in ran.all


@given(
    st.lists(
        st.tuples(
            st.sampled_from(["", "EUR", "EUR ", "EUR\u00a0", "eur", " "]),
            st.text(st.sampled_from("0123,.- e"), max_size=4),
            st.sampled_from(["", "EUR", "  EUR", "\tEUR"]),
        ).map("".join)
        | st.none(),
        max_size=6,
    ),
    st.sampled_from(["integer", "number"]),
    st.sampled_from([FieldForm(unit="EUR"), FieldForm(",", unit="EUR"), FieldForm(",", ".", unit="EUR")]),
)
@example(["EUR 1,5", "EUR 2"], "number", FieldForm(",", unit="EUR"))
@example(["1EUR", "-2 EUR"], "integer", FieldForm(unit="EUR"))
@example(["EUR", "EUR 1"], "number", FieldForm(unit="EUR"))
def test_units_that_stand_alike_are_taken_off_as_one_by_one(texts, kind, form):
    fields = pa.array(texts, pa.string())
    quickly = convert_text(fields, kind, (), form)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(field_form, "_without_unit", lambda *_: None)
        closely = convert_text(fields, kind, (), form)
    assert quickly.array.equals(closely.array)
    bad = [None if one.bad is None else one.bad.tolist() for one in (quickly, closely)]
    assert bad[0] == bad[1]
