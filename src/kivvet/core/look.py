"""Looking at data before any rule is written: types, distinct values, ranges, and what is odd about them."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.convert import FIELD_PATTERNS, blank_to_null, convert_text, fitting_types
from kivvet.core.values import ValueType, fold_text, write_value
from kivvet.errors import count

if TYPE_CHECKING:
    import pandas as pd

LOOK_VERSION = 1
#: Distinct values of a column that are counted one by one; where there are more, that is said.
MOST_DISTINCT = 2_000_000
_COMPACT_AT = 400_000
_MOST_COMPARED = 100_000
_MOST_SHOWN = 5
_N_BARS = 12
_FEW_INTEGERS = 20
_FINEST_DIGITS = 6
_QUANTILES = (0.05, 0.25, 0.5, 0.75, 0.95)
_WORDS_LIKE_MISSING = frozenset(
    {"na", "n/a", "n.a.", "nan", "null", "none", "nil", "-", "--", "?", ".", "missing", "unknown", "#n/a"}
)
_LEADING_ZEROS = r"^[+-]?0[0-9]"

FloatArray = npt.NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class ColumnLook:
    """What one column of data looks like.

    Attributes
    ----------
    name : str
    type : str
        As Kivvet reads it; `reason` says why.
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
    """

    name: str
    type: ValueType
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


@dataclass(frozen=True)
class Look:
    """What a frame or a file looks like: a `ColumnLook` for each column."""

    rows: int
    columns: tuple[ColumnLook, ...]

    def __getitem__(self, name: str) -> ColumnLook:
        return next((one for one in self.columns if one.name == name), None) or _no_column(name)

    def __repr__(self) -> str:
        return f"<Look: {count(self.rows, 'row')}, {count(len(self.columns), 'column')}>"

    def as_dict(self, most_values: int = 100) -> dict[str, Any]:
        """Return plain values; of each column's values the `most_values` most frequent."""
        columns = [
            {**asdict(one), "values": [{"value": v, "rows": n} for v, n in one.values[:most_values]]}
            for one in self.columns
        ]
        return {"version": LOOK_VERSION, "rows": self.rows, "columns": columns}

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
            [{name: getattr(one, name) for name in names} for one in self.columns], columns=list(names)
        )


def _no_column(name: str) -> ColumnLook:
    raise KeyError(name)


def look(frame: Any) -> Look:
    """Return what a frame looks like.

    Parameters
    ----------
    frame : pandas.DataFrame or pyarrow.Table
        Text columns are looked at as the fields of a file would be: numbers, dates and codes among them
        are recognised.
    """
    from kivvet.core.apply_frame import column_names

    names = column_names(frame)
    table = (
        frame
        if isinstance(frame, pa.Table)
        else pa.Table.from_pandas(frame, preserve_index=False)
        if hasattr(frame, "columns")
        else pa.table(frame)
    )
    looker = Looker(names)
    for batch in table.to_batches(max_chunksize=1 << 20):
        looker.see(batch)
    return looker.look()


class Looker:
    """Looks at data batch by batch; memory goes with the distinct values, not with the rows.

    Parameters
    ----------
    names : sequence of str
        The columns to look at.
    missing_words : mapping of str to sequence of str, optional
        By column, words that mean missing.
    declared : mapping of str to str, optional
        By column, the type it is read as, where that is decided already.
    """

    def __init__(
        self, names: Sequence[str], missing_words: dict[str, tuple[str, ...]] | None = None,
        declared: Mapping[str, ValueType] | None = None,
    ) -> None:  # fmt: skip
        self.declared = declared or {}
        self.names = list(names)
        self.missing_words = missing_words or {}
        self.counters = {name: ValueCounter() for name in names}
        self.rows = 0

    def see(self, batch: pa.RecordBatch) -> None:
        """Count the values of one batch."""
        self.rows += batch.num_rows
        for name in self.names:
            array = batch.column(name)
            if pa.types.is_dictionary(array.type):
                array = array.dictionary_decode()
            if _is_text(array.type):
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


class ValueCounter:
    """Counts the distinct values of one column as its batches come."""

    def __init__(self) -> None:
        self.parts: list[pa.Table] = []
        self.n_waiting = 0
        self.n_merged = 0
        self.missing = 0
        self.is_full = False

    def add(self, array: pa.Array) -> None:
        """Count one batch; null and NaN are missing."""
        if pa.types.is_floating(array.type):
            array = pc.if_else(pc.is_nan(array), pa.scalar(None, array.type), array)
        self.missing += array.null_count
        if self.is_full:
            return
        counted = pc.value_counts(array.drop_null() if array.null_count else array)
        self.parts.append(pa.table({"value": counted.field("values"), "rows": counted.field("counts")}))
        self.n_waiting += len(counted)
        if self.n_waiting > max(_COMPACT_AT, self.n_merged):
            self.merge()
            self.is_full = self.n_merged > MOST_DISTINCT

    def merge(self) -> tuple[pa.Array, npt.NDArray[np.int64]]:
        """Return the distinct values, in the order they came, and their rows."""
        if not self.parts:
            return pa.array([], pa.string()), np.zeros(0, np.int64)
        if len(self.parts) > 1:
            merged = (
                pa.concat_tables(self.parts).group_by("value", use_threads=False).aggregate([("rows", "sum")])
            )
            self.parts = [
                merged.rename_columns({"rows_sum": "rows"}) if "rows_sum" in merged.column_names else merged
            ]
            self.parts = [self.parts[0].select(["value", "rows"])]
        self.n_waiting, self.n_merged = 0, self.parts[0].num_rows
        values, rows = (self.parts[0].column(name).combine_chunks() for name in ("value", "rows"))
        return _flat(values), _flat(rows).to_numpy(zero_copy_only=False)


def _flat(array: Any) -> pa.Array:
    if isinstance(array, pa.ChunkedArray):
        return array.chunk(0) if array.num_chunks else pa.array([], array.type)
    return array


def _is_text(type_: pa.DataType) -> bool:
    return bool(
        pa.types.is_string(type_) or pa.types.is_large_string(type_) or pa.types.is_string_view(type_)
    )


def _look_at(name: str, counter: ValueCounter, rows: int, declared: ValueType | None = None) -> ColumnLook:
    values, counts = counter.merge()
    is_counted = not counter.is_full
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
    order = np.argsort(-counts, kind="stable")
    shown = tuple(
        zip(
            _written(values.take(pa.array(order[:_MOST_COMPARED]))),
            counts[order[:_MOST_COMPARED]].tolist(),
            strict=True,
        )
    )
    kind, reason, hints = _type_of(values, counts)
    if declared is not None and _is_text(values.type):
        bad = convert_text(values, declared).bad
        kind, reason = declared, "declared by the dataset"
        hints = (
            [] if bad is None else [f"{count(int(counts[bad].sum()), 'field')} cannot be read as {declared}"]
        )
    more: dict[str, Any] = {}
    if kind in ("integer", "number", "date", "datetime") and is_counted:
        more = _range_of(values, counts, kind)
        hints += _number_hints(more.pop("numbers", None), more.pop("weights", None), kind, len(values), rows)
    elif kind == "text":
        more = {"longest": int(pc.max(pc.utf8_length(values)).as_py())}
        hints += _text_hints(shown)
    if not is_counted:
        hints.append(f"more than {MOST_DISTINCT:,} distinct values; they were not all counted")
    return ColumnLook(
        name,
        kind,
        reason,
        rows,
        counter.missing,
        len(values),
        is_counted,
        values=shown,
        hints=tuple(hints),
        **more,
    )


def _written(values: pa.Array) -> list[str]:
    return [
        repr(value).removesuffix(".0") if isinstance(value, float) else write_value(value)
        for value in values.to_pylist()
    ]


def _type_of(values: pa.Array, counts: npt.NDArray[np.int64]) -> tuple[ValueType, str, list[str]]:
    """Return the type Kivvet reads a column as, why, and what is odd about that."""
    if not _is_text(values.type):
        return _stored_type(values.type), f"stored as {values.type}", []
    fields = pc.utf8_trim_whitespace(values)
    fields = fields.filter(pc.not_equal(fields, ""))
    fitting = fitting_types(fields, list(FIELD_PATTERNS)) if len(fields) else []
    if fitting:
        names = {
            "integer": "whole numbers",
            "number": "numbers",
            "boolean": "true or false",
            "date": "dates",
            "datetime": "times",
        }
        return fitting[0], f"all fields are {names[fitting[0]]}", []
    zeros = pc.match_substring_regex(fields, _LEADING_ZEROS)
    is_number = pc.match_substring_regex(fields, FIELD_PATTERNS["number"])
    if pc.all(pc.or_(zeros, pc.or_(is_number, pc.equal(fields, "0")))).as_py():
        example = fields.filter(zeros)[0].as_py()
        return "text", f"leading zeros, such as {example}", []
    if (
        len(fields) == len(values)
        and (n_numbers := int(counts[is_number.to_numpy(zero_copy_only=False)].sum())) * 2 >= counts.sum()
    ):
        odd = fields.filter(pc.invert(is_number))
        examples = ", ".join(repr(one) for one in odd[:3].to_pylist())
        n_odd = int(counts.sum()) - n_numbers
        hint = f"mixed: {count(n_numbers, 'field')} {'is a number' if n_numbers == 1 else 'are numbers'}, {n_odd:,} {'is' if n_odd == 1 else 'are'} not, such as {examples}"
        return "text", "not all fields are numbers", [hint]
    return "text", "words", []


def _stored_type(type_: pa.DataType) -> ValueType:
    if pa.types.is_integer(type_):
        return "integer"
    if pa.types.is_floating(type_) or pa.types.is_decimal(type_):
        return "number"
    if pa.types.is_boolean(type_):
        return "boolean"
    if pa.types.is_date(type_):
        return "date"
    return "datetime" if pa.types.is_timestamp(type_) else "text"


def _range_of(values: pa.Array, counts: npt.NDArray[np.int64], kind: ValueType) -> dict[str, Any]:
    """Return range, quantiles, step and bars of an ordered type, and its numbers in order with their rows."""
    if _is_text(values.type):
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
        "lowest": texts[0], "highest": texts[1], "quantiles": dict(zip(places, texts[2:], strict=True)),
        "step": f"{step:g}" if step is not None else "", "bars": _bars(numbers, weights, typed.type),
        "numbers": numbers, "weights": weights,
    }  # fmt: skip


def as_numbers(typed: pa.Array) -> FloatArray:
    """Return numbers, dates (in days) or times (in ticks) as floats."""
    if pa.types.is_date(typed.type):
        typed = typed.cast(pa.date32()).cast(pa.int32())
    elif pa.types.is_timestamp(typed.type):
        typed = typed.cast(pa.int64())
    numbers: FloatArray = typed.cast(pa.float64(), safe=False).to_numpy(zero_copy_only=False)
    return numbers


def finest_step(numbers: FloatArray) -> float | None:
    """Return the largest step that all (finite) numbers are multiples of, None if they are finer than a millionth."""
    finite = numbers[np.isfinite(numbers)]
    if not len(finite) or np.abs(finite).max() >= 2.0**53 / 10**_FINEST_DIGITS:
        return None
    for digits in range(_FINEST_DIGITS + 1):
        scaled = finite * 10.0**digits
        whole = np.rint(scaled)
        if (np.abs(scaled - whole) <= 1e-9 * np.maximum(1.0, np.abs(scaled))).all():
            common = int(np.gcd.reduce(whole.astype(np.int64)))
            return float((common or 1) / 10**digits)
    return None


def _bars(
    numbers: FloatArray, weights: npt.NDArray[np.int64], type_: pa.DataType
) -> tuple[tuple[str, str, int], ...]:
    finite = np.isfinite(numbers)
    numbers, weights = numbers[finite], weights[finite]
    if len(numbers) < 2:
        return ()
    width = round_width((numbers[-1] - numbers[0]) / _N_BARS)
    if not pa.types.is_floating(type_):
        width = max(1.0, np.ceil(width))
    first = np.floor(numbers[0] / width)
    edges = width * np.arange(first, np.floor(numbers[-1] / width) + 2)
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


def round_width(width: float) -> float:
    """Return the least of 1, 2, 2.5 and 5 times a power of ten that is not below `width`."""
    if width <= 0 or not np.isfinite(width):
        return 1.0
    power = 10.0 ** np.floor(np.log10(width))
    return float(next(power * nice for nice in (1, 2, 2.5, 5, 10) if power * nice >= width * (1 - 1e-9)))


def _number_hints(
    numbers: FloatArray | None,
    weights: npt.NDArray[np.int64] | None,
    kind: ValueType,
    n_distinct: int,
    rows: int,
) -> list[str]:
    if numbers is None or weights is None or kind not in ("integer", "number"):
        return []
    hints = []
    if kind == "integer" and n_distinct <= _FEW_INTEGERS and rows >= 10 * n_distinct:
        hints.append(f"{count(n_distinct, 'distinct whole number')}: likely a category, not an amount")
    if len(numbers) > 2:
        low, high = numbers[0], numbers[-1]
        if low < 0 <= numbers[1] and _is_all_nines(low):
            hints.append(_sentinel(low, int(weights[0])))
        if high > 10 * max(numbers[-2], 1) and _is_all_nines(high):
            hints.append(_sentinel(high, int(weights[-1])))
    return hints


def _is_all_nines(number: float) -> bool:
    return set(f"{abs(number):g}") == {"9"}


def _sentinel(number: float, rows: int) -> str:
    return f'{number:g} ({count(rows, "row")}) lies apart from all others: does it mean missing? Then missing_words = ["{number:g}"]'


def _text_hints(values: tuple[tuple[str, int], ...]) -> list[str]:
    hints = []
    groups: dict[str, list[tuple[str, int]]] = {}
    for text, rows in values:
        groups.setdefault(fold_text(text, ("case", "space", "unicode")), []).append((text, rows))
    for same in [group for group in groups.values() if len(group) > 1][:_MOST_SHOWN]:
        listed = " and ".join(f"{text!r} ({rows:,})" for text, rows in same[:4])
        hints.append(f"{listed} differ only by {_difference([text for text, _ in same])}")
    for text, rows in values:
        if text.strip().casefold() in _WORDS_LIKE_MISSING:
            hints.append(
                f'{text!r} ({count(rows, "row")}) looks like missing and is kept as text; if it is missing: missing_words = ["{text}"]'
            )
    return hints[: 2 * _MOST_SHOWN]


def _difference(texts: list[str]) -> str:
    for fold, words in (
        ("space", "blanks"),
        ("case", "upper and lower case"),
        ("unicode", "their Unicode form"),
    ):
        if len({fold_text(text, (fold,)) for text in texts}) == 1:
            return words
    return "case, blanks or Unicode form"
