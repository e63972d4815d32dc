"""The space that a table divides: an axis for each of its dimensions, and what each row accepts of it."""

from __future__ import annotations

from kivvet.core.space.axes import Axis, SignAxis
from kivvet.core.space.make_axis import make_axis
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import AnyOf, AnyValue, Condition, Equals, IsMissing
from kivvet.core.words.kept import kept
from kivvet.core.words.regions import Region


@kept
def axes_of(table: Table) -> tuple[Axis, ...]:
    """Return the axis of each dimension."""
    return tuple(_axis(table, number) for number in range(len(table.dimensions)))


def axis_of(table: Table) -> Axis:
    """Return the axis of the only dimension."""
    (axis,) = axes_of(table)
    return axis


def asked_of(table: Table, number: int) -> list[Condition]:
    """Return what each row asks of one dimension."""
    if number >= len(table.inputs) or any(row.when_asks for row in table.rows):
        return [table.asked(row, number) for row in table.rows]
    return [row.conditions[number] for row in table.rows]


def row_regions(table: Table, number: int) -> list[Region]:
    """Return what each row accepts of one dimension; a required input's missing is accepted by none."""
    known = _known_regions(table)
    if number not in known:
        axis = axes_of(table)[number]
        regions = list(map(axis.region, asked_of(table, number)))
        is_required = table.dimensions[number].required
        known[number] = [region.without_missing() for region in regions] if is_required else regions
    return known[number]


@kept
def open_dimensions(table: Table) -> tuple[bool, ...]:
    """Return for each dimension whether what no row lists is no gap: single values only, and no domain."""
    return tuple(_is_open(table, number) for number in range(len(table.dimensions)))


@kept
def _known_regions(_: Table) -> dict[int, list[Region]]:
    return {}


def _axis(table: Table, number: int) -> Axis:
    about = table.dimensions[number]
    if number >= len(table.inputs) and table.computed_inputs[number - len(table.inputs)].compared is not None:
        return SignAxis(about.domain, about.type)
    if table.lookup is not None:
        return make_axis(about)
    domain = () if about.domain is None else (about.domain,)
    return make_axis(about, [*asked_of(table, number), *domain])


def _is_open(table: Table, number: int) -> bool:
    column = table.dimensions[number]
    if column.domain is not None or column.shape or column.type == "boolean" or not table.rows:
        return False
    asked = asked_of(table, number)
    if len(table.dimensions) > 1:
        asked = [condition for condition in asked if not isinstance(condition, AnyValue)]
    return bool(asked) and all(_is_single_values(condition) for condition in asked)


def _is_single_values(condition: Condition) -> bool:
    if isinstance(condition, AnyOf):
        return all(_is_single_values(part) for part in condition.parts)
    return isinstance(condition, (Equals, IsMissing))
