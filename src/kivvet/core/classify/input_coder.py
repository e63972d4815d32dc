"""From the column of one input to a small number for each row: which stretch of the input it lies in.

What the numbers mean is the caller's: the row that wins, for a table of one input; the set of rows that
accept the value, where several inputs decide together.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from functools import cached_property
from threading import RLock
from typing import Protocol

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.classify.outcomes import Outcomes
from kivvet.core.classify.thresholds import thresholds_of
from kivvet.core.columns.arrays import Array, Counts, smallest_unsigned
from kivvet.core.columns.column import CodedColumn, Column, NumericColumn, TextColumn, missing_mask
from kivvet.core.columns.kernels import Thresholds, label_by_code, label_by_thresholds, labels_of_outcomes
from kivvet.core.columns.text_keys import TextKeys
from kivvet.core.space.axes import Axis
from kivvet.core.space.cells import NO_ROW, Spans, labels_by_stretch, lowest_rows, row_masks
from kivvet.core.space.shapes import shape_pattern
from kivvet.core.space.text_axis import TextAxis
from kivvet.core.tables.inputs import Input
from kivvet.core.words.errors import DataError
from kivvet.core.words.regions import HIGH, LOW, Cut, Region
from kivvet.core.words.values import ValueType, fold_text
from kivvet.core.words.wording import count, listed, toml_key

#: For each type of input the types of column it reads.
READS: dict[ValueType, tuple[str, ...]] = {
    "text": ("text",),
    "integer": ("integer", "number", "decimal"),
    "number": ("integer", "number", "decimal"),
    "boolean": ("boolean",),
    "date": ("date", "datetime"),
    "datetime": ("datetime",),
}

_MOST_LABELS_KEPT = 16  # arrays for whoever asks, such as the outputs of a table


class MisfitError(DataError):
    """A column is of a type that an input does not read."""

    def __init__(self, about: Input, column: str, kind: str, fix: str) -> None:
        problem = f"input {about.name!r} reads column {column!r}, which has another type"
        super().__init__(problem, expected=about.type, found=kind, fix=fix)
        self.column = column


def all_misfits(found: Sequence[MisfitError]) -> DataError:
    """Return several columns that do not fit as one error."""
    if len(found) == 1:
        return found[0]
    wanted = listed(dict.fromkeys(str(one.expected) for one in found), 4)
    return DataError(
        f"{len(found)} columns have another type than what reads them: {listed([f'{one.column} {one.found}' for one in found], 12)}",
        expected=wanted,
        fix=found[0].fix,
    )


def misfit(about: Input, kind: str, tz: str | None, name: str) -> DataError | None:
    """Return the error to raise if an input cannot read a column of this type; None if it can."""
    if kind not in READS[about.type]:
        if about.type == "text" and kind in ("integer", "number", "decimal"):
            fix = (
                "as numbers, codes such as 007 have lost their leading zeros: have the column written as text; or read its numbers "
                f'as they stand (in a book types = {{ {toml_key(name)} = "text" }}; of a frame convert it), or declare input {about.name} as {kind}'
            )
        elif about.type == "text" or kind == "text":
            fix = f'a number key never meets a text key: read the column as {about.type} (in a book types = {{ {toml_key(name)} = "{about.type}" }}; of a frame convert it), or declare input {about.name} as {kind}'
        else:
            fix = f"declare input {about.name} as {kind}, or convert the column"
        return MisfitError(about, name, kind, fix)
    if tz is not None and about.tz is None:
        return DataError(
            f"column {name!r} has the time zone {tz}, and input {about.name!r} does not say in which zone its bounds are",
            expected="tz on the input",
            fix=f'for example tz = "{tz}"',
        )
    return None


def reads_nothing(about: Input, column: Column, name: str) -> bool:
    """Whether a column of a type that an input does not read holds no value at all, so that all of it is
    missing.

    Raises
    ------
    DataError
        If it holds values.
    """
    base = column.distinct if isinstance(column, CodedColumn) else column
    tz = base.tz if isinstance(base, NumericColumn) else None
    error = misfit(about, column.kind, tz, name)
    if error is None:
        return False
    if not missing_mask(column).all():
        raise error
    return True


class Labelling(Protocol):
    """What the numbers of an `InputCoder` mean."""

    #: The number of a missing value.
    missing: int

    @property
    def n_labels(self) -> int:
        """How many numbers there are by now, from 0."""

    def __call__(self, spans: Spans, n_stretches: int, /) -> list[int]:
        """Return the number of each stretch, from the ranges of stretches that each row holds."""


class Winners:
    """Numbers are outcomes: the lowest row that accepts the value, unmatched for none, or missing."""

    def __init__(self, regions: Sequence[Region], outcomes: Outcomes) -> None:
        self.n_labels = outcomes.number
        self.missing = next((row for row, region in enumerate(regions) if region.missing), outcomes.missing)
        self.none = outcomes.unmatched

    def __call__(self, spans: Spans, n_stretches: int) -> list[int]:
        return [self.none if row == NO_ROW else row for row in lowest_rows(spans, n_stretches)]


class RowSets:
    """Numbers stand for sets of rows, numbered as they are met; row k is bit k of a mask.

    Attributes
    ----------
    masks : list of int
        By number, the rows that accept such a value.
    missing : int
        The number of a missing value, which has one of its own.
    """

    def __init__(self, regions: Sequence[Region]) -> None:
        self.masks = [sum(1 << row for row, region in enumerate(regions) if region.missing)]
        self.missing = 0
        self._numbers: dict[int, int] = {}

    @property
    def n_labels(self) -> int:
        return len(self.masks)

    def __call__(self, spans: Spans, n_stretches: int) -> list[int]:
        numbers = []
        for mask in row_masks(spans, n_stretches):
            if mask not in self._numbers:
                self._numbers[mask] = len(self.masks)
                self.masks.append(mask)
            numbers.append(self._numbers[mask])
        return numbers


class InputCoder:
    """One input made ready for columns.

    Parameters
    ----------
    about : Input
    axis : Axis
    regions : sequence of Region
        What each row accepts.
    labelling : Labelling
    lock : RLock, optional
        Held while what is learned from columns is added to; one of its own without it.
    """

    def __init__(
        self,
        about: Input,
        axis: Axis,
        regions: Sequence[Region],
        labelling: Labelling,
        lock: RLock | None = None,
    ) -> None:
        self._lock = lock or RLock()
        self.about = about
        self.axis = axis
        self.regions = regions
        self.labelling = labelling
        self._thresholds: dict[object, tuple[Thresholds, Array]] = {}
        self._labels_made: dict[tuple[int, int], tuple[Array | None, Array, Array]] = {}

    def label(
        self, column: Column, labels: Array | None = None, *, with_counts: bool = False, name: str = ""
    ) -> tuple[Array, Counts | None]:
        """Return a label for each row of a column.

        Parameters
        ----------
        column : Column
        labels : ndarray of unsigned integers, shape (n_labels,), or None
            What each number becomes; None: it stays.
        with_counts : bool
            Whether to count the rows of each number.
        name : str
            The column's name, for messages.

        Returns
        -------
        tuple of (ndarray, shape (n_rows,); ndarray of int64 by number, or None)

        Raises
        ------
        DataError
            If the input does not read columns of this type.
        """
        if reads_nothing(self.about, column, name or self.about.name):
            return self._missing(len(column), labels, with_counts=with_counts)
        if isinstance(column, CodedColumn):
            return self._coded(column, labels, with_counts=with_counts)
        if isinstance(column, TextColumn):
            return self._text(column, labels, with_counts=with_counts)
        return self._numeric(column, labels, with_counts=with_counts)

    def _missing(
        self, n_rows: int, labels: Array | None, *, with_counts: bool
    ) -> tuple[Array, Counts | None]:
        made = self._labels(labels, np.full(n_rows, self.labelling.missing))
        if not with_counts:
            return made, None
        counts = np.zeros(self.labelling.n_labels, np.int64)
        counts[self.labelling.missing] = n_rows
        return made, counts

    def _labels(self, labels: Array | None, numbers: Array) -> Array:
        """Return what given numbers become."""
        if labels is None:
            return numbers.astype(smallest_unsigned(self.labelling.n_labels))
        made: Array = labels[numbers]
        return made

    def _kept_labels(self, labels: Array | None, numbers: Array) -> Array:
        """Return what numbers become that are kept themselves; kept too, as long as few others are asked for."""
        key = id(labels), id(numbers)
        with self._lock:
            if key not in self._labels_made:
                if len(self._labels_made) >= _MOST_LABELS_KEPT:
                    self._labels_made.clear()
                # Both are held too, so that no other array gets the id of one of them.
                self._labels_made[key] = labels, numbers, self._labels(labels, numbers)
            return self._labels_made[key][2]

    def _tally(self, numbers: Array, counts: Counts | None) -> Counts | None:
        """Return the rows of each number, from the rows of each place and the number that it has."""
        if counts is None:
            return None
        by_number = np.zeros(self.labelling.n_labels, np.int64)
        np.add.at(by_number, numbers, counts)
        return by_number

    @cached_property
    def stretches(self) -> list[tuple[list[Cut], list[int]]]:
        """By band, the cuts and the number of each stretch between neighbouring ones."""
        return [labels_by_stretch(self.regions, band, self.labelling) for band in range(self.axis.n_bands)]

    # Numbers

    def _numeric(
        self, column: NumericColumn, labels: Array | None, *, with_counts: bool
    ) -> tuple[Array, Counts | None]:
        thresholds, numbers = self._thresholds_for(column)
        made, counts = label_by_thresholds(
            column.values, thresholds, self._kept_labels(labels, numbers), with_counts=with_counts
        )
        by_number = self._tally(numbers, counts)
        if column.valid is not None:
            gone = ~column.valid
            np.copyto(made, self._labels(labels, np.array([self.labelling.missing]))[0], where=gone)
            if by_number is not None:
                _, of_gone = label_by_thresholds(
                    column.values[gone], thresholds, self._kept_labels(labels, numbers), with_counts=True
                )
                assert of_gone is not None
                np.subtract.at(by_number, numbers, of_gone)
                by_number[self.labelling.missing] += int(np.count_nonzero(gone))
        return made, by_number

    def _thresholds_for(self, column: NumericColumn) -> tuple[Thresholds, Array]:
        if self.about.type == "integer" and column.values.dtype.kind == "f":
            need_whole(column, self.about)
        key = (column.values.dtype, column.kind, column.scale, column.unit, column.tz)
        with self._lock:
            if key not in self._thresholds:
                thresholds, numbers = thresholds_of(self.regions, column, self.about, self.labelling)
                if column.values.dtype.kind == "f":
                    numbers[0] = self.labelling.missing  # NaN
                self._thresholds[key] = Thresholds(thresholds), numbers
            return self._thresholds[key]

    # Codes

    def _coded(
        self, column: CodedColumn, labels: Array | None, *, with_counts: bool
    ) -> tuple[Array, Counts | None]:
        distinct, _ = self.label(column.distinct)
        numbers = np.append(distinct.astype(np.intp), self.labelling.missing)
        made, counts = label_by_code(column.codes, self._labels(labels, numbers), with_counts=with_counts)
        by_number = self._tally(numbers, counts)
        if column.valid is not None:
            gone = ~column.valid
            np.copyto(made, self._labels(labels, np.array([self.labelling.missing]))[0], where=gone)
            if by_number is not None:
                np.subtract.at(by_number, numbers[column.codes[gone]], 1)
                by_number[self.labelling.missing] += int(np.count_nonzero(gone))
        return made, by_number

    # Text

    def _text(
        self, column: TextColumn, labels: Array | None, *, with_counts: bool
    ) -> tuple[Array, Counts | None]:
        with self._lock:
            keys_of_texts = self._text_keys if self._is_values_only else None
        if keys_of_texts is not None and not self.about.fold:
            keys, numbers = keys_of_texts
            if not with_counts:
                return keys.find(column.values, self._kept_labels(labels, numbers)), None
            found = keys.find(column.values, self._kept_labels(None, numbers))
            return labels_of_outcomes(found, labels, self.labelling.n_labels, with_counts=True)
        encoded = pc.dictionary_encode(column.values)
        distinct: pa.Array = encoded.dictionary
        if self.about.fold:
            distinct = pa.array(
                [fold_text(text, self.about.fold) for text in distinct.to_pylist()], pa.large_string()
            )
        if keys_of_texts is not None:
            keys, numbers = keys_of_texts
            of_distinct = keys.find(distinct, numbers)
        else:
            of_distinct = self._stretch_numbers(distinct)
        codes = pc.fill_null(encoded.indices, -1).to_numpy(zero_copy_only=False)
        of_every = np.append(of_distinct, self.labelling.missing)
        made, of_code = label_by_code(codes, self._labels(labels, of_every), with_counts=with_counts)
        return made, self._tally(of_every, of_code)

    @cached_property
    def _text_keys(self) -> tuple[TextKeys, Array]:
        """The values named, and their numbers; then the number of missing, and of every other value."""
        assert isinstance(self.axis, TextAxis)
        if (texts := self._one_text_a_row) is not None:
            *numbers, other = self._numbers_of_rows
            keys = TextKeys(pa.array(texts, pa.large_string()))
            return keys, np.array([*numbers, self.labelling.missing, other], np.intp)
        of_text: dict[str, int] = {}
        for band, (cuts, numbers) in zip(self.axis.bands, self.stretches, strict=True):
            for cut, following, number in zip(cuts, cuts[1:], numbers, strict=False):
                if _is_point(cut, following) and self.axis.is_in(cut[1], band):
                    of_text[cut[1]] = number
        keys = TextKeys(pa.array(list(of_text), pa.large_string()))
        other = self.stretches[0][1][0]
        return keys, np.array([*of_text.values(), self.labelling.missing, other], np.intp)

    @cached_property
    def _is_values_only(self) -> bool:
        """Whether all texts but the ones named have one number."""
        return self._one_text_a_row is not None or all(
            number == self.stretches[0][1][0]
            for cuts, numbers in self.stretches
            for cut, following, number in zip(cuts, cuts[1:], numbers, strict=False)
            if not _is_point(cut, following)
        )

    @cached_property
    def _one_text_a_row(self) -> list[str] | None:
        """The texts of long mappings, in the order of the rows that accept something present; None where a row accepts
        other than one text that no other row does.
        """
        assert isinstance(self.axis, TextAxis)
        if self.axis.n_bands > 1 or self.axis.shape:
            return None
        intervals = [interval for region in self.regions for interval in region.bands[0]]
        texts = [low[1] for low, high in intervals if _is_point(low, high)]
        return texts if len(texts) == len(intervals) == len(set(texts)) and "" not in texts else None

    @property
    def _numbers_of_rows(self) -> list[int]:
        """The number of each of these texts, then that of all others: each is taken for a stretch of its own."""
        starts = itertools.count()
        spans = tuple(
            tuple((at, at + 1) for at in itertools.islice(starts, len(region.bands[0])))
            for region in self.regions
        )
        return self.labelling(spans, next(starts) + 1)

    def _stretch_numbers(self, distinct: pa.Array) -> npt.NDArray[np.intp]:
        """Return the number of distinct texts by their place among the cuts, band by band.

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
        made = np.full(len(ordered), self.labelling.missing, np.intp)
        for band, (cuts, numbers) in zip(self.axis.bands, self.stretches, strict=True):
            places = [_bisect(ordered, cut) for cut in cuts[1:-1]]
            sizes = np.diff([0, *places, len(ordered)])
            of_band = np.repeat(np.array(numbers, np.intp), sizes)
            holds = (lengths >= band.shortest) & (shaped if band.is_shaped else ~shaped)
            if band.longest is not None:
                holds &= lengths <= band.longest
            made[holds] = of_band[holds]
        back = np.empty(len(ordered), np.intp)
        back[order.to_numpy(zero_copy_only=False)] = made
        return back


def count_texts_below(texts: pa.Array, cuts: Sequence[Cut]) -> npt.NDArray[np.intp]:
    """Return for each text how many of the sorted cuts lie below it."""
    order = pc.array_sort_indices(texts.cast(pa.large_binary()))
    ordered = texts.take(order)
    places = [_bisect(ordered, cut) for cut in cuts]
    counts = np.searchsorted(np.array(places, np.int64), np.arange(len(ordered)), side="right")
    back = np.empty(len(ordered), np.intp)
    back[order.to_numpy(zero_copy_only=False)] = counts
    return back


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


def need_whole(column: NumericColumn, about: Input) -> None:
    """Raise unless an integer input gets whole numbers from a column of floats."""
    values = column.values
    with np.errstate(invalid="ignore"):
        odd = np.flatnonzero((values != np.trunc(values)) & ~missing_mask(column))
    if len(odd):
        raise DataError(
            f"{count(len(odd), 'value')} of input {about.name!r} {'is' if len(odd) == 1 else 'are'} not whole, such as {float(values[odd[0]])!r} in row {int(odd[0]) + 1}",
            expected="integer",
            fix=f"declare input {about.name} as number",
        )
