"""A law over books: what `status` calls current is what a fresh apply would write, and a refresh writes just that."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path

import pyarrow as pa
import pyarrow.ipc
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from tests.conftest import budget

_CELLS = ("< 5", ">= 5", "< 3", "3 to 7", "present", "missing", "", "> 6.5", "<= 1.2")
_RESULTS = ("a", "b", "o", "", "missing")
_HEAD = '[severity]\ngap = "note"\noverlap = "warning"\nconflict = "warning"\nunfinished = "note"\nimpossible = "note"\n'
_COLUMNS = (
    '{ table = "t", status = "how" }',
    '{ table = "t", row = "by" }',
    '"t"',
    '"t", { indicators = "y", name = "is_{class}" }',
    '{ table = "t", status = "how" }, "read"',
)
_TARGETS = ("out.csv", "out.parquet", "out.arrow", "out.jsonl")
_FORMULAS = "read = \"how || ', ' || COALESCE(y, '-')\"\n"


@st.composite
def _tables(draw, step, match):
    """The text of a table over one or two inputs, with rows, ends and blanks of any kind."""
    names = ["n", "m"][: draw(st.sampled_from((1, 1, 2)))]
    rows = draw(
        st.lists(
            st.tuples(*(st.sampled_from(_CELLS) for _ in names), st.sampled_from(_RESULTS)),
            min_size=1,
            max_size=4,
        )
    )
    combine = ', combine = "join"' if match == "every" else ""
    lines = [
        *(f'inputs.{name} = {{ type = "number"{step} }}' for name in names),
        f'outputs.y = {{ type = "text"{combine} }}',
        f'match = "{match}"',
        *(
            f'{word} = {{ y = "{draw(st.sampled_from(("o", "m")))}" }}'
            for word in ("otherwise", "missing")
            if draw(st.booleans())
        ),
    ]
    return lines, names, rows


def _text(lines, names, rows):
    listed = [[*names, "y"], *map(list, rows)]
    return "\n".join([*lines, "rows = [", *(f"  {row!r},".replace("'", '"') for row in listed), "]\n"])


@st.composite
def _edits(draw):
    """Two versions of a table: rows that move, come, go or say something else, and other ends."""
    step = draw(st.sampled_from(("", ", step = 0.5")))
    match = draw(st.sampled_from(("first", "first", "every")))
    lines, names, rows = draw(_tables(step, match))
    kind = draw(st.sampled_from(("move", "go", "come", "end", "cell", "result")))
    after, new_lines = list(rows), list(lines)
    place = draw(st.integers(0, len(rows) - 1))
    if kind == "move":
        after = draw(st.permutations(rows))
    elif kind == "go" and len(rows) > 1:
        del after[place]
    elif kind == "come":
        row = (*(draw(st.sampled_from(_CELLS)) for _ in names), draw(st.sampled_from(_RESULTS)))
        after.insert(place, row)
    elif kind == "end":
        new_lines = [one for one in lines if not one.startswith(("otherwise", "missing"))]
        new_lines.append('otherwise = { y = "o" }')
    elif kind == "cell":
        after[place] = (draw(st.sampled_from(_CELLS)), *after[place][1:])
    elif kind == "result":
        after[place] = (*after[place][:-1], draw(st.sampled_from(_RESULTS)))
    return _text(lines, names, rows), _text(new_lines, names, after)


def _held(target: Path):
    """What a target holds: values, types, and classes in their order."""
    if target.suffix in (".csv", ".jsonl"):
        return target.read_text()
    table = pq.read_table(target) if target.suffix == ".parquet" else pa.ipc.open_file(target).read_all()
    shown = []
    for field, column in zip(table.schema, table.columns, strict=True):
        of_classes = (
            list(dict.fromkeys(one for chunk in column.chunks for one in chunk.dictionary.to_pylist()))
            if pa.types.is_dictionary(field.type)
            else None
        )
        shown.append((field.name, str(field.type), of_classes, column.to_pylist()))
    return shown


@settings(max_examples=budget(33))
@given(
    tables=_edits(),
    columns=st.sampled_from(_COLUMNS),
    target=st.sampled_from(_TARGETS),
    where=st.sampled_from(("", "", "where = \"how = 'matched'\"\n", 'where = "y IS NOT NULL"\n')),
    grows=st.booleans(),
)
def test_what_is_called_current_is_what_a_fresh_apply_writes(tables, columns, target, where, grows):
    if "how" in where and "how" not in columns:
        where = ""
    folder = Path(tempfile.mkdtemp())
    try:
        (folder / "tables").mkdir()
        (folder / "d.csv").write_text("n,m\n1,1\n3,8\n7,1\n,1\n9,\n1.1,2\n6.7,0.3\n")
        types = "types = { n = 'number', m = 'number' }\n"
        (folder / "book.toml").write_text(
            f'{_HEAD}[datasets.d]\nsource = "d.csv"\ntarget = "{target}"\n{types}columns = [{columns}]\n{where}'
        )
        if "read" in columns:
            (folder / "formulas.toml").write_text(_FORMULAS)
        before, after = tables
        (folder / "tables/t.toml").write_text(before)
        try:
            kivvet.open_book(folder).apply_dataset("d")
            (folder / "tables/t.toml").write_text(after)
        except kivvet.KivvetError:
            return  # not a book that can be applied
        if grows:
            with (folder / "d.csv").open("a") as file:
                file.write("2,2\n8,8\n")
        book = kivvet.open_book(folder)
        state = book.status()[0].state
        if state == "cannot tell":
            return
        kept = _held(folder / target)
        book.refresh()
        refreshed = _held(folder / target)
        assert kivvet.open_book(folder).status()[0].state == "current"
        kivvet.open_book(folder).apply_dataset("d")
        fresh = _held(folder / target)
        assert refreshed == fresh
        if state == "current":
            assert kept == fresh
    finally:
        shutil.rmtree(folder)


@pytest.mark.parametrize("target", _TARGETS)
def test_rows_that_change_places_make_columns_stale_where_the_order_of_classes_is_held(tmp_path, target):
    (tmp_path / "tables").mkdir()
    (tmp_path / "d.csv").write_text("n\n1\n7\n")
    (tmp_path / "book.toml").write_text(
        f'[datasets.d]\nsource = "d.csv"\ntarget = "{target}"\ntypes = {{ n = "number" }}\ncolumns = ["t"]\n'
    )
    rows = [("< 5", "low"), (">= 5", "high")]
    lines = ['inputs.n = "number"', 'outputs.y = "text"']
    (tmp_path / "tables/t.toml").write_text(_text(lines, ["n"], rows))
    kivvet.open_book(tmp_path).apply_dataset("d")
    (tmp_path / "tables/t.toml").write_text(_text(lines, ["n"], rows[::-1]))
    (status,) = kivvet.open_book(tmp_path).status()
    assert status.state == ("stale" if target in ("out.parquet", "out.arrow") else "current")
    if status.state == "stale":
        (reason,) = status.reasons
        assert reason.message == "table t changed"
        assert [str(one) for one in reason.changes] == ["classes of y: low, high -> high, low"]


def test_rows_decided_in_another_way_make_the_column_stale_that_tells_how(tmp_path):
    (tmp_path / "tables").mkdir()
    (tmp_path / "d.csv").write_text("n\n1\n7\n")
    (tmp_path / "book.toml").write_text(
        '[datasets.d]\nsource = "d.csv"\ntarget = "out.csv"\ntypes = { n = "number" }\n'
        'columns = [{ table = "t", status = "how" }]\n'
    )
    lines = ['inputs.n = "number"', 'outputs.y = "text"']
    (tmp_path / "tables/t.toml").write_text(_text(lines, ["n"], [("< 5", "a"), (">= 5", "o")]))
    kivvet.open_book(tmp_path).apply_dataset("d")
    lines.append('otherwise = { y = "o" }')
    (tmp_path / "tables/t.toml").write_text(_text(lines, ["n"], [("< 5", "a")]))
    (status,) = kivvet.open_book(tmp_path).status()
    assert status.stale_columns == ("how",)
    assert [str(one) for one in status.reasons[0].changes] == [">= 5: o, matched -> o, unmatched"]
