"""Statements between inputs, bounds beyond floats, and versions that differ in kind: what is checked is what is applied."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.ipc
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from tests.conftest import budget

TABLE = kivvet.RuleTable
NAMES = ("less", "equal", "more")
COEFFICIENTS = st.sampled_from(["1", "1.5", "2", "0.25", "3", "0.1", "1.05"])


@settings(max_examples=budget(82))
@given(
    st.data(),
    st.sampled_from(["0.01", "0.1", "0.05", "1"]),
    COEFFICIENTS,
    COEFFICIENTS,
    st.sampled_from(["+", "-"]),
    st.integers(-40, 40),
)
def test_sums_of_inputs_with_a_step_are_compared_in_whole_steps(data, step, a, b, sign, limit):
    """Held against fractions, on values that lie on the line and one step beside it."""
    size, bound = Fraction(step), Fraction(limit, 4)
    one, other = Fraction(a), Fraction(b) * (1 if sign == "+" else -1)
    xs = data.draw(st.lists(st.integers(-3000, 3000), min_size=1, max_size=8))
    rows = []
    for x in xs:
        meets = (bound - one * x * size) / (other * size)
        near = meets.numerator // meets.denominator
        rows += [(x, near + d) for d in (-1, 0, 1, 2)]
    about = {"type": "integer"} if step == "1" else {"type": "number", "step": step}
    condition = f"{a} * x {sign} {b} * y"
    table = TABLE(
        "t",
        {"x": about, "y": about},
        {"c": "text"},
        [
            ["x", "y", "when", "c"],
            *(["", "", f"{condition} {op} {limit / 4}", name] for op, name in zip("<=>", NAMES, strict=True)),
        ],
        severity={"impossible": "note"},  # no multiples of the steps may lie on the line
    )
    assert not table.check().of_kind("gap")
    frame = pd.DataFrame({"x": [float(x * size) for x, _ in rows], "y": [float(y * size) for _, y in rows]})
    if step == "1":
        frame = frame.astype("int64")
    wanted = []
    for x, y in rows:
        gap = one * x * size + other * y * size - bound
        wanted.append(NAMES[0] if gap < 0 else NAMES[2] if gap else NAMES[1])
    assert table.apply(frame)["c"].tolist() == wanted


def test_a_hundredth_on_the_line_is_on_the_line():
    about = {"type": "number", "step": 0.01}
    rows = [["b", "c", "when", "y"], ["", "", "b + 1.5 * c >= 15", "in"], ["", "", "b + 1.5 * c < 15", "out"]]
    table = TABLE("t", {"b": about, "c": about}, {"y": "text"}, rows)
    assert table.apply(pd.DataFrame({"b": [8.79, 8.78], "c": [4.14, 4.14]}))["y"].tolist() == ["in", "out"]


@pytest.mark.parametrize("inputs", [{"a": "integer"}, {"a": "integer", "b": "integer"}])
def test_rows_that_a_statement_may_keep_apart_are_held_against_data(inputs):
    """However many inputs there are: the earlier row does not win in silence."""
    rest = [""] * (len(inputs) - 1)
    rows = [[*inputs, "y"], ["<= 5", *rest, "low"], [">= 5", *rest, "high"]]
    table = TABLE("t", inputs, {"y": "text"}, rows, given="a <> 5")
    assert table.check().is_clean
    assert table.apply(pd.DataFrame({name: [3, 9] for name in inputs}))["y"].tolist() == ["low", "high"]
    with pytest.raises(kivvet.DataError, match="1 rows of data match rows of table 't' that differ"):
        table.apply(pd.DataFrame({name: [3, 5] for name in inputs}))


@pytest.mark.parametrize(
    "rows",
    [[["", "b = 1", "p"], ["", "b = 2", "q"]], [["", "b IN (1, 2)", "p"]], [["", "s = 'x'", "p"]]],
)
def test_single_values_that_when_asks_for_leave_others_open(rows):
    table = TABLE("t", {"a": "integer"}, {"y": "text"}, [["a", "when", "y"], *rows])
    (note,) = table.check().of_kind("open")
    assert "otherwise" in note.remedy


@pytest.mark.parametrize(
    ("kind", "beyond"), [("float64", "1e400"), ("float32", "1e39"), ("float16", "70000")]
)
@pytest.mark.parametrize("type_", ["number", "integer"])
def test_bounds_beyond_the_floats_part_the_infinities_from_all_else(kind, beyond, type_):
    rows = [[f"< -{beyond}", "below"], [f"-{beyond} to {beyond}", "within"], [f"> {beyond}", "above"]]
    table = TABLE("t", {"x": type_}, {"y": "text"}, rows)
    largest = float(np.finfo(kind).max)
    frame = pd.DataFrame({"x": np.array([-np.inf, -largest, 0, largest, np.inf], kind)})
    assert table.apply(frame)["y"].tolist() == ["below", *["within"] * 3, "above"]


def _views(data):
    """A table whose texts are held as views, as polars hands them on."""
    return pa.table(data).cast(pa.schema([("n", pa.int64()), ("s", pa.string_view())]))


@pytest.mark.parametrize("make", [pl.DataFrame, _views, pa.table, pd.DataFrame])
def test_where_keeps_rows_of_every_kind_of_frame(tmp_path, make):
    (tmp_path / "tables").mkdir()
    (tmp_path / "book.toml").write_text("")
    (tmp_path / "tables/t.toml").write_text(
        'inputs.n = "integer"\noutputs.y = "text"\nrows = [["< 5", "low"], [">= 5", "high"]]\n'
    )
    made = kivvet.open_book(tmp_path).apply(make({"n": [1, 7], "s": ["a", "b"]}), ["t"], where="n > 1")
    assert made.shape == (1, 3)
    assert type(made) is type(make({"n": [1, 7], "s": ["a", "b"]}))


@pytest.mark.parametrize("target", ["o.csv", "o.parquet", "o.arrow", "o.jsonl"])
def test_a_file_of_arrow_whose_texts_are_views_is_read_and_filtered(tmp_path, target):
    (tmp_path / "tables").mkdir()
    table = _views({"n": [1, 7, None], "s": ["a", "b", "a text of some length"]})
    with pa.ipc.new_file(tmp_path / "d.arrow", table.schema) as file:
        file.write_table(table)
    (tmp_path / "tables/t.toml").write_text(
        'inputs.n = "integer"\noutputs.y = "text"\nrows = [["< 5", "low"], [">= 5", "high"]]\n'
    )
    (tmp_path / "book.toml").write_text(
        f'[datasets.d]\nsource = "d.arrow"\ntarget = "{target}"\ncolumns = ["t"]\nwhere = "n > 1"\n'
    )
    assert kivvet.open_book(tmp_path).apply_dataset("d").written == 1


def test_a_part_of_json_lines_without_any_value_of_a_column_takes_the_type_of_the_others(tmp_path):
    (tmp_path / "tables").mkdir()
    (tmp_path / "a.jsonl").write_text('{"n": null}\n')
    (tmp_path / "b.jsonl").write_text('{"n": 1}\n')
    (tmp_path / "book.toml").write_text(
        '[datasets.d]\nsource = ["a.jsonl", "b.jsonl"]\ntarget = "o.csv"\ncolumns = ["t"]\n'
    )
    (tmp_path / "tables/t.toml").write_text(
        'inputs.n = "integer"\noutputs.y = "text"\nrows = [["present", "p"]]\n'
    )
    kivvet.open_book(tmp_path).apply_dataset("d")
    assert (tmp_path / "o.csv").read_text() == "n,y\n,\n1,p\n"


def test_impact_tells_that_every_row_gets_a_list_once_every_match_counts(tmp_path):
    (tmp_path / "tables").mkdir()
    (tmp_path / "d.csv").write_text("n\n1\n7\n")
    (tmp_path / "book.toml").write_text(
        '[datasets.d]\nsource = "d.csv"\ntarget = "o.parquet"\ntypes = { n = "integer" }\ncolumns = ["t"]\n'
    )
    text = 'inputs.n = "integer"\noutputs.y = "text"\nmatch = "first"\nrows = [["< 5", "low"], ["present", "any"]]\n'
    (tmp_path / "tables/t.toml").write_text(text)
    kivvet.open_book(tmp_path).apply_dataset("d")
    (tmp_path / "tables/t.toml").write_text(text.replace("first", "every"))
    book = kivvet.open_book(tmp_path)
    assert [one.changed for one in book.impact().datasets[0].columns] == [2]
    assert book.compare("t", "last").rows_changed == 2


def test_nothing_joined_is_no_row_for_who_compares_and_a_range_never_holds_what_is_missing():
    heads, every = ["a", "b", "y"], {"match": "every"}
    joined = {"y": {"type": "text", "combine": "join"}}
    old, new = (
        TABLE("t", {"a": "integer", "b": "boolean"}, joined, [heads, *rows], **every)
        for rows in ([["< 2", "", "r"]], [["< 2", "", "r"], ["< 0", "true", "r"]])
    )
    assert new.compare(old).is_same
    keys = {"k": "text", "v": {"type": "integer", "from": "lo", "to": "hi"}}
    one, two = (
        TABLE("t", keys, {"y": "text"}, lookup=[{"k": "B", "lo": None, "hi": None, "y": y}]) for y in "pq"
    )
    (region,) = two.compare(one).regions
    assert region.region == {"k": "B", "v": "present"}


def test_a_mark_for_decimals_is_refused_for_rows_of_conditions(small_book):
    (small_book / "tables/t.toml").write_text(
        'inputs.x = "number"\noutputs.y = "text"\nrows = "t.csv"\ndelimiter = ";"\ndecimal = ","\nthousands = "."\n'
    )
    (small_book / "tables/t.csv").write_text("x;y\n< 5.600;low\n>= 5.600;high\n")
    found = kivvet.open_book(small_book).check(["t"], data=False).of_kind("syntax")
    assert [one.message.split()[0] for one in found] == ["decimal", "thousands"]


def test_what_is_asked_of_bins_is_refused_where_there_is_no_one_column(small_book):
    frame = pd.DataFrame({"a": [1, 2, 3], "b": ["x", "y", "x"]})
    for columns, more, what in (
        (["b", "b2"], {}, "no numbers or dates"),
        ("b", {}, "column 'b' is text"),
        ("a", {"by_value": True}, "bins asks for bins, and by_value for one row a value"),
        (["a", "b"], {"classes": "b2"}, "bins has no meaning beside classes"),
        (["a", "b"], {"results": "{number}"}, "results has a meaning for one column only"),
    ):
        with pytest.raises(kivvet.DataError, match=what):
            kivvet.draft(frame.assign(b2=frame["b"]), columns, bins=3, **more)
    assert (
        kivvet.draft(frame, ["a", "b"], bins=2).rows[0].conditions[0]
        != kivvet.draft(frame, ["a", "b"]).rows[0].conditions[0]
    )
    with pytest.raises(kivvet.DataError, match="a lookup"):
        kivvet.open_book(small_book).draft("new", "samples", bins=3, key=["station"])


def test_a_zero_with_a_sign_is_zero_in_a_draft_from_classes():
    frame = pd.DataFrame(
        {"x": [-1.0, -0.0, 0.0, 1.0] * 3, "s": ["a", "b"] * 6, "c": ["p", "q", "q", "r"] * 3}
    )
    table = kivvet.draft(frame, ["x", "s"], classes="c", name="v")
    assert table.apply(frame[["x", "s"]])["v"].tolist() == frame["c"].tolist()
