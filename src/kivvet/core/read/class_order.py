"""The order of classes where rows or a column of the table say it: made a plain list of classes once, as a table is
read.
"""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Iterable, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any

import pyarrow as pa

from kivvet.core.read.options import Faults
from kivvet.core.tables.inputs import Output
from kivvet.core.words.values import LiteralError, parse_decimal, parse_value, write_value
from kivvet.core.words.wording import listed

#: A rank with the class it stands beside, and the row of the table, counted from 1.
Ranked = tuple[Any, str, int]
_MOST_TOLD = 20


def in_row_order(output: Output, classes: Iterable[str]) -> Output:
    """Return an output whose classes stand in the order in which rows first give them."""
    return replace(output, order=tuple(dict.fromkeys(classes)))


def by_rank(output: Output, ranked: Sequence[Ranked], faults: Faults) -> Output:
    """Return an output whose classes are ordered by a column; tell where it does not order them.

    Every class has one rank, and every rank is of one class. Ranks are numbers or dates.
    """
    assert output.ordered_by
    by_class: dict[str, dict[Any, int]] = {}
    classes_of: dict[Any, dict[str, int]] = {}
    unread: dict[str, int] = {}
    for given, label, row in ranked:
        rank = _rank(given)
        if rank is None:
            unread.setdefault("" if given is None else str(given), row)
            continue
        by_class.setdefault(label, {}).setdefault(rank, row)
        classes_of.setdefault(rank, {}).setdefault(label, row)
    path = ("outputs", output.name, "order")
    column = output.ordered_by
    for text, row in list(unread.items())[:_MOST_TOLD]:
        what = (
            f"holds {text!r}, which is no number and no date, in row {row:,}"
            if text.strip()
            else f"is blank in row {row:,}"
        )
        faults.add(
            f"{column} orders the classes of {output.name!r}, and {what}",
            path,
            row=row,
            kind="type",
            fix="give each class a number",
        )
    for rank, labels in list(classes_of.items())[:_MOST_TOLD]:
        if len(labels) > 1:
            faults.add(
                f"{listed([f'{label!r} (row {row:,})' for label, row in labels.items()], 5)} have the same {column}, {_written(rank)}",
                path,
                row=min(labels.values()),
                kind="conflict",
                fix="classes that differ stand one after the other: give each a number of its own",
            )
    for label, ranks in list(by_class.items())[:_MOST_TOLD]:
        if len(ranks) > 1:
            faults.add(
                f"{output.name} = {label!r} has {column} {listed([f'{_written(rank)} (row {row:,})' for rank, row in ranks.items()], 5)}",
                path,
                row=min(ranks.values()),
                kind="conflict",
                fix="a class stands in one place of the order: give it one number in all its rows",
            )
    kinds = {type(rank) for rank in classes_of}
    if len(kinds) > 1:
        faults.add(f"{column} holds numbers and dates", path, kind="type", fix="use one of them")
        return output
    return replace(
        output, order=tuple(dict.fromkeys(label for rank in sorted(classes_of) for label in classes_of[rank]))
    )


def _rank(given: Any) -> Decimal | dt.datetime | None:
    """Return a rank as something that has an order; None where it is none."""
    if given is None or isinstance(given, bool):
        return None
    if isinstance(given, dt.datetime):
        return given.replace(tzinfo=None)
    if isinstance(given, dt.date):
        return dt.datetime.combine(given, dt.time())
    if isinstance(given, float) and math.isnan(given):
        return None
    try:
        return parse_decimal(str(given).strip())
    except LiteralError:
        pass
    try:
        value = parse_value(str(given).strip(), "date")
    except LiteralError:
        return None
    return dt.datetime.combine(value, dt.time()) if isinstance(value, dt.date) else None


def _written(rank: Decimal | dt.datetime) -> str:
    return write_value(rank) if isinstance(rank, Decimal) else str(rank.date())


def ranked_of_arrays(ranks: pa.Array, labels: pa.Array) -> list[Ranked]:
    """Return the different ranks and classes of a lookup's rows, each with its first row."""
    table = pa.table({"rank": ranks, "label": labels, "row": pa.array(range(1, len(labels) + 1))})
    found = (
        table.group_by(["rank", "label"], use_threads=False).aggregate([("row", "min")]).sort_by("row_min")
    )
    return [
        (value["rank"], value["label"], value["row_min"])
        for value in found.to_pylist()
        if value["label"] is not None
    ]
