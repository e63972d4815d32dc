"""Applying a table gives each row just what a plain loop over the rows would, whatever the column is made of."""

import datetime as dt
import itertools
import math
from decimal import Decimal

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.columns import kernels
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import Row, Table
from kivvet.core.words.conditions import Equals
from kivvet.core.words.errors import DataError, TableError
from kivvet.core.words.values import fold_text
from kivvet.rule_table import rule_table
from tests.conftest import budget
from tests.oracle import bounds_of, winner
from tests.strategies import SHAPES, conditions, odd_texts, texts

thorough = settings(max_examples=budget(66), deadline=None, suppress_health_check=[HealthCheck.too_slow])
RESULT = kivvet.RuleTable("t", {"x": "text"}, {"y": "integer"}, [["a", 1]]).outputs[0]
UNMATCHED, MISSING = -1, -2


def table_of(about, made):
    """A table whose result is the number of the row, -1 for unmatched and -2 for missing."""
    rows = tuple(Row(number + 1, (condition,), (number,)) for number, condition in enumerate(made))
    return rule_table(
        Table(
            "t",
            (about,),
            (RESULT,),
            rows,
            match="first",
            missing={"y": MISSING},
            otherwise={"y": UNMATCHED},
            severity={"impossible": "note"},
        )
    )


def expected(made, values, about):
    return [
        number if (number := winner(made, value, about)) >= 0 else MISSING if value is None else UNMATCHED
        for value in values
    ]


def check_all_ways(table, array, wanted):
    """Apply the table to one column in several forms; the results and the report are the expected ones."""
    frame = pa.table({"x": array})
    halves = pa.table({"x": pa.chunked_array([array[: len(array) // 2], array[len(array) // 2 :]])})
    forms = [frame, halves]
    if not pa.types.is_decimal(array.type):
        forms.append(pa.table({"x": array.dictionary_encode()}))
        forms.append(frame.to_pandas(types_mapper=pd.ArrowDtype))
    if pa.types.is_string(array.type) or pa.types.is_floating(array.type):
        forms += [frame.to_pandas(), pd.DataFrame({"x": frame.to_pandas()["x"].astype("category")})]
    for form in forms:
        applied = table.apply_with_report(form)
        made = applied.frame["y"]
        assert list(made if isinstance(made, pd.Series) else made.to_pylist()) == wanted
        plain = table.apply(form)["y"]
        assert list(plain if isinstance(plain, pd.Series) else plain.to_pylist()) == wanted
        (report,) = applied.report.tables
        assert report.matched + report.missing + report.unmatched == report.rows == len(wanted)
        assert (report.missing, report.unmatched) == (wanted.count(MISSING), wanted.count(UNMATCHED))
        assert list(report.rows_by_row) == [wanted.count(number) for number in range(table.n_rows)]
        assert sum(n for _, n in report.unmatched_values) == report.unmatched


def test_a_text_that_ends_in_a_null_sign_is_another_text():
    table = table_of(Input("x", "text"), [Equals("1"), Equals("12345678")])
    array = pa.array(["1", "1\0", "12345678", "1234567", "12345678\0", "123456789", "", None] * 3)
    assert table.apply(pa.table({"x": array}))["y"].to_pylist() == [0, -1, 1, -1, -1, -1, -2, -2] * 3
    plain = pa.array(["1", "12345678", "1234567", "123456789", "", None] * 3)
    assert table.apply(pa.table({"x": plain}))["y"].to_pylist() == [0, 1, -1, -1, -2, -2] * 3


def near(bound):
    value = float(bound)
    return st.sampled_from(
        [
            value,
            math.nextafter(value, -math.inf),
            math.nextafter(value, math.inf),
            value + 1e-9,
            value + 0.04,
            -value,
        ]
    )


@thorough
@given(st.data(), st.sampled_from([None, None, Decimal("0.1"), Decimal("0.5"), Decimal(1)]), st.booleans())
def test_floats(data, step, required):
    about = Input("x", "number", step=step, required=required)
    made = data.draw(st.lists(conditions("number"), min_size=1, max_size=5))
    bounds = [bound for condition in made for bound in bounds_of(condition)] or [Decimal(0)]
    one = st.one_of(
        st.sampled_from(bounds).flatmap(near),
        st.floats(),
        st.none(),
        st.sampled_from([0.30000000000000004, -0.0, math.inf, -math.inf]),
    )
    values = [None if v is None or math.isnan(v) else v for v in data.draw(st.lists(one, max_size=12))]
    check_all_ways(table_of(about, made), pa.array(values, pa.float64()), expected(made, values, about))


@thorough
@given(
    st.data(),
    st.sampled_from([pa.int64(), pa.int8(), pa.uint8(), pa.uint64(), pa.int32()]),
    st.sampled_from(["number", "integer"]),
)
def test_integers_of_every_width(data, storage, kind):
    about = Input("x", kind)
    made = data.draw(st.lists(conditions(kind), min_size=1, max_size=5))
    low, high = np.iinfo(storage.to_pandas_dtype()).min, np.iinfo(storage.to_pandas_dtype()).max
    around = [
        int(n) + d
        for c in made
        for n in bounds_of(c)
        if abs(n) < 2**70
        for d in (-1, 0, 1)
        if low <= int(n) + d <= high
    ] or [0]
    values = data.draw(
        st.lists(st.one_of(st.sampled_from(around), st.integers(int(low), int(high)), st.none()), max_size=12)
    )
    check_all_ways(table_of(about, made), pa.array(values, storage), expected(made, values, about))


@thorough
@given(st.data(), st.sampled_from([pa.decimal128(12, 2), pa.decimal128(38, 2)]))
def test_decimals_stay_exact(data, storage):
    about = Input("x", "number")
    made = data.draw(st.lists(conditions("number"), min_size=1, max_size=4))
    big = (
        [Decimal("123456789012345678901234.56"), Decimal("-99999999999999999999.99")]
        if storage.precision == 38
        else []
    )
    small = st.integers(-700, 700).map(lambda n: Decimal(n) / 100)
    values = data.draw(
        st.lists(st.one_of(small, st.none(), st.sampled_from(big or [Decimal(0)])), max_size=10)
    )
    check_all_ways(table_of(about, made), pa.array(values, storage), expected(made, values, about))


@thorough
@given(st.data(), st.sampled_from(SHAPES), st.sampled_from([(), ("case",), ("space", "case", "unicode")]))
def test_texts(data, shape, fold):
    about = Input("x", "text", shape=shape, fold=fold)
    made = data.draw(st.lists(conditions("text"), min_size=1, max_size=5))
    known = [str(bound) for condition in made for bound in bounds_of(condition)] or ["A"]
    variants = st.sampled_from(known).flatmap(
        lambda t: st.sampled_from(
            [t, t.lower(), t + "1", t[:-1], t + " ", " " + t, t + "\0", t + "\U0010ffff"]
        )
    )
    drawn = data.draw(
        st.lists(st.one_of(variants, texts, odd_texts, st.none(), st.text(max_size=3)), max_size=12)
    )
    values = [one if one and fold_text(one, fold) else None for one in drawn]  # no characters: missing
    values = [
        None if one is not None and any("\ud800" <= sign <= "\udfff" for sign in one) else one
        for one in values
    ]
    check_all_ways(table_of(about, made), pa.array(values, pa.string()), expected(made, values, about))


@thorough
@given(st.data(), st.sampled_from([pa.date32(), pa.timestamp("s"), pa.timestamp("ns")]))
def test_dates(data, storage):
    about = Input("x", "date")
    made = data.draw(st.lists(conditions("date"), min_size=1, max_size=5))
    values = data.draw(
        st.lists(
            st.one_of(st.integers(-3, 16).map(lambda n: dt.date(2026, 2, 25) + dt.timedelta(n)), st.none()),
            max_size=12,
        )
    )
    check_all_ways(
        table_of(about, made), pa.array(values, pa.date32()).cast(storage), expected(made, values, about)
    )


@thorough
@given(st.data(), st.sampled_from(["s", "ms", "us", "ns"]))
def test_moments_of_every_unit(data, unit):
    about = Input("x", "datetime")
    made = data.draw(st.lists(conditions("datetime"), min_size=1, max_size=5))
    moments = st.integers(-20, 150).map(lambda n: dt.datetime(2026, 2, 27) + dt.timedelta(hours=n))
    edges = st.integers(0, 8).flatmap(
        lambda n: st.sampled_from([-1, 1]).map(lambda s: dt.datetime(2026, 2, 27) + dt.timedelta(n, s))
    )
    values = data.draw(st.lists(st.one_of(moments, edges, st.none()), max_size=12))
    check_all_ways(
        table_of(about, made),
        pa.array(values, pa.timestamp("us")).cast(pa.timestamp(unit)),
        expected(made, values, about),
    )


@given(
    st.lists(conditions("boolean"), min_size=1, max_size=4),
    st.lists(st.sampled_from([True, False, None]), max_size=9),
)
def test_booleans(made, values):
    about = Input("x", "boolean")
    check_all_ways(table_of(about, made), pa.array(values, pa.bool_()), expected(made, values, about))


# Named examples

PH = kivvet.RuleTable(
    "ph",
    {"ph": {"type": "number", "step": 0.1}},
    {"c": "text"},
    [["< 6.5", "acidic"], ["6.5 to <8.5", "neutral"], [">= 8.5", "alkaline"]],
    missing={"c": "not measured"},
)


def test_many_rows_give_in_threads_and_chunks_what_few_give(monkeypatch):
    values = np.tile(np.array([6.4, 6.5, np.nan, 0.1 * 65, 8.5, -np.inf, np.inf]), 20_000)
    few = PH.apply(pd.DataFrame({"ph": values}))["c"]
    monkeypatch.setattr(kernels, "ROWS_FOR_THREADS", 10)
    monkeypatch.setattr(kernels, "CHUNK", 1000)
    many = PH.apply(pd.DataFrame({"ph": values}))["c"]
    assert (few == many).all()
    assert list(many[:7]) == [
        "acidic",
        "neutral",
        "not measured",
        "neutral",
        "alkaline",
        "acidic",
        "alkaline",
    ]


@pytest.mark.parametrize("n_bins", [3, 60, 300])
def test_both_ways_to_find_a_bin_agree(n_bins):
    edges = np.arange(n_bins - 1) / 4
    rows = [
        [f"< {edges[0]}", "c0"],
        *([f"{a} to <{b}", f"c{n}"] for n, (a, b) in enumerate(itertools.pairwise(edges), 1)),
        [f">= {edges[-1]}", f"c{n_bins - 1}"],
    ]
    table = kivvet.RuleTable("t", {"x": "number"}, {"y": "text"}, rows)
    values = np.concatenate([edges, edges + 0.01, np.nextafter(edges, -1), [np.inf, -np.inf]])
    made = table.apply(pd.DataFrame({"x": values}))["y"]
    assert list(made) == [f"c{n}" for n in np.searchsorted(edges, values, side="right")]


def test_float32_columns_meet_bounds_in_their_own_precision():
    table = kivvet.RuleTable("t", {"x": "number"}, {"y": "text"}, [["< 0.1", "below"], [">= 0.1", "from"]])
    assert list(table.apply(pd.DataFrame({"x": np.array([0.1], np.float32)}))["y"]) == ["from"]


def test_classes_are_ordered_categories_and_other_results_have_their_types():
    made = PH.apply(pd.DataFrame({"ph": [9.0, None]}))["c"]
    assert made.dtype == pd.CategoricalDtype(["acidic", "neutral", "alkaline", "not measured"], ordered=True)
    table = kivvet.RuleTable(
        "t",
        {"x": "text"},
        {"n": "integer", "d": "date", "b": "boolean", "m": "decimal", "f": "number", "t": "datetime"},
        [
            ["x", "n", "d", "b", "m", "f", "t"],
            ["a", 7, "2026-04-01", "true", "1.10", 2.5, "2026-04-01 10:00"],
            ["b", *["missing"] * 6],
        ],
    )
    arrow = table.apply(pa.table({"x": ["a", "b"]})).to_pylist()
    assert arrow[0] == {
        "x": "a",
        "n": 7,
        "d": dt.date(2026, 4, 1),
        "b": True,
        "m": Decimal("1.10"),
        "f": 2.5,
        "t": dt.datetime(2026, 4, 1, 10),
    }
    assert set(list(arrow[1].values())[1:]) == {None}
    frame = table.apply(pd.DataFrame({"x": ["a", "b"]}))
    assert frame["n"].dtype == "Int64" and frame["n"].isna().tolist() == [False, True]


def test_the_frame_given_is_left_as_it_was_and_its_index_kept():
    frame = pd.DataFrame({"ph": [5.0, 7.0]}, index=["u", "v"])
    made = PH.apply(frame)
    assert list(frame.columns) == ["ph"]
    assert list(made.index) == ["u", "v"]


def test_an_empty_frame_gets_empty_columns():
    assert PH.apply(pd.DataFrame({"ph": np.array([], float)}))["c"].tolist() == []
    assert PH.apply(pa.table({"ph": pa.array([], pa.float64())}))["c"].to_pylist() == []
    assert PH.apply(pa.table({"ph": pa.nulls(2)}))["c"].to_pylist() == ["not measured"] * 2


def test_two_bounds_that_are_one_float_leave_each_value_one_row():
    table = kivvet.RuleTable(
        "t", {"x": "number"}, {"y": "text"}, [["< 9007199254740993", "a"], [">= 9007199254740993", "b"]]
    )
    assert list(table.apply(pd.DataFrame({"x": [9007199254740992.0, 9007199254740994.0]}))["y"]) == ["b", "b"]
    assert list(table.apply(pd.DataFrame({"x": np.array([2**53, 2**53 + 1])}))["y"]) == ["a", "b"]


def test_bounds_in_a_time_zone_become_instants():
    table = kivvet.RuleTable(
        "t",
        {"x": {"type": "date", "tz": "Europe/Vienna"}},
        {"y": "text"},
        [["< 2026-04-01", "before"], [">= 2026-04-01", "from"]],
    )
    instants = pd.DataFrame(
        {"x": pd.to_datetime(["2026-03-31 21:59:59", "2026-03-31 22:00:00"]).tz_localize("UTC")}
    )
    assert list(table.apply(instants)["y"]) == ["before", "from"]


@pytest.mark.parametrize(
    ("kind", "values", "said"),
    [
        ("text", [1, 2], "have lost their leading zeros"),
        ("number", ["1", "2"], "never meets"),
        ("boolean", [1, 0], "another type"),
        ("integer", [1.5, 2.0], "not whole"),
        ("text", ["a", 1], "mixes types"),
        ("datetime", pd.to_datetime(["2026-01-01"]).tz_localize("UTC"), "time zone"),
    ],
)
def test_a_column_of_another_type_is_refused_with_a_cure(kind, values, said):
    rows = {"boolean": "true", "text": "a", "datetime": "< 2026-01-01"}
    table = kivvet.RuleTable(
        "t", {"x": kind}, {"y": "text"}, [[rows.get(kind, "< 5"), "p"]], otherwise={"y": "q"}
    )
    with pytest.raises(DataError, match=said):
        table.apply(pd.DataFrame({"x": values}))


def test_errors_in_a_table_stop_it_and_an_absent_column_is_named_with_the_near_one():
    with pytest.raises(TableError, match="covered by no row"):
        kivvet.RuleTable("t", {"x": "number"}, {"y": "text"}, [["< 5", "a"]]).apply(
            pd.DataFrame({"x": [1.0]})
        )
    with pytest.raises(TableError, match="did you mean 'PH'"):
        PH.apply(pd.DataFrame({"PH": [1.0]}))
    with pytest.raises(DataError, match="no frame"):
        PH.apply({"ph": [1.0]})
