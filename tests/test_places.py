"""Where keys and cells of a TOML document stand, whatever its line ends, quotes and headings."""

import pytest

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
