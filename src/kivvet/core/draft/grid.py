"""A table over several columns of which some are numbers or dates: a row for each combination of their bins and of the values of the
others.
"""

from __future__ import annotations

from itertools import product

import numpy as np
import pyarrow as pa

from kivvet.core.draft.bins import bins_of, is_divided
from kivvet.core.draft.cases import CaseColumn, Cases
from kivvet.core.draft.draft import rows_of_each
from kivvet.core.draft.typed_values import (
    MOST_DRAFTED_ROWS,
    TypedValues,
    drafted_table,
    exact_value,
    input_of,
)
from kivvet.core.draft.wishes import Wishes
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import UNFINISHED, Row, Table
from kivvet.core.words.conditions import Condition, Equals
from kivvet.core.words.errors import DataError
from kivvet.core.words.wording import count, listed


def makes_a_grid(cases: Cases, wishes: Wishes) -> bool:
    """Whether one of the columns is divided into bins, or that is asked for."""
    return wishes.wants_bins or any(_is_divided(column, wishes) for column in cases.columns)


def _is_divided(column: CaseColumn, wishes: Wishes) -> bool:
    return is_divided(column.kind, len(column.values), wishes)


def draft_grid(name: str, cases: Cases, wishes: Wishes) -> Table:
    """Return a table with a row for each combination of bins and values, in the order of the columns, results blank.

    Raises
    ------
    DataError
        If they are too many, or bins are asked for and no column has any.
    """
    if wishes.wants_bins and not any(column.is_ordered for column in cases.columns):
        raise DataError(
            f"columns {listed(one.name for one in cases.columns)} are no numbers or dates",
            expected="numbers or dates for bins",
            fix="draft it without bounds: one row a combination",
        )
    parts = [_parts(column, cases, wishes) for column in cases.columns]
    n_rows = int(np.prod([len(conditions) for _, conditions, _ in parts]))
    if n_rows > MOST_DRAFTED_ROWS:
        sizes = " x ".join(f"{len(conditions):,}" for _, conditions, _ in parts)
        raise DataError(
            f"columns {listed(one.name for one in cases.columns)} have {sizes} = {n_rows:,} combinations",
            expected=f"at most {MOST_DRAFTED_ROWS:,}",
            fix="ask for fewer bins, or draft a table for each column first, and read the classes that they give",
        )
    place = np.zeros(len(cases), np.int64)
    is_whole = np.ones(len(cases), bool)
    for _, conditions, own in parts:
        place = place * len(conditions) + own
        is_whole &= own >= 0
    counted = np.bincount(place[is_whole], cases.rows[is_whole], n_rows).astype(int).tolist()
    rows = [
        Row(number + 1, asked, (UNFINISHED,), note=count(counted[number], "row"))
        for number, asked in enumerate(product(*(conditions for _, conditions, _ in parts)))
    ]
    output = Output(wishes.output_of(name, [column.name for column in cases.columns]), "text")
    return Table(name, tuple(about for about, _, _ in parts), (output,), tuple(rows))


def _parts(
    column: CaseColumn, cases: Cases, wishes: Wishes
) -> tuple[Input, list[Condition], np.ndarray[tuple[int], np.dtype[np.int64]]]:
    """Return the input that reads a column, its conditions, and for each case the place of the one that it meets, or -1."""
    n_values = len(column.values)
    rows = np.bincount(column.codes[column.codes >= 0], cases.rows[column.codes >= 0], n_values).astype(
        np.int64
    )
    array = cases.arrays[column.name]
    given = TypedValues(column.kind, pa.array(column.values, array.type), rows, column.step)
    if _is_divided(column, wishes):
        conditions = bins_of(column.name, given, wishes).conditions
        about = input_of(column.name, given, is_bins=True)
        table = drafted_table(
            column.name,
            about,
            Output("bin", "text"),
            [Row(number, (condition,), ("",)) for number, condition in enumerate(conditions, 1)],
        )
        of_value = rows_of_each(table, given)[1]
        of_value = np.where(of_value < len(conditions), of_value, -1)
    else:
        order = np.argsort(-rows, kind="stable")
        conditions = [Equals(exact_value(column.values[int(place)])) for place in order]
        about = input_of(column.name, given, is_bins=False)
        of_value = np.empty(n_values, np.int64)
        of_value[order] = np.arange(n_values)
    return about, conditions, np.where(column.codes >= 0, of_value[column.codes], -1)
