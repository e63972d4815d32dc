"""Rows edited in code: lines that are not concerned stay to the letter, what would break the book is not written."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from tests.conftest import budget, write_book

TABLE = """\
# on top
inputs.x = { type = "number", step = 1 }
outputs.y = "text"
match = "first"
rows = [
  # the low ones
  ["< 2",     "low"],     # one
  ["2 to <5", "middle"],
  # from five up
  [">= 5",    "high"]     # three
]
title = "Below"
"""
CSV = 'note,x,y\nfirst,< 2,low\n"a ""word""",2 to <5,middle\n,>= 5,high'


@pytest.fixture(params=["toml", "csv", "crlf"])
def folder(tmp_path, request):
    if request.param == "csv":
        files = {
            "tables/t.toml": TABLE[: TABLE.index("rows")] + 'rows = "t.csv"\n',
            "tables/t.csv": CSV,
        }
    else:
        text = TABLE if request.param == "toml" else TABLE.replace("\n", "\r\n")
        files = {"tables/t.toml": text.encode(), "tables/t.csv": None}
    return write_book(tmp_path / "b", files)


def rows_of(table):
    lines = str(table).split("\n")
    return [tuple(line.split('"')[1::2]) for line in lines if line.startswith('  ["') and '"x"' not in line]


def lines(folder):
    beside = folder / "tables/t.csv"
    return (beside if beside.exists() else folder / "tables/t.toml").read_text().splitlines()


def test_only_the_lines_concerned_change(folder):
    before = lines(folder)
    with kivvet.open_book(folder).edit("t") as edit:
        edit.set(2, {"x": "2 to <6"}).set(3, {"x": ">= 6", "y": "top"})
        assert rows_of(edit.table)[1:] == [("2 to <6", "middle"), (">= 6", "top")]
        assert edit.difference and lines(folder) == before
    raw = (folder / "tables/t.toml").read_bytes()
    assert raw.count(b"\n") == raw.count(b"\r\n") or b"\r\n" not in raw
    after = lines(folder)
    assert len(after) == len(before) and sum(a != b for a, b in zip(after, before, strict=True)) == 2
    assert rows_of(kivvet.open_book(folder).table("t")) == [
        ("< 2", "low"),
        ("2 to <6", "middle"),
        (">= 6", "top"),
    ]


def test_rows_are_added_removed_moved_and_classes_renamed(folder):
    edit = kivvet.open_book(folder).edit("t")
    edit.add({"x": "missing", "y": "none"}, at=1).rename("y", "low", "small").move(4, 2).remove(4)
    assert rows_of(edit.table) == [("missing", "none"), (">= 5", "high"), ("< 2", "small")]
    edit.add({"x": "2 to <5", "y": "middle"})
    said = edit.save()
    assert said.startswith("--- ") and "+" in said and edit.save() == ""
    assert rows_of(kivvet.open_book(folder).table("t")) == [
        ("missing", "none"),
        (">= 5", "high"),
        ("< 2", "small"),
        ("2 to <5", "middle"),
    ]
    text = "\n".join(lines(folder))
    for comment in ("on top", "# one", "# three", "# from five up", "Below"):
        assert comment in text or "t.csv" in (folder / "tables/t.toml").read_text()


def test_what_would_break_the_book_is_not_written(folder):
    before = lines(folder)
    edit = kivvet.open_book(folder).edit("t")
    edit.set(2, {"x": "2 to <4"})
    edit.set(1, {"y": "small"})
    with pytest.raises(kivvet.TableError, match="impossible"):
        kivvet.open_book(folder).edit("t").set(2, {"x": "5 to 2"}).save()
    for call, says in (
        (lambda: edit.set(2, {"x": "2 to <"}), "could not be read then"),
        (lambda: edit.set(2, {"z": "1"}), "no column 'z'"),
        (lambda: edit.set(9, {"x": "1"}), "no row 9"),
        (lambda: edit.remove(0), "no row 0"),
        (lambda: edit.move(1, 9), "no row 9"),
        (lambda: edit.rename("z", "low", "l"), "no output 'z'"),
        (lambda: edit.rename("y", "lwo", "l"), "gives y = lwo"),
    ):
        with pytest.raises(kivvet.BookError, match=says):
            call()
    assert lines(folder) == before


def test_it_is_refused_where_the_file_changed_underneath(folder):
    edit = kivvet.open_book(folder).edit("t").set(1, {"y": "small"})
    path = folder / ("tables/t.csv" if (folder / "tables/t.csv").exists() else "tables/t.toml")
    path.write_bytes(path.read_bytes() + b"\n")
    changed = path.read_bytes()
    with pytest.raises(kivvet.BookError, match="changed by something else since it was read"):
        edit.save()
    assert path.read_bytes() == changed


def test_an_example_that_would_break_keeps_it_from_being_written(tmp_path):
    table = TABLE + 'examples = [["x", "y"], ["3", "middle"]]\n'
    folder = write_book(tmp_path / "b", {"tables/t.toml": table})
    with pytest.raises(kivvet.TableError, match="example 1"), kivvet.open_book(folder).edit("t") as edit:
        edit.rename("y", "middle", "mid")
    assert (folder / "tables/t.toml").read_text() == table
    assert kivvet.open_book(folder).edit("t").rename("y", "middle", "mid").save(with_errors=True)


def test_rows_of_a_lookup_are_edited_too(tmp_path):
    folder = write_book(tmp_path / "b")
    with kivvet.open_book(folder).edit("station") as edit:
        edit.set(2, {"river": "Oak"}).add({"station": "9", "river": "Elm", "keeper": "Wim"})
    text = (folder / "tables/station.csv").read_text().splitlines()
    assert text[2:] == ["Tom,008,,Oak", "Wim,9,,Elm"] and text[1] == "Ida,007,2001-02-03,Elm"
    with pytest.raises(kivvet.BookError, match="share a line"):
        write_book(tmp_path / "c", {"tables/t.toml": 'inputs.x = "number"\noutputs.y = "text"\nmatch = "first"\nrows = [["< 5", "a"], [">= 5", "b"]]\n'})  # fmt: skip
        kivvet.open_book(tmp_path / "c").edit("t").move(1, 2)


operations = st.lists(
    st.tuples(st.sampled_from(["set", "add", "remove", "move"]), st.integers(1, 6), st.integers(1, 6), st.integers(0, 9)),
    max_size=6,
)  # fmt: skip


@settings(max_examples=budget(40), deadline=None)
@given(operations, st.booleans())
def test_any_edits_come_to_what_a_list_comes_to(tmp_path_factory, operations, beside):
    files = {"tables/t.toml": TABLE}
    if beside:
        files = {"tables/t.toml": TABLE[: TABLE.index("rows")] + 'rows = "t.csv"\n', "tables/t.csv": CSV}
    folder = write_book(tmp_path_factory.mktemp("b"), files)
    edit = kivvet.open_book(folder).edit("t")
    rows = [("< 2", "low"), ("2 to <5", "middle"), (">= 5", "high")]
    for what, row, to, number in operations:
        if what == "add":
            edit.add({"x": f"{number}", "y": f"c{number}"})
            rows.append((f"{number}", f"c{number}"))
        elif row > len(rows) or (what == "remove" and len(rows) == 1):
            continue
        elif what == "set":
            edit.set(row, {"y": f"d{number}"})
            rows[row - 1] = (rows[row - 1][0], f"d{number}")
        elif what == "remove":
            edit.remove(row)
            del rows[row - 1]
        elif to <= len(rows):
            edit.move(row, to)
            rows.insert(to - 1, rows.pop(row - 1))
        assert rows_of(edit.table) == rows
    edit.save(with_errors=True)
    assert rows_of(kivvet.open_book(folder).table("t")) == rows
