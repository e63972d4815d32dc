"""The columns of a table: what its inputs ask about, what its outputs make."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Literal

from kivvet.core.words.conditions import Condition
from kivvet.core.words.values import ValueType

#: How the results of several rows become one, under ``match = "every"``.
Combine = Literal["list", "join", "sum", "min", "max", "count", "flags"]


@dataclass(frozen=True, slots=True)
class Period:
    """Which columns of a lookup hold the ends of a range, and whether the ends are in.

    Attributes
    ----------
    start, end : str, str or None
        Headings; without `end` each row holds until the next start of the same key.
    closed : tuple of (bool or str, bool or str)
        For each end whether it is in; or the heading of a column of true and false that says so row by row.
    """

    start: str
    end: str | None = None
    closed: tuple[bool | str, bool | str] = (True, True)


@dataclass(frozen=True, slots=True)
class Input:
    """An input of a table: what is asked about.

    Attributes
    ----------
    name : str
        Its name in the table, and of the column it reads unless a dataset says otherwise.
    type : str
        "text", "integer", "number", "boolean", "date" or "datetime".
    step, step_offset : Decimal or None, Decimal
        How fine the values are: multiples of `step` counted from `step_offset`. None: continuous
        numbers; whole numbers and days have step 1 by their type.
    domain : Condition or None
        Where gaps are sought.
    shape : str or None
        How codes look: ``A`` a letter, ``9`` a digit, more may follow.
    fold : tuple of str
        Which differences of text do not count: "case", "space", "unicode".
    required : bool
        Whether a missing value matches no row, not even `any`.
    column : str or None
        The heading of its column in the table's own file, where it is not `name`.
    tz : str or None
        The time zone that bounds are in, for columns that have one.
    period : Period or None
        For a lookup: the row holds a range of values, not one.
    domain_of : str
        The key or the classes of another table that the domain was taken from: ``station.station``.
    is_domain_fed : bool
        Whether nobody declared the domain: it is what the table is fed.
    """

    name: str
    type: ValueType
    step: Decimal | None = None
    step_offset: Decimal = Decimal(0)
    domain: Condition | None = None
    shape: str | None = None
    fold: tuple[str, ...] = ()
    required: bool = False
    column: str | None = None
    tz: str | None = None
    period: Period | None = None
    domain_of: str = ""
    is_domain_fed: bool = False


@dataclass(frozen=True, slots=True)
class Output:
    """An output of a table: a column it makes.

    Attributes
    ----------
    name, type : str
    width : int or None
        The most characters a text may have.
    order : tuple of str
        The classes in order; empty where there is none but that of the rows of a table of one input.
    meaning : mapping of str to str
        What a class means to the reader: "good", "bad" and the like.
    column : str or None
        The heading of its column in the table's own file, where it is not `name`.
    combine, separator : str
        Under ``match = "every"``: how the results of all matching rows become one.
    ordered_by : str or None
        Who says the order. None: the definition lists the classes; empty: the rows, as they stand; else the column
        whose values rank them.
    """

    name: str
    type: ValueType
    width: int | None = None
    order: tuple[str, ...] = ()
    meaning: Mapping[str, str] = field(default_factory=dict)
    column: str | None = None
    combine: Combine = "list"
    separator: str = ", "
    ordered_by: str | None = None


def columns_of(inputs: Sequence[Input], outputs: Sequence[Output]) -> list[Input | Output]:
    """Return inputs and outputs as one list, in the order of a row's cells."""
    return [*inputs, *outputs]
