"""Lines as values: how something moves from period to period, a line for each class."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

from kivvet.core.picture.bars import MOST_PARTS
from kivvet.core.picture.paints import PLAIN, Paint
from kivvet.core.run.cross_table import TOTAL, CrossTable, Label, Share
from kivvet.core.words.errors import DataError
from kivvet.core.words.wording import count, shell_word

_MANY = 60  # periods


@dataclass(frozen=True, slots=True)
class Line:
    """A line: its label, its paint, and a value for each period; None where no rows are there."""

    label: str
    paint: Paint
    values: tuple[float | None, ...]


@dataclass(frozen=True)
class Lines:
    """Lines over periods.

    Attributes
    ----------
    title, about, measure : str
        What the periods are, and what the height is.
    periods : tuple of str
    places : tuple of float
        Where each period stands: numbers and days as they are, so that a year without rows is a gap; others one by one.
    lines : tuple of Line
        In class order.
    is_share : bool
    notes : tuple of str
    """

    title: str
    about: str
    measure: str
    periods: tuple[str, ...]
    places: tuple[float, ...]
    lines: tuple[Line, ...]
    is_share: bool = False
    notes: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        return {"kind": "lines", **asdict(self)}

    @property
    def words(self) -> str:
        told = []
        for line in self.lines:
            values = [
                f"{period} {100 * value:.1f} %" if self.is_share else f"{period} {value:,.10g}"
                for period, value in zip(self.periods, line.values, strict=True)
                if value is not None
            ]
            told.append(f"{line.label}: {', '.join(values)}")
        return f"{self.title}. {self.measure} by {self.about}. " + "; ".join(told)


def lines_of(
    table: CrossTable,
    title: str,
    source: str,
    paints: Mapping[Label, Paint],
    *,
    value: int = 0,
    share: Share | None = None,
) -> Lines:
    """Return a cross-table of one key as lines: one for each column, or one in all.

    Raises
    ------
    DataError
        If there are no periods, or the value has no share.
    """
    if len(table.by) != 1:
        raise DataError(
            "lines go along one thing", found=", ".join(table.by) or "nothing", fix="--by PERIOD, once"
        )
    if share is not None and not table.additive[value]:
        raise DataError(
            f"{table.values[value]} has no share: shares are of counts and totals",
            expected="COUNT or SUM as the value",
        )
    lines = [line for line in table.lines if line[0].kind == "value"]
    if not lines or not any(cell.rows for cell in table.cells):
        raise DataError(
            f"there are no rows to draw of {source}", fix=f"see: kivvet look {shell_word(source)}"
        )
    columns: list[Label | None] = [column for column in table.columns if column != TOTAL] or [None]
    notes = []
    if len(columns) > MOST_PARTS:
        notes.append(f"the first {MOST_PARTS} of {len(columns)} lines are drawn")
        columns = columns[:MOST_PARTS]
    if table.n_joined:
        notes.append(f"{count(table.n_joined, 'smaller line')} are joined as (rest)")
    made = []
    for column in columns:
        values = []
        for line in lines:
            cell = table.cell(line, column)
            found = (
                None
                if cell is None
                else cell.values[value]
                if share is None
                else table.share(cell, value, share)
            )
            whole = table.cell(line, TOTAL) if column is not None else cell
            is_none_of_some = cell is None and whole is not None and table.additive[value]
            values.append(0.0 if is_none_of_some else None if found is None else float(found))
        paint = PLAIN if column is None else paints.get(column, PLAIN)
        made.append(Line(table.values[value] if column is None else str(column), paint, tuple(values)))
    gone = sum(
        cell.rows
        for line in table.lines
        if line[0].kind not in ("value", "total")
        and (cell := table.cell(line, TOTAL if table.columns else None))
    )
    if gone:
        notes.append(f"{count(gone, 'row')} without {table.by[0]} left out")
    if table.left_out:
        notes.append(f"{count(table.left_out, 'row')} left out by where")
    values_by = [line[0].value for line in lines]
    is_number = all(isinstance(one, (int, float)) and not isinstance(one, bool) for one in values_by)
    is_day = all(isinstance(one, dt.date) and not isinstance(one, dt.datetime) for one in values_by)
    places = [
        float(one) if is_number else float(one.toordinal()) if is_day else float(number)
        for number, one in enumerate(values_by)
    ]
    if len(lines) > _MANY:
        notes.append(
            f'{len(lines):,} periods: longer ones read better, such as --by "EXTRACT(YEAR FROM day)"'
        )
    measure = table.values[value] if share is None else f"share of {table.values[value]}"
    return Lines(
        title,
        table.by[0],
        measure,
        tuple(str(line[0]) for line in lines),
        tuple(places),
        tuple(made),
        share is not None,
        tuple(notes),
    )
