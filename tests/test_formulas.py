"""Formulas: a real SQL engine is the referee for values, conditions and windows; errors point at the place."""

import datetime as dt
import math
import re
from decimal import Decimal
from pathlib import Path

import duckdb
import numpy as np
import pyarrow as pa
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.calculate.formula_values import evaluate_formula
from kivvet.core.calculate.vectors import to_arrow
from kivvet.core.columns.column import column_from_arrow, missing_mask
from kivvet.core.formulas.domain import Domain, domain_of
from kivvet.core.formulas.errors import FormulaError, pointed_at
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.functions import FUNCTIONS
from kivvet.core.formulas.parser import parse_formula
from kivvet.core.formulas.tree import ColumnName, Comparison, Constant, OrderItem, Window, write_formula
from kivvet.core.formulas.types import type_of
from tests.conftest import budget
from tests.sql_referee import COLUMNS, VALUES, aggregates, answer, expressions, tables, windows

thorough = settings(deadline=None, max_examples=budget(55))


def worked_out(tree, frame, **options):
    """What our evaluator gives for each row, and what it noted."""
    formula = Formula("f", write_formula(tree), tree, **options)
    columns = {name: column_from_arrow(frame[name].combine_chunks(), name) for name in frame.column_names}

    def kind_of(column):
        held = columns[column.name]
        return None if held.kind == "number" and missing_mask(held).all() else held.kind

    made = evaluate_formula(formula, columns.__getitem__, len(frame), formula.type_given(kind_of))
    return to_arrow(made.vector, len(frame)).to_pylist(), made


def of_text(text, frame=None, **options):
    frame = frame if frame is not None else pa.table({"n": [1]})
    return worked_out(parse_formula(text), frame, **options)


def same(ours, theirs):
    if ours is None or theirs is None:
        return ours is None and (theirs is None or theirs == "")
    if isinstance(ours, float) or isinstance(theirs, (float, Decimal)):
        return math.isclose(float(ours), float(theirs), rel_tol=1e-9, abs_tol=1e-12)
    return ours == theirs


def agree(tree, frame):
    try:
        theirs = answer(tree, frame)
    except (duckdb.OutOfRangeException, duckdb.ConversionException, duckdb.InvalidInputException):
        assume(False)  # overflow, or a date beyond the engine's: it stops where ours gives missing
    ours, _ = worked_out(parse_formula(write_formula(tree)), frame)
    wrong = [(row, a, b) for row, (a, b) in enumerate(zip(ours, theirs, strict=True)) if not same(a, b)]
    assert not wrong, (write_formula(tree), wrong[:3], frame.to_pylist()[wrong[0][0]])


@thorough
@given(st.sampled_from(list(VALUES)).flatmap(expressions), tables())
def test_expressions_give_what_the_engine_gives(tree, frame):
    agree(tree, frame)


@thorough
@given(windows() | aggregates(), tables(most=30))
def test_windows_give_what_the_engine_gives(tree, frame):
    agree(tree, frame)


@thorough
@given(st.sampled_from(list(VALUES)).flatmap(expressions))
def test_a_written_formula_reads_as_itself(tree):
    read = parse_formula(write_formula(tree))  # in which sums of constants are worked out
    assert parse_formula(write_formula(read)) == read
    assert type_of(tree, lambda column: COLUMNS[column.name][0]) is not None


@thorough
@given(windows() | aggregates())
def test_a_written_window_reads_as_itself(tree):
    assert parse_formula(write_formula(tree)) == tree


@pytest.mark.parametrize("function", FUNCTIONS.values(), ids=FUNCTIONS)
def test_the_example_of_each_function_gives_its_result(function):
    (made,), _ = of_text(function.example)
    shown = "" if made is None else made
    assert str(shown) == function.result or float(shown) == float(function.result)


# Beyond what the engine can say


@pytest.mark.parametrize(
    ("formula", "expected"),
    [
        ("PERCENTILE_DISC(0.7) WITHIN GROUP (ORDER BY n) OVER ()", 7),  # of ten rows the seventh, exactly
        ("PERCENTILE_DISC(0.7) WITHIN GROUP (ORDER BY n DESC) OVER ()", 4),
        ("PERCENTILE_CONT(0.25) WITHIN GROUP (ORDER BY n DESC) OVER ()", 7.75),
        ("VAR_POP(n + 1000000000) OVER ()", 8.25),
        ("MEDIAN(n / 0) OVER ()", None),
        ("CAST(n + 0.25 AS DECIMAL(4, 1))", [1.3, 2.3, 3.3, 4.3, 5.3, 6.3, 7.3, 8.3, 9.3, 10.3]),
        ("CAST(n * 10 AS DECIMAL(2))", [10, 20, 30, 40, 50, 60, 70, 80, 90, None]),
        (
            "CAST(CAST(n AS TEXT) || '23456789012345678' AS DECIMAL(18, 0))",
            [123456789012345678 + 10**17 * k for k in range(9)] + [None],
        ),
        ("CAST('ab' || CAST(n AS TEXT) AS VARCHAR(3))", [*(f"ab{n}" for n in range(1, 10)), None]),
    ],
)
def test_shares_spreads_and_types_of_a_given_size(formula, expected):
    made, _ = of_text(formula, pa.table({"n": range(1, 11)}))
    assert made == (expected if isinstance(expected, list) else [expected] * 10)


@thorough
@given(windows(), st.sampled_from(["=", ">", "<>", "<="]), tables(most=30))
def test_a_first_place_is_found_without_sorting_as_it_is_with(window, operator, frame):
    if window.name not in ("RANK", "ROW_NUMBER", "DENSE_RANK") or len(window.order) != 1:
        window = Window("RANK", (), window.partition, window.order[:1] or (OrderItem(ColumnName("d")),))
    agree(Comparison(operator, window, Constant(Decimal(1))), frame)


EXTREMES = [0, 1, -1, 2, 3, 2**31, 2**53 + 1, 2**62, -(2**62), 2**63 - 1, -(2**63), 3_037_000_500]
OPERATIONS = {
    "i + j": lambda a, b: a + b,
    "i - j": lambda a, b: a - b,
    "i * j": lambda a, b: a * b,
    "ABS(i)": lambda a, _: abs(a),
    "MOD(i, j)": lambda a, b: (
        None
        if b == 0
        else int(math.fmod(abs(a), abs(b)))
        if max(abs(a), abs(b)) < 2**53
        else (abs(a) % abs(b)) * (1 if a >= 0 else -1)
    ),
    "ROUND(i, -2)": lambda a, _: (abs(a) + 50) // 100 * 100 * (1 if a >= 0 else -1),
    "TRUNCATE(i, -1)": lambda a, _: abs(a) // 10 * 10 * (1 if a >= 0 else -1),
    "SUM(i) OVER ()": None,
    "SUM(i) OVER (ORDER BY j ROWS BETWEEN 1 PRECEDING AND CURRENT ROW)": None,
}


@thorough
@given(
    st.sampled_from(list(OPERATIONS)),
    st.lists(st.tuples(st.sampled_from(EXTREMES), st.sampled_from(EXTREMES)), min_size=1, max_size=6),
)
def test_whole_numbers_are_exact_to_64_bits_and_missing_beyond(text, pairs):
    frame = pa.table({"i": [a for a, _ in pairs], "j": [b for _, b in pairs]})
    made, done = of_text(text, frame)
    work = OPERATIONS[text]
    if work is None and "ROWS" not in text:
        exact = [sum(a for a, _ in pairs)] * len(pairs)
    elif work is None:
        order = sorted(range(len(pairs)), key=lambda row: (pairs[row][1], row))
        exact = [0] * len(pairs)
        for place, row in enumerate(order):
            exact[row] = sum(pairs[one][0] for one in order[max(0, place - 1) : place + 1])
    else:
        exact = [work(a, b) for a, b in pairs]
        if text.startswith("MOD"):
            exact = [
                None if one is None else abs(one) * (1 if a >= 0 else -1)
                for one, (a, _) in zip(exact, pairs, strict=True)
            ]
    fits = [one is not None and -(2**63) <= one < 2**63 for one in exact]
    assert made == [one if fit else None for one, fit in zip(exact, fits, strict=True)]
    assert sum(done.made_missing.values()) == fits.count(False)


@pytest.mark.parametrize(
    ("text", "value", "cause"),
    [
        ("1 / n", 1.0, None),
        ("1 / (n - 1)", None, "division by zero"),
        ("MOD(n, 0)", None, "division by zero"),
        ("LN(n - 1)", None, "logarithm of 0 or below"),
        ("SQRT(-n)", None, "root of a negative number"),
        ("POWER(-8, 0.5)", None, "no number"),
        ("CAST(2.5 AS INTEGER)", None, "no integer"),
        ("CAST('2,5' AS NUMBER)", None, "not to be read as number"),
        ("CAST(' 12 ' AS INTEGER)", 12, None),
        ("CAST(1e3 AS TEXT)", "1000", None),
        ("CAST(TRUE AS INTEGER)", 1, None),
        ("CAST(2 AS BOOLEAN)", None, "no boolean"),
        ("CAST('2026-02-30' AS DATE)", None, "not to be read as date"),
        ("DATE '9999-12-31' + n", None, "beyond the calendar"),
        ("CASE WHEN n = 0 THEN 1 / 0 ELSE 7 END", 7.0, None),
        ("COALESCE(n, 1 / 0)", 1.0, None),
        ("'a' || ''", "a", None),
        ("TRIM('  ')", None, None),
        ("REPLACE('banana', 'an', '')", "ba", None),
        ("ROUND(2.345, 2)", 2.35, None),
        ("ROUND(-0.5)", -1.0, None),
        ("ROUND(0.49999999999999994)", 0.0, None),
        ("ROUND(1250, -2)", 1300, None),
        ("ROUND(1e300, 5)", 1e300, None),
        ("1 = 1.0", True, None),
        ("0.1 * 3 = 0.3", True, None),
        ("'' = ''", None, None),
        ("WHOLE_YEARS(DATE '2000-02-29', DATE '2026-03-01')", 26, None),
        ("WHOLE_YEARS(DATE '2026-03-01', DATE '2000-02-29')", -26, None),
        ("EXTRACT(WEEK FROM DATE '2027-01-01')", 53, None),
        ("EXTRACT(SECOND FROM TIMESTAMP '2026-01-01 10:00:07.25')", 7.25, None),
        ("TIMESTAMP '2026-01-02 12:00' - TIMESTAMP '2026-01-01'", 1.5, None),
        ("GREATEST(n, NULL)", None, None),
        ("SUBSTRING('abc', 0, 2)", "a", None),
        ("9007199254740993 = 9007199254740992.5", False, None),
        ("SUBSTRING('abc', 1, -1)", None, "SUBSTRING has no result"),
        ("'a_c' LIKE 'a!_c' ESCAPE '!'", True, None),
        ("9223372036854775807 + n", None, "beyond 64 bits"),
        ("FOLD('É ', 'case', 'space')", "é", None),
        ("n IS NOT DISTINCT FROM NULL", False, None),
    ],
)
def test_what_a_formula_gives_and_why_there_is_no_result(text, value, cause):
    (made,), done = of_text(text)
    assert made == value and type(made) is type(value)
    assert dict(done.made_missing) == ({} if cause is None else {cause: 1})


@pytest.mark.parametrize(
    ("text", "place", "says"),
    [
        ("LENGTH(s)", 0, "no function 'LENGTH'"),
        ("ABS(1, 2)", 0, "takes 1 argument, and has 2"),
        ("(i + 1", 0, "not closed"),
        ("i + 1)", 5, "not opened"),
        ("'abc", 0, "does not end"),
        ("i == 1", 3, "no such comparison"),
        ("i % 2", 2, "no such sign"),
        ("2026-01-01", 0, "would be a subtraction"),
        ("SUM(i)", 0, "needs OVER"),
        ("RANK() OVER ()", 0, "needs an order"),
        ("SUM(RANK() OVER (ORDER BY i)) OVER ()", 4, "stands within SUM"),
        ("CAST(i AS INTEGR)", 10, "no type"),
        ("EXTRACT(MONT FROM d)", 8, "no part"),
        ("i j", 2, "not expected here"),
        ("", 0, "is empty"),
        ("i +", 3, "ends too soon"),
        ("d + INTERVAL '1' DAY", 4, "no intervals"),
        ("i * 1e500", 4, "beyond what 64 bits hold"),
        ("DATE '2026-02-30'", 5, "no date"),
        ("s LIKE_REGEX '('", 13, "no regular expression"),
        ("RANK() OVER (ORDER BY i ROWS CURRENT ROW)", 24, "takes no ROWS"),
        ("SUM(i) OVER (ORDER BY i ROWS BETWEEN 1 FOLLOWING AND CURRENT ROW)", 24, "ends before it starts"),
        ("SUM(i) OVER (ORDER BY i, j RANGE 1 PRECEDING)", 27, "one expression in ORDER BY"),
        ("ABS(i) OVER ()", 0, "takes no OVER"),
        ("FOLD(s, 'x')", 8, "told what does not count"),
        ("1 + (" * 50 + "1" + ")" * 50, 204, "nested more than 40 deep"),
        ("i" + " + i" * 201, 802, "at most 200 signs"),
        ("i" * 4_001, 0, "at most 4,000 characters"),
    ],
)
def test_what_is_no_formula_is_told_with_its_place(text, place, says):
    with pytest.raises(FormulaError, match=re.escape(says)) as told:
        parse_formula(text)
    assert told.value.offset == place


@pytest.mark.parametrize(
    ("text", "place", "says"),
    [
        ("ABS(s)", 4, "s is text, and a number is expected"),
        ("s + 1", 0, "s is text"),
        ("i || s", 0, "i is integer"),
        ("CASE WHEN i THEN 1 END", 10, "are compared"),
        ("CASE WHEN b THEN 1 ELSE 'a' END", 23, "are results of one CASE"),
        ("i = s", 4, "are compared"),
        ("d + 1.5", 4, "has no meaning"),
        ("d * 2", 4, "has no meaning"),
        ("COALESCE(i, d)", 12, "are arguments of COALESCE"),
        ("EXTRACT(HOUR FROM d)", 0, "a date has no HOUR"),
        ("CAST(d AS NUMBER)", 0, "date cannot be made number"),
        ("SUM(s) OVER ()", 4, "s is text"),
        ("LAG(i, 1, s) OVER (ORDER BY d)", 10, "are results of LAG"),
        ("NOT i", 4, "are compared"),
    ],
)
def test_types_that_do_not_fit_are_told_before_any_data(text, place, says):
    tree = parse_formula(text)
    with pytest.raises(FormulaError) as told:
        type_of(tree, lambda column: COLUMNS[column.name][0])
    assert says in told.value.problem
    assert abs(told.value.offset - place) <= 1, pointed_at(text, told.value.offset)


def test_parts_of_windows_are_worked_out_and_counted_once():
    frame = pa.table({"n": [0, 0, 2, 4]})
    made, done = of_text("SUM(1 / n) OVER (PARTITION BY 1 / n ORDER BY 1 / n) + COUNT(1 / n) OVER ()", frame)
    assert made == [None, None, 2.5, 2.25] and dict(done.made_missing) == {"division by zero": 2}
    (window,) = [one for one in done.notes if one.name == "SUM"]
    assert (done.notes[window].without_group, done.notes[window].without_order) == (2, 2)
    assert (
        of_text("MAX(1) OVER ()", frame)[0] == [1] * 4
        and of_text("CASE WHEN MAX(TRUE) OVER () THEN MAX(1) OVER () END", frame)[0] == [1] * 4
    )


def test_infinities_and_zones_and_decimals():
    frame = pa.table(
        {
            "x": [math.inf, -math.inf, 1.0, math.nan],
            "g": ["a", "a", "b", "b"],
            "z": pa.array([dt.datetime(2026, 7, 1, 22, 30)] * 4, pa.timestamp("us", "UTC")).cast(
                pa.timestamp("us", "Europe/Berlin")
            ),
            "c": pa.array([Decimal("0.10"), Decimal("-2.50"), None, Decimal("7.00")]),
        }
    )
    assert of_text("x * 0", frame)[0] == [None, None, 0.0, None]
    assert of_text("SUM(x) OVER (PARTITION BY g)", frame)[0] == [None, None, 1.0, 1.0]
    assert of_text("SUM(x) OVER (ORDER BY g, x DESC)", frame)[0] == [math.inf, None, None, None]
    assert of_text("EXTRACT(DAY FROM z) * 100 + EXTRACT(HOUR FROM z)", frame)[0] == [200] * 4
    assert of_text("z >= TIMESTAMP '2026-07-02 00:30'", frame)[0] == [True] * 4
    assert of_text("c + 1", frame)[0] == [1.1, -1.5, None, 8.0]
    assert of_text("c = 0.1", frame)[0] == [True, False, None, False]


@thorough
@given(
    st.sampled_from(["integer", "number", "text"]).flatmap(expressions) | windows() | aggregates(), tables()
)
def test_every_value_lies_in_the_domain_that_is_inferred(tree, frame):
    """Columns have the range of what the strategies draw."""
    known = {"i": (-100, 12_345), "x": (-5, 5)}
    domain = domain_of(tree, lambda name: Domain(None, *_closed(*known[name])) if name in known else None)
    if domain is None:
        return
    for value in worked_out(tree, frame)[0]:
        if value is None:
            continue
        if domain.texts is not None:
            assert value in domain.texts
            continue
        exact = Decimal(repr(value)) if isinstance(value, float) else Decimal(value)
        slack = abs(exact) * Decimal("1e-12")
        if domain.low is not None:
            assert exact >= domain.low - slack and (domain.low_closed or exact > domain.low)
        if domain.high is not None:
            assert exact <= domain.high + slack and (domain.high_closed or exact < domain.high)


def _closed(low, high):
    return Decimal(low), True, Decimal(high), True


def test_long_columns_in_chunks_and_threads_give_what_short_ones_do():
    rng = np.random.default_rng(3)
    n_rows = 500_000
    x = rng.normal(size=n_rows)
    x[rng.random(n_rows) < 0.05] = np.nan
    frame = pa.table(
        {
            "x": pa.array(x, from_pandas=True),
            "i": rng.integers(0, 5, n_rows),
            "g": rng.integers(0, 1_000, n_rows),
        }
    )
    made, done = of_text("x / i + ABS(x)", frame)
    with np.errstate(all="ignore"):
        wanted = np.where(frame["i"].to_numpy() == 0, np.nan, x / frame["i"].to_numpy() + np.abs(x))
    assert np.array_equal(np.array(made, float), wanted, equal_nan=True)
    zero = np.flatnonzero((frame["i"].to_numpy() == 0) & ~np.isnan(x))
    assert dict(done.made_missing) == {"division by zero": len(zero)} and done.first_missing == {
        "division by zero": zero[0]
    }
    y = rng.choice([0.0, 1.5, -2.0], n_rows, p=[0.0001, 0.4999, 0.5])
    y[[5, 70_000, 300_001]] = math.inf
    valid = rng.random(n_rows) > 0.1
    frame = frame.append_column("y", pa.array(y, mask=~valid))
    made, done = of_text("x / y - (y * 2 - y * 3)", frame)
    with np.errstate(all="ignore"):
        wanted = np.where(valid & (y != 0), x / y - (y * 2 - y * 3), np.nan)
    assert np.array_equal(np.array(made, float), wanted, equal_nan=True)
    there = valid & ~np.isnan(x)
    assert done.made_missing["division by zero"] == np.count_nonzero(there & (y == 0))
    assert done.made_missing["no number"] == np.count_nonzero(valid & np.isinf(y))
    parts = np.array(of_text("NTILE(7) OVER (ORDER BY x)", frame)[0])
    order = np.argsort(np.where(np.isnan(x), np.inf, x), kind="stable")
    assert np.array_equal(parts[order], np.sort(parts)) and np.ptp(np.bincount(parts)[1:]) <= 1
    first = np.array(of_text("ROW_NUMBER() OVER (PARTITION BY g ORDER BY i) = 1", frame)[0])
    assert first.sum() == 1_000 and frame["i"].to_numpy()[first].max() == 0


def test_the_page_of_formulas_lists_every_function():
    page = (Path(__file__).parents[1] / "docs/formulas.md").read_text(encoding="utf-8")
    for function in FUNCTIONS.values():
        shown = function.example.replace("|", "\\|")
        assert (
            f"| `{function.name}` | {function.says} | `{shown}` | `{function.result or 'missing'}` |" in page
        )


MOVING = pa.table(
    {
        "g": ["a", "a", "a", "a", "b", "b"],
        "day": [1, 2, 4, 8, 1, 1],
        "v": [0.1, 0.2, 1e16, None, 0.3, 0.4],
    }
)


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        # 1e16 leaves the frame, and takes no digits along
        (
            "SUM(v) OVER (PARTITION BY g ORDER BY day ROWS BETWEEN CURRENT ROW AND CURRENT ROW)",
            [0.1, 0.2, 1e16, None, 0.3, 0.4],
        ),
        (
            "SUM(v) OVER (PARTITION BY g ORDER BY day ROWS 1 PRECEDING)",
            [0.1, 0.1 + 0.2, 0.2 + 1e16, 1e16, 0.3, 0.7],
        ),
        (
            "MAX(v) OVER (PARTITION BY g ORDER BY day ROWS BETWEEN 2 PRECEDING AND 1 PRECEDING)",
            [None, 0.1, 0.2, 1e16, None, 0.3],
        ),
        (
            "COUNT(v) OVER (PARTITION BY g ORDER BY day ROWS BETWEEN 1 FOLLOWING AND 2 FOLLOWING)",
            [2, 1, 0, 0, 1, 0],
        ),
        # by distance: days 1 to 2 before; equal days see each other
        (
            "SUM(v) OVER (PARTITION BY g ORDER BY day RANGE 2 PRECEDING)",
            [0.1, 0.1 + 0.2, 0.2 + 1e16, None, 0.7, 0.7],
        ),
        (
            "COUNT(*) OVER (PARTITION BY g ORDER BY day RANGE BETWEEN 4 PRECEDING AND 2 PRECEDING)",
            [0, 0, 2, 1, 0, 0],
        ),
        (
            "AVG(v) OVER (PARTITION BY g ORDER BY day RANGE BETWEEN CURRENT ROW AND 3 FOLLOWING)",
            [(0.1 + 0.2 + 1e16) / 3, (0.2 + 1e16) / 2, 1e16, None, 0.35, 0.35],
        ),
        (
            "MIN(v) OVER (PARTITION BY g ORDER BY day RANGE BETWEEN 3 PRECEDING AND CURRENT ROW)",
            [0.1, 0.1, 0.1, None, 0.3, 0.3],
        ),
    ],
)
def test_frames_that_move_hold_just_their_rows(text, wanted):
    values, _ = of_text(text, MOVING)
    assert (
        values == pytest.approx(wanted, rel=1e-15)
        if None not in wanted
        else [pytest.approx(one, rel=1e-15) if one is not None else None for one in wanted] == values
    )


def under_missing(values, valid, below):
    """An Arrow array of floats with something of its own under each missing value, as files leave it there."""
    held = np.where(valid, values, below).astype(np.float64)
    bitmap = pa.py_buffer(np.packbits(np.array(valid, bool), bitorder="little"))
    return pa.Array.from_buffers(pa.float64(), len(held), [bitmap, pa.py_buffer(held)])


ODD_FLOATS = st.sampled_from([0.0, -0.0, 1.0, -2.5, 1e308, math.inf, -math.inf, math.nan, 5e-324])
PLAIN_TREES = [
    "a * b + c / d - e",
    "a / b",
    "1 / (a - b)",
    "(a + b) * (c - d)",
    "a - (b / (c / d))",
    "2 * a / b * c",
    "a - b - c",
]


@settings(max_examples=budget(44))
@given(st.data(), st.sampled_from(PLAIN_TREES), st.integers(1, 13))
def test_arithmetic_in_chunks_is_that_row_by_row_whatever_lies_under_missing_values(data, text, n_rows):
    from kivvet.core.calculate import formula_values

    columns = {}
    for name in "abcde":
        rows = data.draw(
            st.lists(st.tuples(ODD_FLOATS, st.booleans(), ODD_FLOATS), min_size=n_rows, max_size=n_rows)
        )
        values, valid, below = zip(*rows, strict=True)
        columns[name] = under_missing(values, valid, below)
    frame = pa.table(columns)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(formula_values, "_ROWS_AT_ONCE", 4)
        chunks = kivvet.with_formulas(frame, {"made": text})["made"]
    one_by_one = []
    for row in range(n_rows):
        alone = pa.table(frame.slice(row, 1).to_pydict(), schema=frame.schema)
        one_by_one += kivvet.with_formulas(alone, {"made": text})["made"].to_pylist()
    assert repr(chunks.to_pylist()) == repr(one_by_one)
