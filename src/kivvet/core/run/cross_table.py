"""Cross-tables as values: what came of counting and summing up, with subtotals, totals and shares."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Literal

from kivvet.core.words.errors import DataError
from kivvet.core.words.printed import Printed
from kivvet.core.words.values import write_value
from kivvet.core.words.wording import repeated

if TYPE_CHECKING:
    import pandas as pd

#: What a line or a column of a cross-table stands for, besides a value: rows without one, and why; the rest of many;
#: all of them.
LabelKind = Literal["value", "missing", "unmatched", "unfinished", "rest", "total"]
Share = Literal["row", "column", "total"]


@dataclass(frozen=True, slots=True)
class Label:
    """What a line or a column stands for."""

    kind: LabelKind
    value: Any = None

    def __str__(self) -> str:
        if self.kind == "value":
            if isinstance(self.value, float):
                return repr(self.value) if self.value != int(self.value) else str(int(self.value))
            return write_value(self.value) if not isinstance(self.value, str) else self.value
        return "total" if self.kind == "total" else f"({self.kind})"

    def plain(self) -> Any:
        """Return it as a plain value: None for rows without one, and for totals."""
        if self.kind != "value":
            return None
        return str(self.value) if isinstance(self.value, (dt.date, dt.datetime)) else self.value


TOTAL = Label("total")


@dataclass(frozen=True, slots=True)
class Cell:
    """A line of a cross-table, as it is worked out: what it stands for, its rows, and its values.

    Attributes
    ----------
    by : tuple of Label
        One for each key of `by`; a total stands for all from there on.
    across : Label or None
    rows : int
    values : tuple
        One for each value asked for; None where there is none.
    """

    by: tuple[Label, ...]
    across: Label | None
    rows: int
    values: tuple[Any, ...]


@dataclass(frozen=True)
class CrossTable(Printed):
    """Rows of data counted and summed up.

    Attributes
    ----------
    by : tuple of str
    across : str or None
    values : tuple of str
        The names of the values.
    types : tuple of str
        Their types.
    cells : tuple of Cell
        Every combination that occurs, and each class of a single key; then subtotals and totals.
    lines, columns : tuple
        What the lines and the columns stand for, in order, totals included.
    rows : int
        All rows that were looked at.
    left_out : int
        Rows that a condition left out.
    n_joined : int
        How many columns were joined as the rest.
    additive : tuple of bool
        Of each value, whether it is a count or a total, so that parts have a share of the whole.
    orders : tuple of tuples of Label
        The labels of each key of the lines in order.
    expressions : mapping of str to str
        By key and value what it is, as it was asked for.
    """

    by: tuple[str, ...]
    across: str | None
    values: tuple[str, ...]
    types: tuple[str, ...]
    cells: tuple[Cell, ...]
    lines: tuple[tuple[Label, ...], ...]
    columns: tuple[Label, ...]
    rows: int
    left_out: int = 0
    n_joined: int = 0
    additive: tuple[bool, ...] = ()
    orders: tuple[tuple[Label, ...], ...] = ()
    expressions: Mapping[str, str] = field(default_factory=dict)
    _found: dict[Any, Cell] = field(default_factory=dict, repr=False, compare=False)

    def cell(self, by: tuple[Label, ...], across: Label | None = None) -> Cell | None:
        """Return a cell; None where no rows are there."""
        if not self._found:
            self._found.update({(cell.by, cell.across): cell for cell in self.cells})
        return self._found.get((by, across))

    def is_amount(self, value: int) -> bool:
        """Whether a value is an amount; the largest or the smallest of whole numbers may be a year, or a code."""
        return self.additive[value] or self.types[value] != "integer"

    def share(self, cell: Cell, value: int, of: Share) -> float | None:
        """Return what share of its line, its column or all a value of a cell is; None where there is none."""
        line = cell.by if of == "row" else (TOTAL,) * len(self.by)
        across = cell.across if of == "column" else (None if self.across is None else TOTAL)
        whole = self.cell(line, across)
        part, total = cell.values[value], None if whole is None else whole.values[value]
        return None if part is None or not total else float(part) / float(total)

    def as_dict(self, share: Share | None = None) -> dict[str, Any]:
        """Return it as plain values; `share` adds that of each value that is a count or a total."""
        return {
            "version": 1,
            "by": list(self.by),
            "across": self.across,
            "values": [
                {"name": name, "type": kind, "is_additive": additive}
                for name, kind, additive in zip(self.values, self.types, self.additive, strict=True)
            ],
            "rows": self.rows,
            "left_out": self.left_out,
            "n_joined": self.n_joined,
            "cells": [self._plain_cell(one, share) for one in self._in_order()],
        }

    def _in_order(self) -> list[Cell]:
        across = self.columns or (None,)
        return [cell for line in self.lines for one in across if (cell := self.cell(line, one)) is not None]

    def _plain_cell(self, cell: Cell, share: Share | None) -> dict[str, Any]:
        made: dict[str, Any] = {"by": [_plain_label(one) for one in cell.by]}
        if cell.across is not None:
            made["across"] = _plain_label(cell.across)
        made["rows"] = cell.rows
        made["values"] = {name: _plain(value) for name, value in zip(self.values, cell.values, strict=True)}
        if share is not None:
            made["shares"] = {
                name: self.share(cell, place, share)
                for place, name in enumerate(self.values)
                if self.additive[place]
            }
        return made

    def table(self, share: Share | None = None, *, totals: bool = True) -> tuple[list[str], list[list[Any]]]:
        """Return headings and lines of plain values, as they are shown: the keys, then for each column the values.

        Each heading is there once: a class that is called as a key is, or as another column, is ``ACROSS = CLASS``.
        """
        across: Sequence[Label | None] = self.columns or (None,)
        if not totals:
            across = [one for one in across if one is None or one.kind != "total"]
        wanted = [place for place in range(len(self.values)) if share is not None and self.additive[place]]
        heads: list[tuple[str, Label | None]] = [(name, None) for name in self.by]
        for one in across:
            for place, name in enumerate(self.values):
                label = name if one is None else str(one) if len(self.values) == 1 else f"{one} {name}"
                heads += [(label, one), *([(f"{label} share", one)] if place in wanted else [])]
        lines = []
        for by in self.lines:
            if not totals and TOTAL in by:
                continue
            line: list[Any] = [str(label) if label.kind != "value" else label.plain() for label in by]
            for one in across:
                cell = self.cell(by, one)
                for place in range(len(self.values)):
                    line.append(None if cell is None else _plain(cell.values[place]))
                    if place in wanted and share is not None:
                        line.append(None if cell is None else self.share(cell, place, share))
            lines.append(line)
        return self._apart(heads), lines

    def _apart(self, heads: Sequence[tuple[str, Label | None]]) -> list[str]:
        """Return headings, with what each stands for, those of classes longer where they would be there twice."""
        times = Counter(head for head, _ in heads)
        made = [
            f"{self.across} = {head}" if times[head] > 1 and of is not None and of.kind == "value" else head
            for head, of in heads
        ]
        if twice := repeated(made):
            raise DataError(
                f"two columns of the summary are called {twice[0]!r}",
                fix="name a value otherwise: ... AS NAME",
            )
        return made

    def to_frame(self, share: Share | None = None, *, totals: bool = False) -> pd.DataFrame:
        """Return a pandas frame, a row a line: the keys, classes as categories in their order, then the values."""
        import pandas as pd

        heads, lines = self.table(share, totals=totals)
        frame = pd.DataFrame(lines, columns=heads)
        for place, name in enumerate(self.by):
            if any(isinstance(line[place], str) for line in lines):
                labels = list(
                    dict.fromkeys(str(line[place]) for line in self._lines_by(place, totals=totals))
                )
                frame[name] = pd.Categorical(frame[name].astype(str), labels, ordered=True)
        return frame

    def _lines_by(self, place: int, *, totals: bool) -> list[tuple[Label, ...]]:
        """Return the lines in the order of one key."""
        ranks = {label: rank for rank, label in enumerate(self.orders[place])}
        kept = [line for line in self.lines if totals or TOTAL not in line]
        return sorted(kept, key=lambda line: ranks.get(line[place], len(ranks)))


def _plain_label(label: Label) -> dict[str, Any]:
    return {"kind": label.kind, "value": label.plain()}


def _plain(value: Any) -> Any:
    return str(value) if isinstance(value, (dt.date, dt.datetime)) else value
