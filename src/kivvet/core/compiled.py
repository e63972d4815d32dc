"""A table made ready for data: from a column to the outcome of each row.

An outcome is a number: 0 to n_rows - 1 is the row of the table that wins, `unmatched` (n_rows) that no row
holds the value, `missing` (n_rows + 1) that the value is missing and no row holds that.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.axes import TextAxis
from kivvet.core.cells import NO_ROW, winners_by_stretch
from kivvet.core.check import row_regions
from kivvet.core.check_lookup import key_codes
from kivvet.core.columns import (
    CodedColumn,
    Column,
    NumericColumn,
    TextColumn,
    arrow_from_column,
    missing_mask,
)
from kivvet.core.kernels import Array, Counts, label_by_code, label_by_thresholds
from kivvet.core.regions import HIGH, LOW, Cut
from kivvet.core.shapes import shape_pattern
from kivvet.core.tables import Input, RuleTable
from kivvet.core.thresholds import thresholds_of
from kivvet.core.values import ValueType, fold_text
from kivvet.errors import DataError

#: For each type of input the types of column it reads.
READS: dict[ValueType, tuple[str, ...]] = {
    "text": ("text",),
    "integer": ("integer", "number", "decimal"),
    "number": ("integer", "number", "decimal"),
    "boolean": ("boolean",),
    "date": ("date", "datetime"),
    "datetime": ("datetime",),
}


def misfit(about: Input, kind: str, tz: str | None, name: str) -> DataError | None:
    """Return the error to raise if an input cannot read a column of this type; None if it can."""
    if kind not in READS[about.type]:
        if about.type == "text" or kind == "text":
            fix = f'a number key never meets a text key: declare types = {{ {name} = "{about.type}" }}, or input {about.name} as {kind}'
        else:
            fix = f"declare input {about.name} as {kind}, or convert the column"
        return DataError(
            f"input {about.name!r} reads column {name!r}, which has another type",
            expected=about.type,
            found=kind,
            fix=fix,
        )
    if tz is not None and about.tz is None:
        return DataError(
            f"column {name!r} has the time zone {tz}, and input {about.name!r} does not say in which zone its bounds are",
            expected="tz on the input", fix=f'for example tz = "{tz}"',
        )  # fmt: skip
    return None


@dataclass(frozen=True)
class Classified:
    """A label for each row of data, and how many rows had each outcome (None if not counted)."""

    labels: Array
    counts: Counts | None


class CompiledTable:
    """A table ready to classify columns; the same table always compiles to the same thing."""

    def __init__(self, table: RuleTable) -> None:
        self.table = table
        self.about = table.inputs[0]
        self.n_rows = table.n_rows
        self.unmatched = self.n_rows
        self.missing = self.n_rows + 1
        self.n_outcomes = self.n_rows + 2
        self.missing_outcome = self.missing
        if table.lookup is None:
            self.axis = table.axis
            self.regions = row_regions(table)
            self.missing_outcome = next(
                (row for row, r in enumerate(self.regions) if r.missing), self.missing
            )
        self._thresholds: dict[object, tuple[Array, Array]] = {}

    def classify(
        self, column: Column, labels: Array | None = None, *, with_counts: bool = False, name: str = ""
    ) -> Classified:
        """Return the label of each row's outcome.

        Parameters
        ----------
        column : Column
        labels : ndarray of unsigned integers, shape (n_outcomes,), or None
            The label of each outcome; None: the outcome itself.
        with_counts : bool
        name : str
            The column's name, for messages.

        Raises
        ------
        DataError
            If the input does not read columns of this type.
        """
        base = column.distinct if isinstance(column, CodedColumn) else column
        if not _is_all_missing(base):
            tz = base.tz if isinstance(base, NumericColumn) else None
            if (error := misfit(self.about, column.kind, tz, name or self.about.name)) is not None:
                raise error
        if labels is None:
            labels = np.arange(self.n_outcomes, dtype=smallest_unsigned(self.n_outcomes))
        if isinstance(column, CodedColumn):
            return self._coded(column, labels, with_counts=with_counts)
        if isinstance(column, TextColumn):
            return self._counted(self._text_outcomes(column), labels, with_counts=with_counts)
        if self.table.lookup is not None:
            return self._counted(self._key_outcomes(column), labels, with_counts=with_counts)
        return self._numeric(column, labels, with_counts=with_counts)

    @cached_property
    def stretches(self) -> list[tuple[list[Cut], list[int]]]:
        """By band, the cuts and the row that wins between neighbouring ones."""
        return [winners_by_stretch(self.regions, band) for band in range(self.axis.n_bands)]

    # Numbers

    def _numeric(self, column: NumericColumn, labels: Array, *, with_counts: bool) -> Classified:
        thresholds, outcomes = self._thresholds_for(column)
        made, counts = label_by_thresholds(
            column.values, thresholds, labels[outcomes], with_counts=with_counts
        )
        by_outcome = None
        if counts is not None:
            by_outcome = np.zeros(self.n_outcomes, np.int64)
            np.add.at(by_outcome, outcomes, counts)
        if column.valid is not None:
            gone = ~column.valid
            np.copyto(made, labels[self.missing_outcome], where=gone)
            if by_outcome is not None:
                _, of_gone = label_by_thresholds(
                    column.values[gone], thresholds, labels[outcomes], with_counts=True
                )
                assert of_gone is not None
                np.subtract.at(by_outcome, outcomes, of_gone)
                by_outcome[self.missing_outcome] += int(np.count_nonzero(gone))
        return Classified(made, by_outcome)

    def _thresholds_for(self, column: NumericColumn) -> tuple[Array, Array]:
        key = (column.values.dtype, column.kind, column.scale, column.unit, column.tz)
        if key not in self._thresholds:
            if self.about.type == "integer" and column.values.dtype.kind == "f":
                _need_whole(column, self.about)
            thresholds, cells = thresholds_of(self.regions, column, self.about)
            outcomes = np.where(cells == NO_ROW, self.unmatched, cells)
            if column.values.dtype.kind == "f":
                outcomes[0] = self.missing_outcome  # NaN
            self._thresholds[key] = thresholds, outcomes
        elif self.about.type == "integer" and column.values.dtype.kind == "f":
            _need_whole(column, self.about)
        return self._thresholds[key]

    # Codes

    def _coded(self, column: CodedColumn, labels: Array, *, with_counts: bool) -> Classified:
        distinct = self.classify(column.distinct).labels.astype(np.intp)
        outcomes = np.append(distinct, self.missing_outcome)
        made, counts = label_by_code(column.codes, labels[outcomes], with_counts=with_counts)
        by_outcome = None
        if counts is not None:
            by_outcome = np.zeros(self.n_outcomes, np.int64)
            np.add.at(by_outcome, outcomes, counts)
        if column.valid is not None:
            gone = ~column.valid
            np.copyto(made, labels[self.missing_outcome], where=gone)
            if by_outcome is not None:
                np.subtract.at(by_outcome, outcomes[column.codes[gone]], 1)
                by_outcome[self.missing_outcome] += int(np.count_nonzero(gone))
        return Classified(made, by_outcome)

    def _counted(self, outcomes: Array, labels: Array, *, with_counts: bool) -> Classified:
        counts = np.bincount(outcomes, minlength=self.n_outcomes) if with_counts else None
        return Classified(labels[outcomes], counts)

    # Text and keys

    def _text_outcomes(self, column: TextColumn) -> npt.NDArray[np.intp]:
        if (self.table.lookup is not None or self._is_values_only) and not self.about.fold:
            return self._found(column.values, *self._text_keys)
        encoded = pc.dictionary_encode(column.values)
        distinct: pa.Array = encoded.dictionary
        if self.about.fold:
            distinct = pa.array(
                [fold_text(text, self.about.fold) for text in distinct.to_pylist()], pa.large_string()
            )
        if self.table.lookup is not None or self._is_values_only:
            of_distinct = self._found(distinct, *self._text_keys)
        else:
            of_distinct = self._stretch_outcomes(distinct)
        of_every = np.append(of_distinct, self.missing_outcome)
        outcomes: npt.NDArray[np.intp] = of_every[
            pc.fill_null(encoded.indices, len(distinct)).to_numpy(zero_copy_only=False)
        ]
        return outcomes

    def _found(self, values: pa.Array, keys: pa.Array, outcomes: Array) -> npt.NDArray[np.intp]:
        """Return the outcome of each value by its place among the keys; the last outcome is for all others."""
        places = pc.index_in(values, value_set=keys.cast(values.type), skip_nulls=True)
        found: npt.NDArray[np.intp] = outcomes[pc.fill_null(places, len(keys)).to_numpy(zero_copy_only=False)]
        if values.null_count:
            found[pc.is_null(values).to_numpy(zero_copy_only=False)] = self.missing_outcome
        return found

    @cached_property
    def _text_keys(self) -> tuple[pa.Array, Array]:
        """The values named, text of no characters too, and their outcomes; one more for every other value."""
        if self.table.lookup is not None:
            keys, outcomes = self._lookup_keys()
        else:
            cuts, winners = self.stretches[-1]
            points = [
                (cut[1], winner)
                for cut, following, winner in zip(cuts, cuts[1:], winners, strict=False)
                if _is_point(cut, following)
            ]
            keys = pa.array([text for text, _ in points], pa.large_string())
            outcomes = np.array([self._outcome(winner) for _, winner in points], np.intp)
        keys = pa.concat_arrays([keys, pa.array([""], keys.type)])
        return keys, np.concatenate([outcomes, [self.missing_outcome, self._other]])

    @property
    def _other(self) -> int:
        """The outcome of values that no row names."""
        return self.unmatched if self.table.lookup is not None else self._outcome(self.stretches[-1][1][0])

    @cached_property
    def _is_values_only(self) -> bool:
        """Whether all texts but the ones named have one outcome."""
        return all(
            winner == self.stretches[0][1][0]
            for cuts, winners in self.stretches
            for cut, following, winner in zip(cuts, cuts[1:], winners, strict=False)
            if not _is_point(cut, following)
        )

    def _outcome(self, winner: int) -> int:
        return self.unmatched if winner == NO_ROW else winner

    def _stretch_outcomes(self, distinct: pa.Array) -> npt.NDArray[np.intp]:
        """Return the outcome of distinct texts by their place among the cuts, band by band.

        The texts are sorted once; each cut is then found among them by bisection, so the work in Python
        goes with the number of cuts, not of texts.
        """
        assert isinstance(self.axis, TextAxis)
        order = pc.array_sort_indices(distinct.cast(pa.large_binary()))
        ordered = distinct.take(order)
        lengths = pc.utf8_length(ordered).to_numpy(zero_copy_only=False)
        shaped = np.ones(len(ordered), bool)
        if self.axis.shape:
            shape = fold_text(self.axis.shape, [fold for fold in self.about.fold if fold == "case"])
            shaped = pc.match_substring_regex(ordered, shape_pattern(shape)).to_numpy(zero_copy_only=False)
        made = np.full(len(ordered), self.missing_outcome, np.intp)
        for band, (cuts, winners) in zip(self.axis.bands, self.stretches, strict=True):
            places = [_bisect(ordered, cut) for cut in cuts[1:-1]]
            sizes = np.diff([0, *places, len(ordered)])
            outcomes = np.repeat([self._outcome(winner) for winner in winners], sizes)
            holds = (lengths >= band.shortest) & (shaped if band.is_shaped else ~shaped)
            if band.longest is not None:
                holds &= lengths <= band.longest
            made[holds] = outcomes[holds]
        back = np.empty(len(ordered), np.intp)
        back[order.to_numpy(zero_copy_only=False)] = made
        return back

    def _lookup_keys(self) -> tuple[pa.Array, Array]:
        assert self.table.lookup is not None
        codes, distinct = key_codes(self.table.lookup.key)
        first = np.full(len(distinct) + 1, -1, np.intp)
        first[codes[::-1]] = np.arange(len(codes))[::-1]  # the first row of each key stays
        keys = distinct.cast(pa.large_string()) if pa.types.is_string(distinct.type) else distinct
        return keys, first[:-1]

    def _key_outcomes(self, column: NumericColumn) -> npt.NDArray[np.intp]:
        """Return the outcome of each number, date or boolean by its place among a lookup's keys."""
        keys, outcomes = self._lookup_keys()
        gone = missing_mask(column)
        values = _comparable(arrow_from_column(column))
        wanted = _comparable(keys)
        if values.type != wanted.type:
            values, wanted, kept = _aligned(values, wanted)
            outcomes = outcomes[kept]
        found: npt.NDArray[np.intp] = np.append(outcomes, self.unmatched)[
            pc.fill_null(pc.index_in(values, value_set=wanted, skip_nulls=True), len(outcomes)).to_numpy(
                zero_copy_only=False
            )
        ]
        found[gone] = self.missing_outcome
        return found


def smallest_unsigned(n_labels: int) -> type[np.unsignedinteger[Any]]:
    """Return the smallest type that holds the labels 0 to n_labels - 1."""
    return np.uint8 if n_labels <= 1 << 8 else np.uint16 if n_labels <= 1 << 16 else np.uint32


def _is_all_missing(column: NumericColumn | TextColumn) -> bool:
    if isinstance(column, TextColumn):
        return bool(column.values.null_count == len(column))
    return column.kind == "number" and len(column) < 1 << 16 and bool(missing_mask(column).all())


def _is_point(cut: Cut, following: Cut) -> bool:
    return cut != LOW and following != HIGH and cut[1] == following[1]


def _bisect(ordered: pa.Array, cut: Cut) -> int:
    """Return how many of the sorted texts lie before the cut."""
    low, high = 0, len(ordered)
    while low < high:
        middle = (low + high) // 2
        if (0, ordered[middle].as_py(), 0) < cut:
            low = middle + 1
        else:
            high = middle
    return low


def _need_whole(column: NumericColumn, about: Input) -> None:
    """Raise unless an integer input gets whole numbers from a column of floats."""
    values = column.values
    with np.errstate(invalid="ignore"):
        odd = np.flatnonzero((values != np.trunc(values)) & ~missing_mask(column))
    if len(odd):
        raise DataError(
            f"{len(odd):,} rows of input {about.name!r} are not whole, such as {float(values[odd[0]])!r} in row {int(odd[0]) + 1}",
            expected="integer", fix=f"declare input {about.name} as number",
        )  # fmt: skip


def _comparable(array: pa.Array) -> pa.Array:
    """Return keys or data in a type that hashes equal values alike: -0 as 0, NaN as null."""
    if pa.types.is_floating(array.type):
        array = array.cast(pa.float64())
        return pc.if_else(pc.is_nan(array), pa.scalar(None, pa.float64()), pc.add(array, 0.0))
    if pa.types.is_integer(array.type) and not pa.types.is_uint64(array.type):
        return array.cast(pa.int64())
    return array


def _aligned(values: pa.Array, keys: pa.Array) -> tuple[pa.Array, pa.Array, Array]:
    """Return data and keys of two types in one that both fit exactly, and which keys were kept."""
    everything = np.arange(len(keys))
    if pa.types.is_decimal(values.type) or pa.types.is_decimal(keys.type) or pa.types.is_uint64(values.type):
        # Exact, whatever the digits: both sides in one canonical writing.
        from decimal import Decimal

        def written(array: pa.Array) -> pa.Array:
            encoded = pc.dictionary_encode(array)
            texts = [str(Decimal(one).normalize()) for one in encoded.dictionary.to_pylist()]
            return pa.array(texts, pa.string()).take(encoded.indices)

        return written(values), written(keys), everything
    if pa.types.is_integer(values.type) and pa.types.is_floating(keys.type):
        numbers = keys.to_numpy(zero_copy_only=False)
        whole = np.flatnonzero((numbers == np.trunc(numbers)) & (np.abs(numbers) < 2.0**63))
        return values, pa.array(numbers[whole].astype(np.int64)), whole
    if pa.types.is_floating(values.type) and pa.types.is_integer(keys.type):
        numbers = keys.to_numpy(zero_copy_only=False)
        exact = np.flatnonzero(numbers.astype(np.float64).astype(object) == numbers.astype(object))
        return values, keys.take(pa.array(exact)).cast(pa.float64()), exact
    return values, keys.cast(values.type), everything
