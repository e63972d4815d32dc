"""Values of tied columns as the table has them: what a place that exists looks like in data."""

from __future__ import annotations

from fractions import Fraction

from kivvet.core.linear.tied_columns import TiedColumns, stated, types_of
from kivvet.core.linear.tied_search import FoundPlace
from kivvet.core.space.axes import exact_decimal
from kivvet.core.space.region_text import write_witness
from kivvet.core.words.values import Value, ValueType, date_of_days, moment_of_nanoseconds


def values_of(tied: TiedColumns, place: FoundPlace) -> dict[str, Value | None] | None:
    """Return a value of each column at a place; None where one has no decimal, or tests or statements that are not linear say more."""
    types = types_of(tied.space.table)
    if stated(tied.space.table)[1]:
        return None
    values: dict[str, Value | None] = {}
    for number, dimension in enumerate(tied.space.dimensions):
        if tied.forms[number] is not None:
            continue
        if not dimension.is_plain:
            return None
        values[dimension.about.name] = dimension.witness(place.cells[number])
    for name in tied.names_in_rows:
        fraction = place.values[name]
        if fraction is None:
            values[name] = None
            continue
        value = _value(fraction, types.get(name))
        if value is None:
            return None
        values[name] = value
    return {name: values[name] for name in tied.space.table.reads if name in values}


def witness_of(tied: TiedColumns, place: FoundPlace) -> dict[str, str] | None:
    """Return the values at a place as they are written; None where they cannot be."""
    values = values_of(tied, place)
    return None if values is None else {name: write_witness(value) for name, value in values.items()}


def _value(fraction: Fraction, type_: ValueType | None) -> Value | None:
    if type_ == "date":
        return date_of_days(int(fraction))
    if type_ == "datetime":
        return moment_of_nanoseconds(int(fraction))  # type: ignore[return-value]
    if type_ == "integer":
        return int(fraction)
    rest = fraction.denominator
    for prime in (2, 5):
        while rest % prime == 0:
            rest //= prime
    return exact_decimal(fraction) if rest == 1 else None
