"""The axis of an input, by its type."""

from __future__ import annotations

from collections.abc import Iterable

from kivvet.core.space.axes import Axis, DatetimeAxis, NumberAxis, SteppedWholeAxis, WholeAxis
from kivvet.core.space.text_axis import TextAxis
from kivvet.core.tables.inputs import Input
from kivvet.core.words.conditions import Between, CodeRange, Condition


def make_axis(column: Input, conditions: Iterable[Condition] = ()) -> Axis:
    """Return the axis of an input of a table whose rows have these conditions on it."""
    match column.type:
        case "text":
            return TextAxis(column.domain, tuple(conditions), column.shape or "", column.fold)
        case "number":
            return NumberAxis(column.domain, column.step, column.step_offset)
        case "datetime":
            return DatetimeAxis(column.domain)
        case _ if column.step is not None and column.step != 1:
            return SteppedWholeAxis(column.domain, column.type, int(column.step), int(column.step_offset))
        case _:
            return WholeAxis(column.domain, column.type)


def holds_nothing(column: Input) -> bool:
    """Whether the domain of an input is proven to hold no value: its ends are swapped, or no multiple of its step lies there."""
    if column.domain is None or (
        column.type == "text" and not isinstance(column.domain, (Between, CodeRange))
    ):
        return False  # a text that is listed is there
    axis = make_axis(column)
    parts = [(band, low, high) for band, spans in enumerate(axis.domain.bands) for low, high in spans]
    return not parts or (column.type != "text" and all(axis.witness(*part) is None for part in parts))
