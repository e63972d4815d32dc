"""Every kind of column gives the same answer, and the text of files becomes typed values or is pointed at."""

import datetime as dt
from decimal import Decimal

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.columns.column import arrow_from_column, column_from_arrow, missing_mask
from kivvet.core.columns.convert import convert_text
from kivvet.core.columns.kernels import Thresholds, label_by_code, label_by_thresholds

SIGN = kivvet.RuleTable(
    "sign",
    {"x": "number"},
    {"y": "text"},
    [["< 0", "minus"], ["0", "none"], ["> 0", "plus"]],
    missing={"y": "?"},
)
KIND = kivvet.RuleTable(
    "kind",
    {"x": "text"},
    {"y": "text"},
    [["a | b", "first"], ["c*", "third"]],
    otherwise={"y": "other"},
    missing={"y": "?"},
)
YES = kivvet.RuleTable(
    "yes", {"x": "boolean"}, {"y": "text"}, [["true", "yes"], ["false", "no"]], missing={"y": "?"}
)
DAY = kivvet.RuleTable(
    "day",
    {"x": "date"},
    {"y": "text"},
    [["< 2026-04-01", "before"], [">= 2026-04-01", "from"]],
    missing={"y": "?"},
)

SIGNS, SIGN_CLASSES = [-2, 0, 5], ["minus", "none", "plus"]
TEXTS, TEXT_CLASSES = ["a", "cc", "z", "", None], ["first", "third", "other", "?", "?"]
DAYS = ["2026-03-31", "2026-04-01"]

FORMS = [
    (SIGN, pd.Series(SIGNS, dtype="int64"), SIGN_CLASSES),
    (SIGN, pd.Series(SIGNS, dtype="int8"), SIGN_CLASSES),
    (SIGN, pd.Series([0, 5], dtype="uint64"), ["none", "plus"]),
    (SIGN, pd.Series(SIGNS, dtype="float32"), SIGN_CLASSES),
    (SIGN, pd.Series([*SIGNS, None], dtype="float64"), [*SIGN_CLASSES, "?"]),
    (SIGN, pd.Series([*SIGNS, None], dtype="Int64"), [*SIGN_CLASSES, "?"]),
    (SIGN, pd.Series([*SIGNS, None], dtype="Float64"), [*SIGN_CLASSES, "?"]),
    (SIGN, pd.Series([*SIGNS, None], dtype=pd.ArrowDtype(pa.int16())), [*SIGN_CLASSES, "?"]),
    (SIGN, pd.Series([*SIGNS, None], dtype=pd.ArrowDtype(pa.float64())), [*SIGN_CLASSES, "?"]),
    (SIGN, pd.Series([*map(Decimal, SIGNS), None], dtype=object), [*SIGN_CLASSES, "?"]),
    (SIGN, pd.Series([*SIGNS, None], dtype=object), [*SIGN_CLASSES, "?"]),
    (SIGN, pd.Series([5, -2, 5, None]).astype("category"), ["plus", "minus", "plus", "?"]),
    (SIGN, pd.Series([*SIGNS] * 2, index=[9, 8, 7, 6, 5, 4]).iloc[1:5], ["none", "plus", "minus", "none"]),
    (KIND, pd.Series(TEXTS, dtype="str"), TEXT_CLASSES),
    (KIND, pd.Series(TEXTS, dtype=object), TEXT_CLASSES),
    (KIND, pd.Series(TEXTS, dtype="string"), TEXT_CLASSES),
    (KIND, pd.Series(TEXTS, dtype=pd.ArrowDtype(pa.large_string())), TEXT_CLASSES),
    (KIND, pd.Series(TEXTS, dtype=object).astype("category"), TEXT_CLASSES),
    (YES, pd.Series([True, False]), ["yes", "no"]),
    (YES, pd.Series([True, None, False], dtype="boolean"), ["yes", "?", "no"]),
    (YES, pd.Series([True, None], dtype=object), ["yes", "?"]),
    (DAY, pd.Series(pd.to_datetime(DAYS)), ["before", "from"]),
    (DAY, pd.Series(pd.to_datetime([*DAYS, None])), ["before", "from", "?"]),
    (
        DAY,
        pd.Series([dt.date(2026, 3, 31), None, dt.date(2026, 4, 1)], dtype=object),
        ["before", "?", "from"],
    ),
    (SIGN, pa.array([*SIGNS, None], pa.float16()), [*SIGN_CLASSES, "?"]),
    (SIGN, pa.array([1, *SIGNS, None, 1], pa.int32())[1:5], [*SIGN_CLASSES, "?"]),
    (SIGN, pa.array([Decimal("-0.01"), Decimal(0)], pa.decimal128(4, 2)), ["minus", "none"]),
    (SIGN, pa.array([Decimal("-0.01"), None], pa.decimal256(60, 2)), ["minus", "?"]),
    (KIND, pa.array(TEXTS, pa.string_view()), TEXT_CLASSES),
    (KIND, pa.array(["-", *TEXTS], pa.large_string())[1:], TEXT_CLASSES),
    (
        KIND,
        pa.DictionaryArray.from_arrays(pa.array([0, 1, None, 2], pa.uint8()), ["a", "z", None]),
        ["first", "other", "?", "?"],
    ),
    (KIND, pa.array(["-", "a", None, "z"]).dictionary_encode()[1:], ["first", "?", "other"]),
    (YES, pa.array([None, True, False, None])[1:3], ["yes", "no"]),
    (DAY, pa.array([dt.date(2026, 4, 1), None], pa.date64()), ["from", "?"]),
]


@pytest.mark.parametrize(
    ("table", "column", "classes"),
    FORMS,
    ids=[f"{t.name}-{getattr(c, 'dtype', None) or c.type}-{n}" for n, (t, c, _) in enumerate(FORMS)],
)
def test_every_form_of_a_column_is_classified_alike(table, column, classes):
    frame = column.to_frame("x") if isinstance(column, pd.Series) else pa.table({"x": column})
    made = table.apply(frame)["y"]
    assert list(made if isinstance(made, pd.Series) else made.to_pylist()) == classes
    assert type(table.apply(frame)) is type(frame)


@pytest.mark.parametrize("n_classes", [126, 127, 128, 300, 33_000])
def test_any_number_of_classes_fits(n_classes):
    names = [f"c{number}" for number in range(n_classes)]
    table = kivvet.RuleTable("t", {"x": "text"}, {"y": "text"}, lookup=pa.table({"x": names, "y": names}))
    rules = kivvet.RuleTable(
        "t", {"x": "text"}, {"y": "text"}, list(zip(names[:300], names[:300], strict=True))
    )
    data = pd.DataFrame({"x": [names[-1], names[0], None, "other", names[n_classes // 2]]})
    expected = [names[-1], names[0], None, None, names[n_classes // 2]]
    for one, known in ((table, names), (rules, names[:300])):
        wanted = [value if value in known else None for value in expected]
        assert [value if isinstance(value, str) else None for value in one.apply(data)["y"]] == wanted
        assert one.apply(pa.Table.from_pandas(data))["y"].to_pylist() == wanted


@given(
    st.lists(st.one_of(st.none(), st.integers(-3, 3)), max_size=9),
    st.sampled_from([pa.int64(), pa.float64(), pa.date32(), pa.timestamp("s"), pa.string()]),
)
def test_a_column_turns_back_into_what_it_was(values, type_):
    array = pa.array(values, pa.int32() if type_ == pa.date32() else pa.int64()).cast(type_)
    column = column_from_arrow(array)
    assert arrow_from_column(column).to_pylist() == array.to_pylist()
    assert missing_mask(column).tolist() == [value is None for value in values]


CONVERSIONS = [
    ("integer", [" 12 ", "-3", "", " ", None], [12, -3, None, None, None]),
    ("number", ["1.50", "1e3", ".5", "-0"], [1.5, 1000.0, 0.5, 0.0]),
    ("boolean", ["true", "false", ""], [True, False, None]),
    ("date", ["2026-04-01", " "], [dt.date(2026, 4, 1), None]),
    (
        "datetime",
        ["2026-04-01 13:30", "2026-04-01T13:30:05"],
        [dt.datetime(2026, 4, 1, 13, 30), dt.datetime(2026, 4, 1, 13, 30, 5)],
    ),
    ("decimal", ["1.10", "2"], [Decimal("1.10"), Decimal("2.00")]),
    ("text", [" a ", "", "NA"], [" a ", None, "NA"]),
    ("integer", ["1.0", "1e3", "+2.", "9223372036854775807.0", "-0.0"], [1, 1000, 2, 2**63 - 1, 0]),
]


@pytest.mark.parametrize(("kind", "fields", "values"), CONVERSIONS)
def test_fields_become_values(kind, fields, values):
    made = convert_text(pa.array(fields, pa.string()), kind)
    assert made.bad is None
    assert made.array.to_pylist() == values


@pytest.mark.parametrize(
    ("kind", "fields"),
    [
        ("integer", ["1.5", "x", "99999999999999999999", "01.0", "1e30"]),
        ("number", ["1,5", "--1"]),
        ("boolean", ["yes", "TRUE", "1"]),
        ("date", ["2026-02-30", "1.4.2026"]),
        ("datetime", ["13:30"]),
        ("decimal", ["1,1"]),
    ],
)
def test_fields_that_are_no_values_are_pointed_at_and_the_others_kept(kind, fields):
    good = {"boolean": "true", "date": "2026-01-01", "datetime": "2026-01-01 10:00"}.get(kind, "7")
    made = convert_text(pa.array([good, *fields, ""]), kind)
    assert made.bad.tolist() == [False, *[True] * len(fields), False]
    assert made.array.null_count == len(fields) + 1


def test_words_that_mean_missing_are_told_by_case_and_after_trimming():
    assert convert_text(pa.array([" n/a", "N/A", "5"]), "number", ("n/a", "N/A")).array.to_pylist() == [
        None,
        None,
        5.0,
    ]
    assert convert_text(pa.array(["n/a", " n/a", "N/A"]), "text", ("n/a",)).array.to_pylist() == [
        None,
        " n/a",
        "N/A",
    ]


@settings(deadline=None)
@given(
    st.lists(st.floats(width=32), max_size=40),
    st.lists(st.integers(-20, 20), min_size=1, max_size=50, unique=True),
    st.data(),
)
def test_both_kernels_give_the_label_of_the_cell_and_count_it(values, thresholds, data):
    thresholds = np.array([-np.inf, *sorted(thresholds)])
    labels = np.array(
        data.draw(st.lists(st.integers(0, 255), min_size=len(thresholds) + 1, max_size=len(thresholds) + 1)),
        np.uint8,
    )
    array = np.array(values, np.float64)
    cells = [0 if np.isnan(v) else sum(v >= t for t in thresholds) for v in array]
    for dtype in (np.uint8, np.uint16):
        made, counts = label_by_thresholds(
            array, Thresholds(thresholds), labels.astype(dtype), with_counts=True
        )
        assert made.tolist() == [labels[cell] for cell in cells]
        assert counts.tolist() == [cells.count(cell) for cell in range(len(labels))]


@given(st.integers(1, 60), st.data())
def test_codes_get_their_labels_and_minus_one_the_last(n_labels, data):
    labels = np.array(
        data.draw(st.lists(st.integers(0, 255), min_size=n_labels + 1, max_size=n_labels + 1)), np.uint8
    )
    codes = np.array(data.draw(st.lists(st.integers(-1, n_labels - 1), max_size=30)), np.int8)
    for dtype in (np.int8, np.int32):
        made, counts = label_by_code(codes.astype(dtype), labels, with_counts=True)
        assert made.tolist() == [labels[code] for code in codes]
        assert counts.tolist() == [(codes == code).sum() for code in [*range(n_labels), -1]]
