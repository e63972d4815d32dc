"""Bars as values: how long they are, what they stand for, what they are painted with."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any, Literal

from kivvet.core.picture.paints import NO_CLASS, PLAIN, Paint
from kivvet.core.run.cross_table import TOTAL, Cell, CrossTable, Label, Share
from kivvet.core.run.step_reports import ClassLine
from kivvet.core.words.errors import DataError
from kivvet.core.words.wording import count, shell_word

#: At most so many bars; the smallest are joined.
MOST_BARS = 30
#: At most so many parts of a bar.
MOST_PARTS = 12
Style = Literal["stacked", "beside"]


@dataclass(frozen=True, slots=True)
class Part:
    """One part of every bar, or the whole of them.

    Attributes
    ----------
    label : str
        Empty where the bars have one part.
    paints : tuple of Paint
        One for each bar.
    values : tuple of (float or None)
        One for each bar; None where no rows are there.
    """

    label: str
    paints: tuple[Paint, ...]
    values: tuple[float | None, ...]


@dataclass(frozen=True)
class Bars:
    """Bars, one below the other.

    Attributes
    ----------
    title : str
    about, parts_about : str
        What the bars stand for, and what their parts do.
    measure : str
        What their length is.
    bars : tuple of str
        What each stands for.
    parts : tuple of Part
    style : {"stacked", "beside"}
    is_share : bool
        Whether lengths are shares, from 0 to 1.
    notes : tuple of str
        What is not drawn, or drawn otherwise than one might think.
    n_apart : int
        How many of the last bars stand for rows without a value, apart from the others.
    """

    title: str
    about: str
    measure: str
    bars: tuple[str, ...]
    parts: tuple[Part, ...]
    parts_about: str = ""
    style: Style = "stacked"
    is_share: bool = False
    notes: tuple[str, ...] = ()
    n_apart: int = 0

    def as_dict(self) -> dict[str, Any]:
        return {"kind": "bars", **asdict(self)}

    @property
    def words(self) -> str:
        """What is to be seen, in words."""
        told = []
        for place, bar in enumerate(self.bars):
            values = [
                f"{part.label} {_written(part.values[place], is_share=self.is_share)}".strip()
                for part in self.parts
                if part.values[place] is not None
            ]
            told.append(f"{bar}: {', '.join(values) or 'no rows'}")
        return f"{self.title}. {self.measure} by {self.about}. " + "; ".join(told)


@dataclass(frozen=True)
class Sheet:
    """Several pictures of bars side by side, each of a column of classes."""

    title: str
    panels: tuple[Bars, ...]
    notes: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        return {
            "kind": "sheet",
            "title": self.title,
            "panels": [panel.as_dict() for panel in self.panels],
            "notes": list(self.notes),
        }

    @property
    def words(self) -> str:
        return " ".join(panel.words for panel in self.panels)


def _written(value: float | None, *, is_share: bool) -> str:
    if value is None:
        return "nothing"
    return f"{100 * value:.1f} %" if is_share else f"{value:,.10g}"


def bars_of(
    table: CrossTable,
    title: str,
    source: str,
    paints: Mapping[str, Mapping[Label, Paint]],
    *,
    value: int = 0,
    share: Share | None = None,
    style: Style = "stacked",
) -> Bars:
    """Return a cross-table as bars: one for each line, with a part for each column.

    Parameters
    ----------
    table : CrossTable
    title, source : str
        What stands above it, and what the data is called.
    paints : mapping of str to mapping of Label to Paint
        By key what its labels are painted with.
    value : int
        The place of the value that is drawn.
    share : {"row", "column", "total"}, optional
    style : {"stacked", "beside"}

    Raises
    ------
    DataError
        If there are no rows, or parts that cannot be put end to end.
    """
    lines = [line for line in table.lines if TOTAL not in line]
    columns: list[Label | None] = [column for column in table.columns if column != TOTAL] or [None]
    if not any(cell.rows for cell in table.cells):
        raise DataError(
            f"there are no rows to draw of {source}", fix=f"see: kivvet look {shell_word(source)}"
        )
    if share is not None and not table.additive[value]:
        raise DataError(
            f"{table.values[value]} has no share: shares are of counts and totals",
            expected="COUNT or SUM as the value",
        )
    if len(columns) > 1 and style == "stacked" and not table.additive[value]:
        raise DataError(
            f"{table.values[value]} cannot be stacked: parts of it do not add up",
            fix="draw the bars side by side: --kind beside",
        )
    lengths = {
        (line, column): _length(table, table.cell(line, column), value, share)
        for line in lines
        for column in columns
    }
    of_line = {line: _sum([lengths[line, column] for column in columns]) for line in lines}
    kept, joined = _largest(lines, of_line, MOST_BARS)
    notes = []
    labels = [", ".join(map(str, line)) for line in kept]
    if joined and table.additive[value] and share != "row":
        labels.append(f"other ({len(joined)})")
        notes.append(
            f"the {len(kept)} largest of {len(lines)} bars; the other {count(len(joined), 'bar')} are joined"
        )
    elif joined:
        notes.append(f"the {len(kept)} largest of {len(lines)} bars; {len(joined)} more are not drawn")
    if table.n_joined:
        notes.append(f"{count(table.n_joined, 'smaller part')} are joined as (rest)")
    has_rest = len(labels) > len(kept)
    parts = []
    for column in columns:
        values = [lengths[line, column] for line in kept]
        if has_rest:
            values.append(_sum([lengths[line, column] for line in joined]))
        parts.append(
            Part(
                "" if column is None else str(column),
                _paints(table, kept, column, paints, has_rest=has_rest),
                tuple(values),
            )
        )
    if left := table.left_out:
        notes.append(f"{count(left, 'row')} left out by where")
    measure = table.values[value] if share is None else f"share of {table.values[value]} {_WHOLES[share]}"
    return Bars(
        title,
        ", ".join(table.by) or "all rows",
        measure,
        tuple(labels),
        tuple(parts),
        table.across or "",
        style,
        share is not None,
        tuple(notes),
        0 if has_rest else _n_last(line[-1].kind != "value" if line else False for line in kept),
    )


def _n_last(are: Iterable[bool]) -> int:
    """Return how many of the last ones are so, where some before are not."""
    flags = list(are)
    n_last = next((number for number, one in enumerate(reversed(flags)) if not one), len(flags))
    return n_last if n_last < len(flags) else 0


_WHOLES = {"row": "in each bar", "column": "in each part", "total": "of all"}


def _length(table: CrossTable, cell: Cell | None, value: int, share: Share | None) -> float | None:
    if cell is None:
        return None
    if share is not None:
        return table.share(cell, value, share)
    found = cell.values[value]
    if found is None:
        return None
    try:
        return float(found)
    except (TypeError, ValueError):
        raise DataError(
            f"{table.values[value]} is {table.types[value]}, and bars have lengths",
            expected="a number as the value",
        ) from None


def _sum(values: Sequence[float | None]) -> float | None:
    there = [value for value in values if value is not None]
    return sum(there) if there else None


def _largest(
    lines: Sequence[tuple[Label, ...]], of_line: Mapping[tuple[Label, ...], float | None], most: int
) -> tuple[list[tuple[Label, ...]], list[tuple[Label, ...]]]:
    """Return the longest bars in their order, and the others."""
    if len(lines) <= most:
        return list(lines), []
    ranked = sorted(lines, key=lambda line: -abs(of_line[line] or 0))
    chosen = set(ranked[: most - 1])
    return [line for line in lines if line in chosen], [line for line in lines if line not in chosen]


def _paints(
    table: CrossTable,
    kept: Sequence[tuple[Label, ...]],
    column: Label | None,
    paints: Mapping[str, Mapping[Label, Paint]],
    *,
    has_rest: bool,
) -> tuple[Paint, ...]:
    if column is not None:
        assert table.across is not None
        return (_painted(paints.get(table.across, {}), column),) * (len(kept) + has_rest)
    of_key = paints.get(table.by[-1], {}) if table.by else {}
    found = [_painted(of_key, line[-1]) if line else PLAIN for line in kept]
    return (*found, *([NO_CLASS["rest"]] if has_rest else []))


def _painted(known: Mapping[Label, Paint], label: Label) -> Paint:
    return known.get(label) or (PLAIN if label.kind == "value" else NO_CLASS[label.kind])


def bars_of_classes(
    title: str,
    column: str,
    counted: Sequence[ClassLine],
    paints: Mapping[str, Paint],
) -> Bars:
    """Return the rows of each class as bars; rows without one come last, by why they have none."""
    kept: list[ClassLine] = list(counted)
    joined: list[ClassLine] = []
    if len(kept) > MOST_BARS:
        chosen = set(sorted(range(len(kept)), key=lambda place: -kept[place][2])[: MOST_BARS - 1])
        joined = [one for place, one in enumerate(kept) if place not in chosen]
        kept = [one for place, one in enumerate(kept) if place in chosen]
    labels = [label for label, *_ in kept]
    colours = [paints.get(label, PLAIN) if kind == "class" else NO_CLASS[kind] for label, kind, _ in kept]
    values = [float(number) for *_, number in kept]
    notes: tuple[str, ...] = ()
    if joined:
        labels.append(f"other ({len(joined)})")
        colours.append(NO_CLASS["rest"])
        values.append(float(sum(number for *_, number in joined)))
        notes = (
            f"the {len(kept)} largest of {len(kept) + len(joined)} classes; the other {len(joined)} are joined",
        )
    return Bars(
        title,
        column,
        "rows",
        tuple(labels),
        (Part("", tuple(colours), tuple(values)),),
        notes=notes,
        n_apart=0 if joined else _n_last(kind != "class" for _, kind, _ in kept),
    )


def with_notes(bars: Bars, notes: Sequence[str]) -> Bars:
    """Return bars with more said of them."""
    return replace(bars, notes=(*bars.notes, *notes))
