"""Where keys and cells of a TOML document stand, whatever its line ends, quotes and headings."""

import json
import re
import tomllib
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kivvet.books.files import long_rows, toml_places
from kivvet.books.files.readers import read_csv_rows, read_toml
from kivvet.books.files.toml_places import TomlPlaces

DOCUMENT = """\
# a comment with [brackets] and "quotes"
title = 'It''s' # not this
inputs.ph = { type = "number", step = 0.1, "odd key" = [1, 2] }

[outputs]
ph_class.type = "text"
"quoted.name" = "text"

[[rows]]
x = 1
[[rows]]
x = \"\"\"
two
lines\"\"\"

[datasets.samples]
columns = [
  "ph_class",            # the first
  { table = "station", keep = ["river", { b = "c" }] },
  ["nested", ["deep, er"]],
]
""".replace("'It''s'", '"It\'s"')

PLACES = {
    ("title",): (2, 1),
    ("inputs", "ph"): (3, 1),
    ("inputs", "ph", "type"): (3, 15),
    ("inputs", "ph", "step"): (3, 32),
    ("inputs", "ph", "odd key"): (3, 44),
    ("inputs", "ph", "odd key", 1): (3, 60),
    ("outputs",): (5, 2),
    ("outputs", "ph_class"): (6, 1),
    ("outputs", "quoted.name"): (7, 1),
    ("rows", 0, "x"): (10, 1),
    ("rows", 1, "x"): (12, 1),
    ("datasets", "samples", "columns"): (17, 1),
    ("datasets", "samples", "columns", 0): (18, 4),
    ("datasets", "samples", "columns", 1, "table"): (19, 5),
    ("datasets", "samples", "columns", 1, "keep", 0): (19, 33),
    ("datasets", "samples", "columns", 1, "keep", 1, "b"): (19, 43),
    ("datasets", "samples", "columns", 2, 1, 0): (20, 16),
    ("datasets", "samples", "columns", 2, 7): (20, 3),
    ("nowhere",): (None, None),
}


@pytest.mark.parametrize("path", PLACES)
def test_a_path_stands_where_it_is_written_or_its_nearest_parent_does(path):
    place = TomlPlaces(DOCUMENT, "x.toml").locate(path)
    assert (place.line, place.column) == PLACES[path]


@pytest.mark.parametrize("line_end", ["\n", "\r\n"])
def test_places_are_the_same_for_both_line_ends(tmp_path, line_end):
    path = tmp_path / "x.toml"
    path.write_bytes(DOCUMENT.replace("\n", line_end).encode())
    document, faults = read_toml(path)
    assert faults == []
    for where, expected in PLACES.items():
        place = document.locate(where)
        assert (place.line, place.column) == expected


@pytest.mark.parametrize(
    ("text", "line", "said"),
    [
        ('title = "x\n', 1, "Illegal character"),
        ("a = [\n  [1, 2]\n  [3]\n]\n", 3, "comma"),
        ("a = 1\na = 2\n", 2, "overwrite"),
        ("a = nope\n", 1, "Invalid value"),
    ],
)
def test_broken_toml_is_a_finding_with_its_line(tmp_path, text, line, said):
    path = tmp_path / "x.toml"
    path.write_text(text)
    _, (finding,) = read_toml(path)
    assert finding.kind == "syntax" and finding.places[0].line == line
    assert said.casefold() in f"{finding.message} {finding.remedy}".casefold()


def test_records_of_csv_know_the_line_they_begin_on(tmp_path):
    path = tmp_path / "x.csv"
    path.write_bytes(b'\xef\xbb\xbfa,b\r\n1,"two\r\nlines"\r\n\r\n3,4\r\n')
    rows, faults = read_csv_rows(path)
    assert faults == []
    assert rows.records == [["a", "b"], ["1", "two\r\nlines"], ["3", "4"]]
    assert rows.lines == [1, 2, 5]


def test_bytes_that_are_not_utf8_are_placed(tmp_path):
    path = tmp_path / "x.toml"
    path.write_bytes(b'a = 1\nb = "\xfc"\n')
    _, (finding,) = read_toml(path)
    assert str(finding.places[0]).endswith("x.toml:2:6")


CELLS = st.sampled_from(
    [
        '"a"',
        '"a\\"b"',
        '"\\\\"',
        '""',
        '"# no"',
        '"]"',
        "'[x'",
        '"""a]b"""',
        '"""\na"""',
        "3",
        "[ ]",
        '{ x = "y" }',
    ]
)
ROWS = st.lists(
    st.tuples(
        st.lists(CELLS, max_size=4),
        st.sampled_from([", ", ",", " , ", ",\n  "]),
        st.sampled_from(["", ",", " "]),
    ),
    max_size=6,
)


@given(ROWS, st.sampled_from([",", " ,  # why, [x]", ",\n", " # why\n ,", "\n,"]))
def test_rows_whose_cells_are_sought_late_stand_where_they_would_have_been_found_at_once(rows, after):
    text = "rows = [\n"
    for cells, between, end in rows:
        text += f"  [{between.join(cells)}{end if cells else ''}]{after}\n"
    text += ']\nlast = "x"\n'
    tomllib.loads(text)
    late = TomlPlaces(text, "x.toml")
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(toml_places, "_PLAIN_ROW", re.compile(r"(?!)"))
        at_once = TomlPlaces(text, "x.toml")
    paths = [("rows",), ("last",), *((("rows", n)) for n in range(len(rows)))]
    paths += [("rows", n, m) for n, (cells, *_) in reversed(list(enumerate(rows))) for m in range(len(cells))]
    for path in [*paths, ("rows", 0, 9), ("rows", 99, 1), ("rows", 0, 0, "x")]:
        assert late.locate(path) == at_once.locate(path)
    for path in paths:
        assert late.start(path) == at_once.start(path)
        if path != ("last",):
            assert late.end(path) == at_once.end(path)


QUICK = st.lists(
    st.lists(
        st.one_of(
            st.text(st.characters(codec="utf-8", exclude_categories=["Cs"]), max_size=6).map(json.dumps),
            st.sampled_from(
                ["1", "-0", "1.50", "+1", "1_0", "1e3", "1.", "true", "null", "nan", "NaN", "[1, 2]"]
            ),
            st.sampled_from(
                ["{ a = 1 }", '{ "a": 1 }', "'x'", '"a" # b', '"\t"', '"\x7f"', "2026-01-02", "", "0x1F"]
            ),
        ),
        max_size=3,
    ).map(lambda cells: f"[{', '.join(cells)}]"),
    max_size=4,
)


@given(
    QUICK,
    st.sampled_from([",", "", "  ,", ",\n\n", " # c", ",,"]),
    st.sampled_from(["", "[x]\n", 'a = """\n', "rows = 3\n", 'rows.x = 1\nb = "', "# rows = [\n"]),
    st.sampled_from(["", '"""\n', "[y]\nrows = 1\n", "rows = 2\n", "z", "]\n"]),
    st.sampled_from(["rows = [\n", "rows=[ \n", "rows = [", " rows = [\n", '"rows" = [\n']),
)
def test_long_rows_are_read_as_the_standard_library_reads_them(rows, end, before, after, opens):
    text = before + opens + ",\n".join(rows) + end + "\n]\n" + after
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(long_rows, "_SHORT", 0)
        try:
            wanted = tomllib.loads(text, parse_float=Decimal)
        except tomllib.TOMLDecodeError as error:
            with pytest.raises(tomllib.TOMLDecodeError, match=re.escape(str(error))):
                long_rows.read_document(text)
        else:
            assert repr(long_rows.read_document(text)) == repr(wanted)


def test_long_rows_are_read_as_json_where_they_are():
    rows = "".join(f'  ["{number}", "class {number % 7}"],\n' for number in range(3_000))
    text = f'inputs.x = "text"\nrows = [\n{rows}]\n[severity]\ngap = "note"\n'
    assert long_rows._read_quickly(text) == tomllib.loads(text, parse_float=Decimal)
    assert long_rows._read_quickly(text.replace("class 3", "class # 3")) is None
