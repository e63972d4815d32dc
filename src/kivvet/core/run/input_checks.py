"""What the data of one input looks like, seen from a table: outside its domain, too fine, near a bound,
unlisted.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.calculate.whole_steps import STEP_TOLERANCE
from kivvet.core.classify.compiled import CompiledTable
from kivvet.core.columns.alike import Alike
from kivvet.core.columns.arrays import CHUNK
from kivvet.core.columns.column import (
    CodedColumn,
    Column,
    NumericColumn,
    TextColumn,
    arrow_from_column,
    rows_of,
)
from kivvet.core.formulas.tree import write_name
from kivvet.core.read.table_text import input_text
from kivvet.core.run.value_texts import value_counts
from kivvet.core.space.table_space import axes_of
from kivvet.core.space.text_axis import TextAxis
from kivvet.core.tables.table import Row, Table
from kivvet.core.words.conditions import AllOf, AnyOf, Condition, Equals
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.values import FOLDS, fold_text, write_decimal, write_value
from kivvet.core.words.wording import count, listed, toml_key

_MOST_VALUES = 5
_MOST_COMPARED = 2_000
_MOST_BOUNDS = 200
_ROUNDING_ERRORS = 4  # units in the last place; as many as a short sum of decimals may be off


class InputProbe:
    """One input of a table, and the column of the data that it reads.

    Parameters
    ----------
    table : Table
    number : int
        Which of its inputs.
    column : str
        The column's name.
    """

    def __init__(self, table: Table, number: int, column: str) -> None:
        self.table = table
        self.number = number
        self.column = column
        self.about = table.inputs[number]
        self.outside: Counter[str] = Counter()
        self.finer: Counter[str] = Counter()
        self.near_edge: Counter[str] = Counter()
        self.domain = None if self.about.domain is None else self._table_of(self.about.domain)
        self.bounds = self._bounds()

    def _table_of(self, condition: Condition) -> CompiledTable:
        """Return a table whose only row is a condition on the input."""
        about = replace(self.about, domain=None, required=True)
        return CompiledTable(Table(self.table.name, (about,), (), (Row(1, (condition,), ()),)))

    def _bounds(self) -> npt.NDArray[np.float64]:
        if self.table.lookup is not None or self.about.type != "number" or self.about.step is not None:
            return np.empty(0)
        axis = axes_of(self.table)[self.number]
        regions = (axis.region(self.table.asked(row, self.number)) for row in self.table.rows)
        cuts = {cut for region in regions for interval in region.bands[0] for cut in interval if cut[0] == 0}
        return np.array(sorted({float(cut[1]) for cut in cuts}))[:_MOST_BOUNDS]

    def see(self, column: Column) -> None:
        """Look at one batch of the column."""
        if self.domain is not None:
            outcomes = self.domain.classify({self.about.name: column}).labels
            self._note(self.outside, column, outcomes == self.domain.outcomes.unmatched)
        elif self.about.shape and self.table.lookup is None:
            self._see_shape(column)
        if isinstance(column, NumericColumn) and column.values.dtype.kind == "f":
            self._see_fineness(column)

    def _see_shape(self, column: Column) -> None:
        axis = axes_of(self.table)[self.number]
        assert isinstance(axis, TextAxis)
        values = column.distinct if isinstance(column, CodedColumn) else column
        assert isinstance(values, TextColumn)
        encoded = pc.dictionary_encode(values.values)
        odd = [
            text
            for text in encoded.dictionary.to_pylist()
            if text and not axis.has_shape(fold_text(text, self.about.fold))
        ]
        if odd:
            rows = pc.is_in(arrow_from_column(column), value_set=pa.array(odd, values.values.type))
            self._note(self.outside, column, pc.fill_null(rows, False).to_numpy(zero_copy_only=False))

    def _see_fineness(self, column: NumericColumn) -> None:
        for begin in range(0, len(column), CHUNK):  # few at a time stay in the processor's cache
            few = rows_of(column, slice(begin, begin + CHUNK))
            assert isinstance(few, NumericColumn)
            self._see_few(few)

    def _see_few(self, column: NumericColumn) -> None:
        values = column.values
        with np.errstate(invalid="ignore", over="ignore"):
            if self.about.step is not None:
                step, offset = float(self.about.step), float(self.about.step_offset)
                nearest = offset + np.rint((values - offset) / step) * step
                reach = np.maximum(
                    step * float(STEP_TOLERANCE), _ROUNDING_ERRORS * np.spacing(np.abs(values))
                )
                self._note(self.finer, column, np.isfinite(values) & (np.abs(values - nearest) > reach))
            for bound in self.bounds:
                reach = _ROUNDING_ERRORS * np.spacing(abs(bound))
                near = np.abs(values - bound) <= reach
                if near.any() and (near := near & (values != bound)).any():
                    self._note(self.near_edge, column, near)

    def _note(self, counter: Counter[str], column: Column, mask: npt.NDArray[np.bool_]) -> None:
        if isinstance(column, (NumericColumn, CodedColumn)) and column.valid is not None:
            mask = mask & column.valid
        if mask.any():
            counter.update(dict(value_counts(column, mask)))

    # What it comes to

    def of_data(self, kind: str, message: str, dataset: str, rows: int, **parts: object) -> Finding:
        """Return a finding about data."""
        return finding(kind, message, table=self.table.name, dataset=dataset, count=rows, **parts)

    def findings(self, dataset: str) -> Iterable[Finding]:
        """Return what was found of the values themselves."""
        return [*self._outside(dataset), *self._too_fine(dataset)]

    def not_listed(
        self, values: Mapping[str, int], dataset: str, n_rows: int | None = None
    ) -> Iterable[Finding]:
        """Return what there is to say of values that no row lists.

        Parameters
        ----------
        values : mapping of str to int
            With their rows.
        n_rows : int, optional
            Rows in all, where not all values were remembered.
        """
        values = {text: n for text, n in values.items() if text not in self.outside}
        if not values:
            return
        near = self._near_misses(values)
        rows_near = sum(values[text] for text in near)
        if near:
            pairs = [f"{text!r} ({values[text]:,}) and {known!r}" for text, (known, _) in near.items()]
            folds = sorted({fold for _, needed in near.values() for fold in needed}, key=FOLDS.index)
            wanted = tuple(fold for fold in FOLDS if fold in (*self.about.fold, *folds))
            cure = f"inputs.{toml_key(self.about.name)} = {input_text(replace(self.about, fold=wanted))}"
            yield self.of_data(
                "near-miss",
                f"{count(rows_near, 'row')} of {self.column} would match but for {_difference(folds)}: {listed(pairs, _MOST_VALUES)}",
                dataset,
                rows_near,
                witness={self.about.name: repr(next(iter(near)))},
                remedy=f"correct the data, or let it not count: {cure}",
            )
        zeros = self._zeros_apart({text: n for text, n in values.items() if text not in near})
        if zeros:
            rows_zeros = sum(values[text] for text in zeros)
            pairs = [f"{text!r} ({values[text]:,}) and {known!r}" for text, known in zeros.items()]
            width = max(map(len, zeros.values()))
            yield self.of_data(
                "near-miss",
                f"{count(rows_zeros, 'row')} of {self.column} would match but for leading zeros: {listed(pairs, _MOST_VALUES)}",
                dataset,
                rows_zeros,
                witness={self.about.name: repr(next(iter(zeros)))},
                remedy=f"write them alike; where a program took the zeros away, LPAD({write_name(self.column)}, {width}, '0') in a formula gives them back",
            )
        rows = sum(values.values()) if n_rows is None else n_rows
        if rows <= 0:
            return
        n_values = count(len(values), "value") if rows == sum(values.values()) else "values"
        shown = listed((f"{self._shown(text)} ({n:,})" for text, n in values.items()), _MOST_VALUES)
        others = [text for text in values if text not in near and text not in zeros]
        otherwise = ", ".join(
            f"{name} = {write_value(value)}"
            for name, value in self.table.otherwise.items()
            if value is not None
        )
        gives = f"; otherwise gives {otherwise}" if otherwise else ""
        yield from self._spelled_like(others, values, dataset, gives)
        yield self.of_data(
            "unmatched",
            f"{count(rows, 'row')} of {self.column} {'has' if rows == 1 else 'have'} {n_values} that no row lists: {shown}"
            + gives,
            dataset,
            rows,
            severity="note" if otherwise else "warning",
            witness={self.about.name: self._shown(next(iter([*others, *values])))},
            remedy=f"add {'a row for it' if len(values) == 1 else 'rows for them'}, or correct the data",
        )

    def _shown(self, text: str) -> str:
        return repr(text) if self.about.type == "text" else text

    def _known(self) -> list[str]:
        if self.about.type != "text":
            return []
        if self.table.lookup is not None:
            keys = [key.shown for key in self.table.lookup.keys if key.about is self.about]
            return [key for one in keys for key in pc.unique(one)[:_MOST_COMPARED].to_pylist() if key]
        asked = (self.table.asked(row, self.number) for row in self.table.rows)
        return list(dict.fromkeys(text for condition in asked for text in _texts_of(condition)))[
            :_MOST_COMPARED
        ]

    def _near_misses(self, values: Mapping[str, int]) -> dict[str, tuple[str, tuple[str, ...]]]:
        """Return the values that would match a known one if folded, each with it and the folds it takes."""
        near: dict[str, tuple[str, tuple[str, ...]]] = {}
        known_texts = self._known()
        for folds in (("space",), ("case",), ("unicode",), FOLDS):
            known = {fold_text(text, folds): text for text in known_texts}
            for text in list(values)[:_MOST_COMPARED]:
                if text not in near and (match := known.get(fold_text(text, folds))) is not None:
                    near[text] = match, folds
        return near

    def _zeros_apart(self, values: Mapping[str, int]) -> dict[str, str]:
        """Return the codes of digits that would be known ones with more or fewer zeros before them, each with
        it.
        """
        if self.about.type != "text":
            return {}
        known = {text.lstrip("0"): text for text in self._known() if text.isdigit()}
        found = (
            (text, known.get(text.lstrip("0"))) for text in list(values)[:_MOST_COMPARED] if text.isdigit()
        )
        return {text: other for text, other in found if other is not None and other != text}

    def _spelled_like(
        self, texts: Sequence[str], values: Mapping[str, int], dataset: str, gives: str
    ) -> Iterable[Finding]:
        """Tell the values that are spelled like known ones, a letter or two apart."""
        known = self._known()
        compared = texts[:_MOST_COMPARED] if known else []
        near = zip(compared, Alike(known).nearest(compared), strict=True)
        found = [(text, other) for text, other in near if other is not None]
        if found:
            rows = sum(values[text] for text, _ in found)
            pairs = [f"{text!r} ({values[text]:,}) like {other!r}" for text, other in found]
            yield self.of_data(
                "near-miss",
                f"{count(rows, 'row')} of {self.column} {'has' if rows == 1 else 'have'} {count(len(found), 'value')} spelled like known ones: {listed(pairs, _MOST_VALUES)}{gives}",
                dataset,
                rows,
                witness={self.about.name: repr(found[0][0])},
                remedy="correct the data, or give them the results of these",
            )

    def _outside(self, dataset: str) -> Iterable[Finding]:
        if rows := sum(self.outside.values()):
            what = "the domain" if self.about.domain is not None else f"the shape {self.about.shape}"
            yield self.of_data(
                "out-of-domain",
                f"{count(rows, 'row')} of {self.column} {'lies' if rows == 1 else 'lie'} outside {what} of {self.about.name}: {self._top(self.outside)}",
                dataset,
                rows,
                witness={self.about.name: self._shown(self.outside.most_common(1)[0][0])},
                remedy=f"correct the data, or widen {what}",
            )

    def _too_fine(self, dataset: str) -> Iterable[Finding]:
        if (rows := sum(self.finer.values())) and self.about.step is not None:
            yield self.of_data(
                "finer-than-step",
                f"{count(rows, 'row')} of {self.column} {'is' if rows == 1 else 'are'} finer than the step {write_decimal(self.about.step)}: {self._top(self.finer)}",
                dataset,
                rows,
                witness={self.about.name: self.finer.most_common(1)[0][0]},
                remedy="set the step to how fine the data is, and see whether gaps appear",
            )
        if rows := sum(self.near_edge.values()):
            yield self.of_data(
                "near-edge",
                f"{count(rows, 'row')} of {self.column} {'lies' if rows == 1 else 'lie'} within rounding error of a bound: {self._top(self.near_edge)}",
                dataset,
                rows,
                witness={self.about.name: self.near_edge.most_common(1)[0][0]},
                remedy="say how fine the values are with step, and they count as the bound",
            )

    def _top(self, counter: Counter[str]) -> str:
        ranked = sorted(counter.items(), key=lambda pair: (-pair[1], pair[0]))
        return listed((f"{self._shown(text)} ({n:,})" for text, n in ranked), _MOST_VALUES)


def _texts_of(condition: Condition) -> Iterable[str]:
    if isinstance(condition, Equals):
        yield str(condition.value)
    elif isinstance(condition, (AnyOf, AllOf)):
        for part in condition.parts:
            yield from _texts_of(part)


def _difference(folds: Sequence[str]) -> str:
    words = {"case": "upper and lower case", "space": "blanks", "unicode": "the Unicode form"}
    return " and ".join(words[fold] for fold in folds)
