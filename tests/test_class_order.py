"""Classes in an order of their own: said by a list, by the rows, or by a column; kept in every form of data."""

from __future__ import annotations

import datetime as dt
import json

import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

import kivvet
from tests.conftest import write_book

LOOKUP = {"k": ["x", "y", "z"], "label": ["late", "early", "late"], "rank": [3, 1, 3]}
BY_RANK = {"column": "rank"}


def table(order, rows=None, lookup=None):
    made = pa.table(lookup) if lookup else None
    return kivvet.RuleTable(
        "t", {"k": "text"}, {"label": {"type": "text", "order": order}}, rows, lookup=made
    )


@pytest.mark.parametrize(
    ("order", "classes"),
    [
        (["early", "late"], ["early", "late"]),
        ("rows", ["late", "early"]),
        (BY_RANK, ["early", "late"]),
    ],
)
def test_the_order_is_listed_or_the_rows_or_a_column_say_it(order, classes):
    made = table(order, lookup=LOOKUP).apply(pd.DataFrame({"k": ["x", "y", "w"]})).label
    assert list(made.cat.categories) == classes and made.cat.ordered


def test_a_column_of_inline_rows_may_rank_the_classes_by_numbers_or_days():
    for ranks in ([10, "9", "1e1"], ["2026-02-01", "2026-01-31", "2026-02-01"]):
        rows = [
            ["k", "label", "rank"],
            *(
                [key, label, rank]
                for key, label, rank in zip("xyz", ["late", "early", "late"], ranks, strict=True)
            ),
        ]
        assert table(BY_RANK, rows).classes("label") == ("early", "late")


@pytest.mark.parametrize(
    ("ranks", "said"),
    [
        ([3, 3, 3], "'late' (row 1), 'early' (row 2) have the same rank, 3"),
        ([3, 1, 4], "label = 'late' has rank 3 (row 1), 4 (row 3)"),
        ([3, None, 3], "is blank in row 2"),
        (["3", "first", "3"], "holds 'first', which is no number"),
    ],
)
def test_classes_and_ranks_have_to_be_one_to_one(ranks, said):
    with pytest.raises(kivvet.TableError) as error:
        table(BY_RANK, lookup={**LOOKUP, "rank": ranks})
    assert said in str(error.value)


@pytest.mark.parametrize(
    ("order", "said"),
    [
        ({"column": "rnak"}, "did you mean 'rank'?"),
        ({"columns": "rank"}, "order names the column that ranks the classes"),
        ("backwards", 'order = "rows"'),
        (["early"], "2 values of 'label' are not in its order, such as 'late'"),
        (["early", "late", "early"], "each once"),
    ],
)
def test_an_order_that_cannot_be_is_told_with_what_can(order, said):
    with pytest.raises(kivvet.TableError) as error:
        table(order, lookup=LOOKUP)
    assert said in str(error.value)


def test_a_class_of_the_order_that_nothing_gives_is_told_for_lookups_too():
    (found,) = table(["early", "late", "never"], lookup=LOOKUP).check()
    assert (found.kind, found.severity) == ("unused", "note") and "never" in found.message


@given(st.permutations(["a", "b", "c", "d"]), st.lists(st.sampled_from("wxyz?"), max_size=12))
def test_the_order_survives_every_form_of_data(order, keys):
    rules = table(order, [["w", "a"], ["x", "b"], ["y", "c"], ["z", "d"]])
    arrow = rules.apply(pa.table({"k": pa.array(keys, pa.string())}))
    field = arrow.schema.field("label")
    assert field.type.ordered and json.loads(field.metadata[b"class_order"]) == order
    labels = arrow["label"].to_pylist()
    expected = sorted((one for one in labels if one is not None), key=order.index)
    sink = pa.BufferOutputStream()
    pq.write_table(arrow, sink)
    back = pq.read_table(pa.BufferReader(sink.getvalue()))
    assert json.loads(back.schema.field("label").metadata[b"class_order"]) == order
    for frame in (
        rules.apply(pd.DataFrame({"k": pd.Series(keys, dtype="str")})),
        arrow.to_pandas(),
        back.to_pandas(),
    ):
        assert frame.label.dropna().sort_values().tolist() == expected


def test_polars_gets_its_type_for_ordered_classes():
    made = table(BY_RANK, lookup=LOOKUP).apply(pl.DataFrame({"k": ["x", "y", "w"]}))
    assert made.sort("label")["label"].to_list() == [None, "early", "late"]
    assert made.schema["label"] == pl.Enum(["early", "late"])


@pytest.mark.parametrize("target", ["out/all.parquet", "out/all.csv", "out/all.arrow"])
def test_a_target_carries_the_order(tmp_path, run, target):
    folder = write_book(
        tmp_path,
        {
            "book.toml": f'[datasets.d]\nsource = "d.csv"\ntarget = "{target}"\ncolumns = ["t"]\n',
            "d.csv": "k\nx\ny\nw\n",
            "tables/t.toml": 'inputs.k = "text"\noutputs.label = { type = "text", order = { column = "rank" } }\nlookup = "t.tsv"\n',
            "tables/t.tsv": "k\tlabel\trank\nx\tlate\t10\ny\tearly\t9\n",
        },
    )
    assert run("apply", "d", cwd=folder).code == 0
    if target.endswith("csv"):
        record = json.loads((folder / f"{target}.kivvet.json").read_text())
        assert "early" in json.dumps(record) and '"class_orders": {"label": ["early", "late"]}' in json.dumps(
            record
        )
        return
    read = pq.read_schema if target.endswith("parquet") else lambda path: pa.ipc.open_file(path).schema
    field = read(folder / target).field("label")
    assert field.type.ordered and json.loads(field.metadata[b"class_order"]) == ["early", "late"]
    (folder / "tables/t.tsv").write_text("k\tlabel\trank\nx\tlate\t1\ny\tearly\t9\n")
    assert "stale" in run("status", cwd=folder).out


@pytest.mark.parametrize("n_classes", [3, 300])
def test_a_frame_of_polars_gets_the_columns_that_one_of_arrow_gets_and_keeps_its_own(n_classes):
    """Classes go to polars by their codes, and only columns that are read are looked at: held against the way by Arrow."""
    rows = [[f"K{n}", f"class {n:03}"] for n in range(n_classes)]
    mapping = kivvet.RuleTable("group", {"code": "text"}, {"group": "text"}, rows)
    codes = [None if n % 7 == 0 else f"K{n * 37 % (n_classes + 20)}" for n in range(2_000)]
    frame = pl.DataFrame(
        {"x": range(2_000), "code": codes, "day": [dt.date(2026, 1, 1)] * 2_000}
    ).with_columns(kept=pl.col("code").cast(pl.Categorical))
    made = mapping.apply(frame)
    assert made.select(frame.columns).equals(frame) and made.schema["group"] == pl.Enum(
        [f"class {n:03}" for n in range(n_classes)]
    )
    by_arrow = mapping.apply(frame.to_arrow())
    assert made["group"].to_list() == by_arrow["group"].to_pylist()
    of_categories = mapping.apply(frame.select(code="kept"))
    assert of_categories["group"].to_list() == made["group"].to_list()
    assert mapping.apply(frame.clear())["group"].to_list() == []
    formula = kivvet.with_formulas(frame, {"double": "x * 2", "first": "SUBSTRING(code FROM 1 FOR 1)"})
    assert formula["double"].to_list() == [2 * n for n in range(2_000)]
    assert formula["first"].to_list() == [None if one is None else "K" for one in codes]
