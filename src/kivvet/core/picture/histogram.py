"""Histograms as values: how data lies between the bounds of a table of one ordered input."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from kivvet.core.classify.compiled import compile_table
from kivvet.core.columns.column import TICKS_A_DAY, Column, NumericColumn, missing_mask
from kivvet.core.picture.paints import NO_CLASS, Paint
from kivvet.core.picture.places import Given, PlaceKind, Places, in_order
from kivvet.core.space.boxes import Space
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError
from kivvet.core.words.regions import HIGH, LOW, Cut
from kivvet.core.words.values import NANOSECONDS_A_DAY
from kivvet.core.words.wording import count, shell_word

#: The types of inputs that lie on a line.
TYPES = ("integer", "number", "date", "datetime")
_BINS = 48
_FAR_OUT = (
    0.005  # the share of the rows on either side that may be left out, where it would stretch the picture
)
_STRETCH = 0.25  # of the range of the others, that they may take
_MOST_SAMPLED = 50_000
_ROOM = 0.08  # of the range, that is shown of a stretch beyond it
_TINY = 1e-12  # the narrowest bar
_FINEST = 2.0**-40  # of the largest value, that a bar is wide at least
_MOST_PARTS = 12


@dataclass(frozen=True, slots=True)
class Band:
    """A stretch of the line on which the table gives one thing.

    Attributes
    ----------
    low, high : float or None
        Its ends; None where it has none. A single value has both ends alike.
    kind : {"class", "overlap", "gap", "open"}
    label : str
        The class, or what stands there.
    condition : str
        The stretch in the condition syntax.
    paint : Paint
    rows : tuple of int
        The rows that hold it, from 1.
    """

    low: float | None
    high: float | None
    kind: PlaceKind
    label: str
    condition: str
    paint: Paint
    rows: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Layer:
    """The rows of data of one class, by bar."""

    label: str
    paint: Paint
    counts: tuple[int, ...]


@dataclass(frozen=True)
class Histogram:
    """How data lies between the bounds of a table.

    Attributes
    ----------
    title, about, type : str
        The input, and its type. Days are counted from 1970, moments in days.
    edges : tuple of float
        Of the bars, rising; a bar holds its lower edge. Empty without data.
    layers : tuple of Layer
        Stacked, in class order; what no row holds is one of them.
    bands : tuple of Band
    bounds : tuple of (float, str)
        Where the table's bounds lie, and how it writes them.
    rows, missing, below, above : int
        Rows of data in all; without a value; with one below or above what is drawn.
    view : tuple of (float, float)
    notes : tuple of str
    """

    title: str
    about: str
    type: str
    edges: tuple[float, ...]
    layers: tuple[Layer, ...]
    bands: tuple[Band, ...]
    bounds: tuple[tuple[float, str], ...]
    view: tuple[float, float]
    rows: int = 0
    missing: int = 0
    below: int = 0
    above: int = 0
    notes: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        return {"kind": "histogram", **asdict(self)}

    @property
    def words(self) -> str:
        stretches = [f"{band.condition}: {band.label}" for band in self.bands]
        layers = [f"{layer.label} {sum(layer.counts):,}" for layer in self.layers]
        rows = f" {self.rows:,} rows: {', '.join(layers)}." if self.rows else ""
        return f"{self.title}. {'; '.join(stretches)}.{rows}"


def bands_of(table: Table, output: Output) -> tuple[tuple[Band, ...], tuple[tuple[float, str], ...]]:
    """Return the stretches of a table of one ordered input, and its bounds.

    Raises
    ------
    DataError
        If the table has other inputs.
    """
    if (
        table.lookup is not None
        or len(table.dimensions) != 1
        or table.computed_inputs
        or table.inputs[0].type not in TYPES
    ):
        raise DataError(
            f"table {table.name!r} has no one input of numbers or dates that a histogram could be along",
            fix=f"draw its classes: kivvet chart {shell_word(table.name)} --kind bars"
            if len(table.dimensions) == 1 or table.lookup is not None
            else f"draw its regions: kivvet chart {shell_word(table.name)} --kind map",
        )
    dimension = Space(table).dimensions[0]
    places, kind = Places(table, output), table.inputs[0].type
    made: list[tuple[Cut, Cut, Given]] = []
    bounds: dict[float, str] = {}
    for number, cell in enumerate(dimension.cut.cells):
        if not cell.in_domain:
            continue
        for cut in (cell.low, cell.high) if made else (cell.high,):
            if cut not in (LOW, HIGH):
                bounds.setdefault(_place(cut, kind), dimension.axis.write_place(cut[1]))
        given = places.given(dimension.masks[number], is_open=dimension.is_open)
        if (
            made
            and made[-1][2] == given
            and (made[-1][1] == cell.low or _is_nothing_between(dimension.axis, made[-1][1], cell.low))
        ):
            made[-1] = (made[-1][0], cell.high, given)
        else:
            made.append((cell.low, cell.high, given))
    if made and made[-1][1] != HIGH:  # the end of the domain is no bound
        bounds.pop(_place(made[-1][1], kind), None)
    bands = tuple(
        Band(
            None if low == LOW else _place(low, kind),
            None if high == HIGH else _place(high, kind),
            given.kind,
            given.label,
            dimension.axis.write_interval(low, high),
            given.paint,
            given.rows,
        )
        for low, high, given in made
    )
    return bands, tuple(sorted(bounds.items()))


def _is_nothing_between(axis: Any, low: Cut, high: Cut) -> bool:
    return axis.witness(0, low, high) is None


def _place(cut: Cut, kind: str) -> float:
    """Return where a cut lies: numbers as they are, days and moments in days."""
    return float(cut[1]) / NANOSECONDS_A_DAY if kind == "datetime" else float(cut[1])


def empty_histogram(table: Table, output: Output, title: str, notes: tuple[str, ...] = ()) -> Histogram:
    """Return the stretches of a table without any data."""
    bands, bounds = bands_of(table, output)
    low, high = _around(bounds, RangeInDays())
    return Histogram(
        title, table.inputs[0].name, table.inputs[0].type, (), (), bands, bounds, (low, high), notes=notes
    )


def _around(bounds: tuple[tuple[float, str], ...], reach: RangeInDays) -> tuple[float, float]:
    """Return what is shown: the data but for what lies far out, and all bounds."""
    at = [place for place, _ in bounds]
    shown = reach.shown
    if shown is None:
        if not at:
            return 0.0, 1.0
        span = (at[-1] - at[0]) or max(abs(at[0]), 1.0)
        return at[0] - span / 4, at[-1] + span / 4
    return min([shown[0], *at]), max([shown[1], *at])


def _with_ends(view: tuple[float, float], bands: tuple[Band, ...]) -> tuple[float, float]:
    """Return what is shown, a little more of it where a stretch would begin just at its end and not be seen."""
    low, high = view
    room = _ROOM * (high - low) or 1.0
    if (
        bands
        and (bands[0].low is None or bands[0].low < low)
        and bands[0].high is not None
        and bands[0].high <= low
    ):
        low -= room
    if (
        bands
        and (bands[-1].high is None or bands[-1].high > high)
        and bands[-1].low is not None
        and bands[-1].low >= high
    ):
        high += room
    return low, high


class HistogramCounter:
    """Counts data by bar and class, batch by batch.

    Parameters
    ----------
    table : Table
        Of one ordered input.
    output : Output
    reach : RangeInDays
        That has seen all of the data.
    """

    def __init__(self, table: Table, output: Output, reach: RangeInDays) -> None:
        self.table, self.output = table, output
        self.about = table.inputs[0]
        self.bands, self.bounds = bands_of(table, output)
        self.view = _with_ends(_around(self.bounds, reach), self.bands)
        self.edges = self._edges(*self.view, reach.highest)
        self.places = Places(table, output)
        self.labels: dict[str, int] = {}
        self.paints: list[Paint] = []
        self.counts = np.zeros((len(self.edges) - 1, 0), np.int64)
        self.rows = self.missing = self.below = self.above = 0

    def _edges(self, low: float, high: float, highest: float | None) -> npt.NDArray[np.float64]:
        """Return edges at round numbers, in whole steps of the input where it has one."""
        finest = max(max(abs(low), abs(high)) * _FINEST, _TINY)
        width = _round_width(max((high - low) / _BINS, finest) if high > low else max(1.0, finest))
        step = 1.0 if self.about.type in ("integer", "date") else float(self.about.step or 0)
        offset = float(self.about.step_offset) if step else 0.0
        if step:
            width = max(step, round(width / step) * step)
        first = math.floor((low - offset) / width)
        last = max(math.ceil((high - offset) / width - 1e-9), first + 1)
        digits = max(0, min(15, 12 - math.floor(math.log10(max(abs(low), abs(high), width)))))
        edges = np.unique(np.round((float(first) + np.arange(last - first + 2)) * width + offset, digits))
        # A bar does not hold its upper edge: one more is needed where the largest value stands on it.
        is_one_more = highest is not None and highest <= high and edges[-2] <= highest
        return edges if is_one_more or len(edges) < 3 else edges[:-1]

    def see(self, columns: Mapping[str, Column]) -> None:
        """Count a batch."""
        column = columns[self.about.name]
        places = self._labels(columns)
        self.rows += len(places)
        gone = missing_mask(column)
        if not isinstance(column, NumericColumn):
            self.missing += int(np.count_nonzero(gone))
            return
        values = column.values.astype(np.float64)
        if column.kind == "datetime":
            values = values / TICKS_A_DAY[column.unit]
        gone = gone | np.isnan(values)
        self.missing += int(np.count_nonzero(gone))
        beneath, beyond = values < self.edges[0], values >= self.edges[-1]
        out = gone | beneath | beyond
        if out.any():
            self.below += int(np.count_nonzero(beneath & ~gone))
            self.above += int(np.count_nonzero(beyond & ~gone))
            values, places = values[~out], places[~out]
        size, number = len(self.edges) - 1, len(self.labels)
        if self.counts.shape[1] < number:
            self.counts = np.pad(self.counts, ((0, 0), (0, number - self.counts.shape[1])))
        flat = np.bincount(self._bars(values) * number + places, minlength=size * number)
        self.counts += flat.reshape(size, number)

    def _bars(self, values: npt.NDArray[np.float64]) -> npt.NDArray[np.int64]:
        """Return the bar of each value: about where it must be, then set right by the edges themselves."""
        size = len(self.edges) - 1
        near = (values - self.edges[0]) * (size / (self.edges[-1] - self.edges[0]))
        bars: npt.NDArray[np.int64] = np.clip(near, 0, size - 1).astype(np.int64)
        while (wrong := values < self.edges[bars]).any():
            bars -= wrong
        while (wrong := values >= self.edges[bars + 1]).any():
            bars += wrong
        return bars

    def _labels(self, columns: Mapping[str, Column]) -> npt.NDArray[np.int64]:
        """Return the number of the class of each row of data."""
        compiled = compile_table(self.table)
        outcomes = compiled.classify(columns).labels.astype(np.int64)
        known = compiled.outcomes
        numbers = np.zeros(known.number, np.int64)
        for outcome in np.flatnonzero(np.bincount(outcomes, minlength=known.number)).tolist():
            numbers[outcome] = self._number(
                self._shown(known.rows_of(outcome), is_missing=outcome == known.missing)
            )
        made: npt.NDArray[np.int64] = numbers[outcomes]
        return made

    def _shown(self, rows: tuple[int, ...], *, is_missing: bool) -> tuple[str, Paint]:
        if is_missing and self.output.name in self.table.missing:
            label = Places.text_of(self.table.missing[self.output.name])
            return label, self.places.paints.get(label, NO_CLASS["missing"])
        if is_missing:
            return "(missing)", NO_CLASS["missing"]
        if not rows:
            given = self.places.given(0)
            return (
                ("(unmatched)", NO_CLASS["unmatched"]) if given.kind == "gap" else (given.label, given.paint)
            )
        if len(rows) == 1:
            given = self.places.of_row(rows[0])
        else:
            given = self.places.given(sum(1 << row for row in rows))
        return given.label, given.paint

    def _number(self, shown: tuple[str, Paint]) -> int:
        label, paint = shown
        if label not in self.labels:
            self.labels[label] = len(self.labels)
            self.paints.append(paint)
        return self.labels[label]

    def made(self, title: str, notes: tuple[str, ...] = ()) -> Histogram:
        """Return what was counted."""
        order = in_order(self.table, self.output, list(self.labels))
        shown = [one for one in order if self.counts[:, self.labels[one]].any()]
        layers = [
            Layer(one, self.paints[self.labels[one]], tuple(self.counts[:, self.labels[one]].tolist()))
            for one in shown
        ]
        more: list[str] = []
        if len(layers) > _MOST_PARTS:
            ranked = sorted(layers, key=lambda one: -sum(one.counts))
            kept = set(map(id, ranked[: _MOST_PARTS - 1]))
            rest = [layer for layer in layers if id(layer) not in kept]
            joined = tuple(sum(each) for each in zip(*(one.counts for one in rest), strict=True))
            layers = [layer for layer in layers if id(layer) in kept] + [
                Layer(f"other ({len(rest)})", NO_CLASS["rest"], joined)
            ]
            more.append(f"the {_MOST_PARTS - 1} largest classes; the other {len(rest)} are joined")
        if self.missing:
            more.append(f"{count(self.missing, 'row')} without a value")
        for number, word in ((self.below, "below"), (self.above, "above")):
            if number:
                more.append(f"{count(number, 'row')} {word} what is drawn")
        return Histogram(
            title,
            self.about.name,
            self.about.type,
            tuple(self.edges.tolist()),
            tuple(layers),
            self.bands,
            self.bounds,
            (float(min(self.edges[0], self.view[0])), float(max(self.edges[-1], self.view[1]))),
            self.rows,
            self.missing,
            self.below,
            self.above,
            (*more, *notes),
        )


def _round_width(width: float) -> float:
    """Return the least of 1, 2, 2.5 and 5 times a power of ten that is no less."""
    power = 10.0 ** math.floor(math.log10(width))
    return next(
        (times * power for times in (1, 2, 2.5, 5, 10) if times * power >= width * (1 - 1e-9)), 10 * power
    )


class RangeInDays:
    """The range of the finite values of a column: numbers as they are, days and moments in days; and every so-manieth of
    them, by which it is judged what lies far out.
    """

    def __init__(self) -> None:
        self.lowest: float | None = None
        self.highest: float | None = None
        self._sampled: npt.NDArray[np.float64] = np.zeros(0)
        self._each = 1

    def see(self, column: Column) -> None:
        """Look at a batch."""
        if not isinstance(column, NumericColumn):
            return
        values = column.values[~missing_mask(column)].astype(np.float64)
        values = values[np.isfinite(values)]
        if not len(values):
            return
        if column.kind == "datetime":
            values = values / TICKS_A_DAY[column.unit]
        low, high = float(values.min()), float(values.max())
        self.lowest = low if self.lowest is None else min(low, self.lowest)
        self.highest = high if self.highest is None else max(high, self.highest)
        self._sampled = np.concatenate([self._sampled, values[:: self._each]])
        while len(self._sampled) > _MOST_SAMPLED:
            self._sampled, self._each = self._sampled[::2], self._each * 2

    @property
    def shown(self) -> tuple[float, float] | None:
        """The range without what lies far out; None where there is no value."""
        if self.lowest is None or self.highest is None:
            return None
        low, high = np.quantile(self._sampled, [_FAR_OUT, 1 - _FAR_OUT], method="nearest").tolist()
        room = _STRETCH * (high - low)
        if not room:
            return self.lowest, self.highest
        return (
            self.lowest if low - self.lowest <= room else low,
            self.highest if self.highest - high <= room else high,
        )
