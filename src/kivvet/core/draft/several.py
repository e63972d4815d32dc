"""Drafts over several columns: the combinations that occur as rows, or from classes that data holds the rows that give
them.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any

import numpy as np

from kivvet.core.check.check import findings_of
from kivvet.core.classify.compiled import CompiledTable
from kivvet.core.columns.column import column_from_arrow
from kivvet.core.compare.simplify import simplify
from kivvet.core.draft.cases import CaseColumn, CaseCounter, Cases, cases_of
from kivvet.core.draft.draft import columns_of_frame
from kivvet.core.draft.from_examples import DraftReport, bound_between
from kivvet.core.draft.grid import draft_grid, makes_a_grid
from kivvet.core.draft.look import LookBuilder
from kivvet.core.draft.tree import Leaf, Part, entropy, impurity, leaves, wrong
from kivvet.core.draft.typed_values import MOST_DRAFTED_ROWS, TypedValues, exact_value, shorter_bound
from kivvet.core.draft.wishes import Wishes
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import UNFINISHED, Row, Table
from kivvet.core.words.conditions import AnyOf, AnyValue, Between, Condition, Equals, IsMissing, IsPresent
from kivvet.core.words.errors import DataError, TableError
from kivvet.core.words.values import Value, write_plain
from kivvet.core.words.wording import count, listed

#: Rows that a table may need to give the classes that data holds.
MOST_ROWS_FROM_CLASSES = 5_000
_MOST_ROWS_SIMPLIFIED = 1_000
_MOST_TEXTS = 500


def draft_combinations(name: str, cases: Cases, wishes: Wishes) -> Table:
    """Return a table with a row for each combination, the most frequent first, results blank; numbers and dates are divided into
    bins.
    """
    if makes_a_grid(cases, wishes):
        return draft_grid(name, cases, wishes)
    output = wishes.output_of(name, [column.name for column in cases.columns])
    if len(cases) > MOST_DRAFTED_ROWS:
        raise DataError(
            f"columns {listed(one.name for one in cases.columns)} have {len(cases):,} different combinations",
            expected=f"at most {MOST_DRAFTED_ROWS:,}",
            fix="draft a table of ranges for each column of numbers first, and read the classes that they give",
        )
    order = np.lexsort((cases.first, -cases.rows))
    rows = [
        Row(
            number,
            tuple(_equal(column, int(column.codes[case])) for column in cases.columns),
            (UNFINISHED,),
            note=count(int(cases.rows[case]), "row"),
        )
        for number, case in enumerate(order.tolist(), 1)
    ]
    table = Table(name, _inputs(cases, steps=False), (Output(output, "text"),), tuple(rows))
    # A combination that does not occur needs no row; where one comes later, data is said to meet none.
    is_long = len(cases) > _MOST_ROWS_SIMPLIFIED
    has_gaps = is_long or any(finding.kind == "gap" for finding in findings_of(table))
    return replace(table, severity={"gap": "warning"}) if has_gaps else table


def _equal(column: CaseColumn, code: int) -> Condition:
    return IsMissing() if code < 0 else Equals(exact_value(column.values[code]))


def _inputs(cases: Cases, *, steps: bool) -> tuple[Input, ...]:
    return tuple(
        Input(column.name, column.kind, step=column.step if steps else None) for column in cases.columns
    )


def draft_from_cases(name: str, cases: Cases, wishes: Wishes) -> tuple[Table, DraftReport]:
    """Return a table of few rows that gives each combination the class that data gives it most often, and a report on it.

    Raises
    ------
    DataError
        If no row has a class, or there is no such table of at most 5,000 rows.
    """
    kept = np.array([bool(label) for label in cases.labels])
    if not kept.any():
        raise DataError("no row has both values and a class", expected="classes in the column named")
    for column in cases.columns:
        if not column.is_ordered and len(column.values) > _MOST_TEXTS:
            raise DataError(
                f"column {column.name!r} has {len(column.values):,} different texts, too many to be listed in rows",
                expected=f"at most {_MOST_TEXTS}",
                fix="name the columns that decide the class; a column that tells each row apart decides nothing",
            )
    names = list(dict.fromkeys(label for one in cases.labels for label in one))
    number_of = {label: number for number, label in enumerate(names)}
    labels = np.array([number_of[next(iter(label))] for label in cases.labels if label], np.int64)
    columns = [replace(column, codes=column.codes[kept]) for column in cases.columns]
    made: list[Leaf] | None = None
    for purity in (entropy, impurity, wrong):
        most = MOST_ROWS_FROM_CLASSES if made is None else len(made) - 1
        made = leaves(columns, labels, len(names), most, purity) or made
    if made is None:
        raise DataError(
            f"no table of at most {MOST_ROWS_FROM_CLASSES:,} rows gives these classes",
            expected="classes that follow from these columns",
            fix="name the columns that decide, and no others",
        )
    inputs = _inputs(cases, steps=True)
    output = wishes.output_of(name, [column.name for column in cases.columns])
    rows = [
        Row(number, tuple(map(_condition, columns, leaf.parts)), (names[leaf.label],))
        for number, leaf in enumerate(made, 1)
    ]
    table = Table(name, inputs, (Output(output, "text"),), tuple(rows))
    table = _simpler(table)
    return _counted(table, cases)


def _simpler(table: Table) -> Table:
    if table.n_rows > _MOST_ROWS_SIMPLIFIED:
        return table
    try:
        return simplify(table).after
    except (DataError, TableError):
        return table


def _condition(column: CaseColumn, part: Part) -> Condition:
    """Return what is asked of a column as a condition."""
    if not part.asks:
        return AnyValue()
    if part.is_missing_only:
        return IsMissing()
    if part.values is not None:
        parts: list[Condition] = [
            Equals(exact_value(column.values[code])) for code in sorted(part.values) if code >= 0
        ]
        parts += [IsMissing()] if -1 in part.values else []
        return parts[0] if len(parts) == 1 else AnyOf(tuple(parts))
    if part.low is None and part.high is None:
        return IsPresent() if part.missing is False else AnyValue()
    asked = _range(column, part)
    return AnyOf((asked, IsMissing())) if part.missing else asked


def _range(column: CaseColumn, part: Part) -> Condition:
    low = None if part.low is None or part.below is None else _bound(column, part.below, part.low)
    high = None if part.high is None or part.before is None else _bound(column, part.before, part.high)
    if column.kind != "integer" or high is None or low is None:
        begin, is_beyond = (None, True) if low is None else shorter_bound(low, column.step)
        end, is_held = (None, False) if high is None else shorter_bound(high, column.step)
        return Between(begin, not is_beyond, end, is_held)
    last = high - 1  # type: ignore[operator]
    return Equals(low) if low == last else Between(low, True, last, True)


def _bound(column: CaseColumn, low: int, high: int) -> Value:
    """Return the roundest bound above one value and not above the next."""
    given = TypedValues(column.kind, None, np.zeros(0, np.int64), column.step)
    made = bound_between(column.values[low], column.values[high], given)
    return Decimal(int(made)) if column.kind == "integer" else made  # type: ignore[arg-type]


def _counted(table: Table, cases: Cases) -> tuple[Table, DraftReport]:
    """Return the table with the rows of data that each row decides, and how many get their class, by applying it."""
    compiled = CompiledTable(table)
    columns = {name: column_from_arrow(array, name) for name, array in cases.arrays.items()}
    outcomes = compiled.classify(columns).labels.astype(np.int64)
    n_rows = np.bincount(outcomes, cases.rows, compiled.outcomes.number)[: table.n_rows].astype(int).tolist()
    reproduced = rows = unclassed = newly_classed = 0
    for outcome, classes, n_all in zip(outcomes.tolist(), cases.labels, cases.rows.tolist(), strict=True):
        n_classed = sum(n for n, _ in classes.values())
        rows += n_classed
        unclassed += n_all - n_classed
        newly_classed += n_all - n_classed if outcome < table.n_rows else 0
        given = str(table.rows[outcome].results[0]) if outcome < table.n_rows else None
        reproduced += classes.get(given, (0, 0))[0] if given is not None else 0
    noted = tuple(replace(row, note=count(n, "row")) for row, n in zip(table.rows, n_rows, strict=True))
    torn = tuple(_contradictions(cases))
    return replace(table, rows=noted), DraftReport(rows, reproduced, torn, unclassed, newly_classed)


def _contradictions(cases: Cases) -> Iterator[tuple[str, tuple[tuple[str, int, int], ...]]]:
    torn = [case for case, classes in enumerate(cases.labels) if len(classes) > 1]
    for case in sorted(torn, key=lambda one: -int(cases.rows[one])):
        told = ", ".join(
            f"{column.name} = {_shown(column, int(column.codes[case]))}" for column in cases.columns
        )
        yield told, tuple((label, n, first) for label, (n, first) in cases.labels[case].items())


def _shown(column: CaseColumn, code: int) -> str:
    return "missing" if code < 0 else write_plain(column.values[code])


def draft_frame_over(
    frame: Any, columns: Sequence[str], name: str, wishes: Wishes, classes: str | None
) -> tuple[Table, DraftReport | None]:
    """Return a table drafted from several columns of a frame, and with `classes` how well it reproduces these.

    Raises
    ------
    DataError
        If a column is not there, has no values, or there are too many combinations.
    """
    if not columns:
        raise DataError("a draft reads a column or more", expected="the name of a column")
    wanted = list(dict.fromkeys([*columns, *([classes] if classes else [])]))
    builder, counter = LookBuilder(columns), CaseCounter(columns)
    for batch in columns_of_frame(frame, wanted).to_batches():
        builder.see(batch.select(list(columns)))
        counter.add([batch.column(column) for column in columns], batch.column(classes) if classes else None)
    cases = cases_of(counter, builder)
    if classes:
        return draft_from_cases(name, cases, wishes)
    return draft_combinations(name, cases, wishes), None


def names_of_columns(columns: str | Sequence[str] | None) -> list[str]:
    """Return the columns that a draft is asked to read, each once."""
    given = [columns] if isinstance(columns, str) else list(columns or ())
    return list(dict.fromkeys(given))
