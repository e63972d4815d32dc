"""Looking at data before any rule is written: types, distinct values, ranges, and what is odd about them."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, dataclass, field
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.column import TICKS_A_DAY
from kivvet.core.columns.convert import blank_to_null, convert_text
from kivvet.core.columns.counting import (
    KINDS_OF_FIELDS,
    MOST_DISTINCT,
    FloatArray,
    Tail,
    ValueCounter,
    as_numbers,
    as_values,
    finest_step,
    is_text_type,
    type_of_values,
)
from kivvet.core.draft.look_hints import few_strays, number_hints, stray_hint, text_hints, type_but_for_strays
from kivvet.core.words.printed import ShownInNotebooks
from kivvet.core.words.values import ValueType, write_plain
from kivvet.core.words.wording import count

if TYPE_CHECKING:
    import pandas as pd

LOOK_VERSION = 1
_ROWS_FOR_THREADS = 10_000
_THREADS = min(4, os.cpu_count() or 1)
_MOST_COMPARED = 100_000  # values listed, the most frequent first
_N_BARS = 12
_QUANTILES = (0.05, 0.25, 0.5, 0.75, 0.95)


@dataclass(frozen=True, slots=True)
class ColumnLook(ShownInNotebooks):
    """What one column of data looks like.

    Attributes
    ----------
    name : str
    type : str
        As Kivvet reads it, "other" where no table does; `reason` says why.
    rows, missing : int
    distinct : int
        Different values, missing left out; at least as many where `is_counted` is false.
    is_counted : bool
        Whether every distinct value was counted. Otherwise what depends on all of them is left out.
    lowest, highest : str
        Of numbers, dates and times; empty otherwise.
    quantiles : mapping of str to str
        ``"50 %"`` and others: the value that this share of the rows does not exceed.
    step : str
        The largest step that all numbers are multiples of; empty where there is none.
    bars : tuple of (str, str, int)
        Lower end (in), upper end (out) and rows of equally wide parts of the range.
    values : tuple of (str, int)
        Values with their rows, most frequent first; all of them, as far as they were counted.
    longest : int
        Characters of the longest text.
    hints : tuple of str
        What deserves another look, with what to do.
    strays : tuple of (str, int)
        Up to three values that are not as all others, such as a word among dates, with their rows.
    """

    name: str
    type: ValueType | Literal["other"]
    reason: str
    rows: int
    missing: int
    distinct: int
    is_counted: bool = True
    lowest: str = ""
    highest: str = ""
    quantiles: dict[str, str] = field(default_factory=dict)
    step: str = ""
    bars: tuple[tuple[str, str, int], ...] = ()
    values: tuple[tuple[str, int], ...] = ()
    longest: int = 0
    hints: tuple[str, ...] = ()
    strays: tuple[tuple[str, int], ...] = ()


@dataclass(frozen=True, slots=True)
class ReadAs:
    """How a file of text was read, as was recognised of it.

    Attributes
    ----------
    lines : tuple of str
        What a dataset has to say so that it reads the file in the same way, as lines of TOML.
    remarks : tuple of str
        What could not be decided, or is odd about the file.
    by : str
        The file of metadata beside it that says so; empty: it was recognised.
    """

    lines: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()
    by: str = ""


@dataclass(frozen=True)
class Look(ShownInNotebooks):
    """What a frame or a file looks like: a `ColumnLook` for each column; `read_as` where a file was recognised.

    Of a file of more than 1,000 columns, where none are named, it is the first 1,000; `n_more` others were left out.
    `no_data` are the rows of the file that are left out as no data, by why.
    """

    rows: int
    columns: tuple[ColumnLook, ...]
    read_as: ReadAs | None = None
    n_more: int = 0
    no_data: tuple[tuple[str, int], ...] = ()

    def __getitem__(self, name: str) -> ColumnLook:
        return next((column for column in self.columns if column.name == name), None) or _no_column(name)

    def __repr__(self) -> str:
        return f"<Look: {count(self.rows, 'row')}, {count(len(self.columns), 'column')}>"

    def as_dict(self, most_values: int = 100) -> dict[str, Any]:
        """Return plain values; of each column's values the `most_values` most frequent."""
        columns = [
            {**asdict(column), "values": [{"value": v, "rows": n} for v, n in column.values[:most_values]]}
            for column in self.columns
        ]
        read_as = None if self.read_as is None else asdict(self.read_as)
        return {
            "version": LOOK_VERSION,
            "rows": self.rows,
            "columns": columns,
            "read_as": read_as,
            "columns_left_out": self.n_more,
            "no_data": [{"why": why, "rows": n} for why, n in self.no_data],
        }

    def to_json(self) -> str:
        """Return the look as JSON text."""
        return json.dumps(self.as_dict(), indent=2, ensure_ascii=False)

    def to_frame(self) -> pd.DataFrame:
        """Return a pandas frame, one row a column of the data."""
        import pandas as pd

        names = (
            "name",
            "type",
            "reason",
            "rows",
            "missing",
            "distinct",
            "lowest",
            "highest",
            "step",
            "longest",
        )
        return pd.DataFrame(
            [{name: getattr(column, name) for name in names} for column in self.columns], columns=list(names)
        )


def _no_column(name: str) -> ColumnLook:
    raise KeyError(name)


def look_at_frame(frame: Any) -> Look:
    """Return what a frame looks like.

    Parameters
    ----------
    frame : pandas.DataFrame, polars.DataFrame or pyarrow.Table
        Text columns are looked at as the fields of a file would be: numbers, dates and codes among them
        are recognised.
    """
    from kivvet.core.run.frames import column_names

    names = column_names(frame)
    table = (
        frame
        if isinstance(frame, pa.Table)
        else pa.Table.from_pandas(frame, preserve_index=False)
        if hasattr(frame, "columns")
        else pa.table(frame)
    )
    builder = LookBuilder(names)
    for batch in table.to_batches(max_chunksize=1 << 20):
        builder.see(batch)
    return builder.look()


class LookBuilder:
    """Looks at data batch by batch; memory goes with the distinct values, not with the rows.

    Parameters
    ----------
    names : sequence of str
        The columns to look at.
    missing_words : mapping of str to sequence of str, optional
        By column, words that mean missing.
    declared : mapping of str to str, optional
        By column, the type it is read as, where that is decided already.
    most_distinct : int
        Distinct values of a column that are counted; where there are more, counting stops, and quantiles come
        from every n-th row.
    """

    def __init__(
        self,
        names: Sequence[str],
        missing_words: dict[str, tuple[str, ...]] | None = None,
        declared: Mapping[str, ValueType] | None = None,
        most_distinct: int = MOST_DISTINCT,
    ) -> None:
        self.declared = declared or {}
        self.names = list(names)
        self.missing_words = missing_words or {}
        self.counters = {name: ValueCounter(most_distinct) for name in names}
        self.rows = 0

    def see(self, batch: pa.RecordBatch) -> None:
        """Count the values of one batch; columns are shared out over threads."""
        self.rows += batch.num_rows
        if batch.num_rows < _ROWS_FOR_THREADS or len(self.names) == 1:
            for name in self.names:
                self._see_column(name, batch.column(name))
        else:
            with ThreadPoolExecutor(_THREADS) as pool:
                list(pool.map(lambda name: self._see_column(name, batch.column(name)), self.names))

    def _see_column(self, name: str, array: pa.Array) -> None:
        if pa.types.is_dictionary(array.type):
            array = array.dictionary_decode()
        if is_text_type(array.type):
            array = blank_to_null(array.cast(pa.string()), self.missing_words.get(name, ()))
        self.counters[name].add(array)

    def look(self) -> Look:
        """Return the look at all batches so far."""
        return Look(
            self.rows,
            tuple(
                _look_at(name, self.counters[name], self.rows, self.declared.get(name)) for name in self.names
            ),
        )


def _look_at(name: str, counter: ValueCounter, rows: int, declared: ValueType | None = None) -> ColumnLook:
    if counter.unread_type is not None:
        reason = f"stored as {counter.unread_type}, which no table reads"
        return ColumnLook(name, "other", reason, rows, counter.missing, 0, hints=(reason,))
    values, counts = counter.merge()
    if not len(values):
        return ColumnLook(
            name,
            "text",
            "no row has a value",
            rows,
            counter.missing,
            0,
            hints=("there is nothing in it",) if rows else (),
        )
    if counter.tail is not None:
        return _look_at_many(name, counter, counter.tail, rows)
    order = np.argsort(-counts, kind="stable")
    shown = tuple(
        zip(
            _written(values.take(pa.array(order[:_MOST_COMPARED]))),
            counts[order[:_MOST_COMPARED]].tolist(),
            strict=True,
        )
    )
    kind, reason, hints = type_of_values(values, counts)
    strays_found: tuple[tuple[str, int], ...] = ()
    more: dict[str, Any] = {}
    if declared is not None and is_text_type(values.type):
        bad = convert_text(values, declared).bad
        kind, reason = declared, "declared by the dataset"
        hints = []
        if bad is not None:
            hints = [f"{count(int(counts[bad].sum()), 'field')} cannot be read as {declared}"]
            odd = [(values[int(at)].as_py(), int(counts[at])) for at in np.flatnonzero(bad)]
            strays_found = few_strays(odd, int(counts.sum()))
            if strays_found:
                hints = [stray_hint(text, n, declared) for text, n in strays_found]
    elif is_text_type(values.type) and reason.startswith("not all fields are"):
        found = type_but_for_strays(values, counts)
        if found is not None:
            kind, strays_found = found
            reason = f"all fields but {sum(n for _, n in strays_found):,} are {KINDS_OF_FIELDS[kind][1]}"
            hints = [stray_hint(text, n, kind) for text, n in strays_found]
    if kind in ("integer", "number", "date", "datetime"):
        more = _range_of(values, counts, kind)
        hints += number_hints(more.pop("numbers", None), more.pop("weights", None), kind, len(values), rows)
    elif kind == "text":
        more = {"longest": int(pc.max(pc.utf8_length(values)).as_py())}
        hints += text_hints(shown)
    return ColumnLook(
        name,
        kind,
        reason,
        rows,
        counter.missing,
        len(values),
        values=shown,
        hints=tuple(hints),
        strays=strays_found,
        **more,
    )


def _look_at_many(name: str, counter: ValueCounter, tail: Tail, rows: int) -> ColumnLook:
    """Return the look at a column with too many distinct values to count them all."""
    more: dict[str, Any] = {"longest": tail.longest} if tail.kind == "text" else {}
    if tail.lowest is not None and tail.kind != "text":
        numbers = tail.sample()
        sample_type = tail.type
        places = [int(len(numbers) * q) for q in _QUANTILES]
        ends = _written(pa.array([tail.lowest, tail.highest], sample_type))
        quantiles = _written(as_values(numbers[places], sample_type))
        scale = (rows - counter.missing) / len(numbers)
        bars = _bars(numbers, np.ones(len(numbers), np.int64), sample_type)
        more |= {
            "lowest": ends[0],
            "highest": ends[1],
            "step": f"{tail.step:g}" if tail.step else "",
            "quantiles": {
                f"{q * 100:g} %": f"about {text}" for q, text in zip(_QUANTILES, quantiles, strict=True)
            },
            "bars": tuple((low, high, round(n * scale)) for low, high, n in bars),
        }
    hint = f"more than {counter.most:,} distinct values; they were not counted one by one"
    return ColumnLook(
        name,
        tail.kind,
        tail.reason,
        rows,
        counter.missing,
        counter.most,
        False,
        hints=(hint, *tail.hints),
        **more,
    )


def _written(values: pa.Array) -> list[str]:
    return list(map(write_plain, values.to_pylist()))


def _range_of(values: pa.Array, counts: npt.NDArray[np.int64], kind: ValueType) -> dict[str, Any]:
    """Return range, quantiles, step and bars of an ordered type, and its numbers in order with their rows."""
    if is_text_type(values.type):
        converted = convert_text(values, kind).array
    else:
        converted = values.cast(pa.float64()) if pa.types.is_decimal(values.type) else values
    kept = pc.is_valid(converted).to_numpy(zero_copy_only=False)
    typed = converted.filter(pa.array(kept))
    order = pc.array_sort_indices(typed)
    typed, weights = typed.take(order), counts[kept][order.to_numpy(zero_copy_only=False)]
    numbers = as_numbers(typed)
    if not len(typed):
        return {}
    reached = np.cumsum(weights)
    places = {f"{q * 100:g} %": int(np.searchsorted(reached, q * reached[-1])) for q in _QUANTILES}
    texts = _written(typed.take(pa.array([0, len(typed) - 1, *places.values()])))
    step = finest_step(numbers) if kind in ("integer", "number") else None
    return {
        "lowest": texts[0],
        "highest": texts[1],
        "quantiles": dict(zip(places, texts[2:], strict=True)),
        "step": f"{step:g}" if step is not None else "",
        "bars": _bars(numbers, weights, typed.type),
        "numbers": numbers,
        "weights": weights,
    }


def _bars(
    numbers: FloatArray, weights: npt.NDArray[np.int64], type_: pa.DataType
) -> tuple[tuple[str, str, int], ...]:
    finite = np.isfinite(numbers)
    numbers, weights = numbers[finite], weights[finite]
    if len(numbers) < 2:
        return ()
    unit = _bar_unit(float(numbers[-1] - numbers[0]), type_)
    width = round_width((numbers[-1] - numbers[0]) / unit / _N_BARS) * unit
    if not pa.types.is_floating(type_):
        width = max(1.0, np.ceil(width / unit)) * unit
    first = np.floor(numbers[0] / width)
    edges = width * np.arange(first, np.floor(numbers[-1] / width) + 2)
    if len(edges) < 2 or not (np.diff(edges) > 0).all():
        return ()  # floats are too coarse for parts so narrow
    place = np.searchsorted(edges[1:-1], numbers, side="right")
    rows = np.bincount(place, weights, len(edges) - 1).astype(int).tolist()
    if pa.types.is_date(type_) or pa.types.is_timestamp(type_):
        whole = pa.array(edges.astype(np.int64))
        ends = _written(
            whole.cast(pa.int32()).cast(pa.date32()) if pa.types.is_date(type_) else whole.cast(type_)
        )
    else:
        ends = [f"{edge:.10g}" for edge in edges]
    return tuple(zip(ends, ends[1:], rows, strict=False))


def _bar_unit(span: float, type_: pa.DataType) -> float:
    """Return what the width of bars is a multiple of: for times a day, an hour or a second; else 1."""
    if not pa.types.is_timestamp(type_):
        return 1.0
    second = TICKS_A_DAY[type_.unit] / 86_400
    return next((unit for unit in (86_400 * second, 3_600 * second) if span > _N_BARS * unit / 2), second)


def round_width(width: float) -> float:
    """Return the least of 1, 2, 2.5 and 5 times a power of ten that is not below `width`."""
    if width <= 0 or not np.isfinite(width):
        return 1.0
    power = 10.0 ** np.floor(np.log10(width))
    return float(next(power * nice for nice in (1, 2, 2.5, 5, 10) if power * nice >= width * (1 - 1e-9)))
