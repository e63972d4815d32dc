"""Rows of a file of text that are no data: totals, repeated headings, blank rows. They are left out as it is read, so that
nothing counts them; how many there are is known and told.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.calculate.evaluate import Evaluator
from kivvet.core.columns.column import Column, column_from_arrow
from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.parser import parse_formula
from kivvet.core.formulas.tree import Tree, Window, columns_read, walk
from kivvet.core.formulas.types import type_of
from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import did_you_mean, listed

BLANK = "all fields are blank"


@dataclass(frozen=True)
class Sieve:
    """Which rows are left out.

    Attributes
    ----------
    condition : str
        Over the fields as texts, blanks around them left out; empty: none.
    skips_blank : bool
    """

    condition: str = ""
    skips_blank: bool = False

    def __bool__(self) -> bool:
        return bool(self.condition) or self.skips_blank

    @cached_property
    def tree(self) -> Tree | None:
        """The condition; `DataError` where it cannot be read."""
        if not self.condition:
            return None
        try:
            return parse_formula(self.condition)
        except FormulaError as error:
            raise DataError(f"leave_out: {error}", found=self.condition) from error

    @cached_property
    def reads(self) -> tuple[str, ...]:
        """The columns that the condition reads."""
        return () if self.tree is None else tuple(dict.fromkeys(columns_read(self.tree)))

    def columns(self, names: Sequence[str]) -> list[str]:
        """Return the columns of a source that have to be read to tell which rows stay."""
        return list(names) if self.skips_blank else list(self.reads)

    def check(self, names: Sequence[str], place: Place) -> None:
        """Raise `DataError` where the condition does not fit the columns of a source."""
        for read in self.reads:
            if read not in names:
                raise DataError(
                    f"leave_out names column {read!r}, which there is not",
                    place=place,
                    expected=listed(names, 12),
                    fix=did_you_mean(read, names),
                )
        if self.tree is None:
            return
        if any(isinstance(node, Window) for node in walk(self.tree)):
            raise DataError(
                "leave_out looks at one row alone",
                place=place,
                found=self.condition,
                fix="leave OVER (...) out",
            )
        try:
            kind = type_of(self.tree, lambda _: "text")
        except FormulaError as error:
            raise DataError(
                f"leave_out: {error}",
                place=place,
                found=self.condition,
                fix="fields are compared as the texts they are: station = 'Total'",
            ) from error
        if kind not in ("boolean", None):
            raise DataError(
                "leave_out is a condition",
                place=place,
                found=self.condition,
                fix="for example station = 'Total'",
            )

    def split(
        self, batch: pa.RecordBatch, names: Sequence[str]
    ) -> tuple[npt.NDArray[np.bool_], dict[str, int]]:
        """Return which rows of a batch stay, and how many do not by why.

        Parameters
        ----------
        names : sequence of str
            All columns of the source, which the batch holds if blank rows are left out.
        """
        stays = np.ones(batch.num_rows, np.bool_)
        left_out = {}
        if self.skips_blank:
            for name in names:
                stays &= _is_blank(batch.column(name))
                if not stays.any():
                    break
            left_out[BLANK] = int(stays.sum())
            stays = ~stays
        if self.tree is not None:
            columns = {name: _trimmed(batch.column(name)) for name in self.reads}
            is_no_data, _ = Evaluator(columns.__getitem__, batch.num_rows).truth(self.tree)
            left_out[self.condition] = int((stays & is_no_data).sum())
            stays = stays & ~is_no_data
        return stays, left_out


def _is_blank(fields: pa.Array) -> npt.NDArray[np.bool_]:
    if pa.types.is_string(fields.type):
        blank = pc.equal(pc.binary_length(pc.utf8_trim_whitespace(fields)), 0)
        return np.asarray(pc.fill_null(blank, True).to_numpy(zero_copy_only=False))
    return np.asarray(pc.is_null(fields).to_numpy(zero_copy_only=False))


def _trimmed(fields: pa.Array) -> Column:
    return column_from_arrow(pc.utf8_trim_whitespace(fields))


@dataclass
class SievedRows:
    """The rows of one pass over a source that stay, and at its end the count of those that do not."""

    sieve: Sieve
    names: Sequence[str]
    left_out: dict[str, int] = field(default_factory=dict)
    is_complete: bool = False

    def batches(self, batches: Iterator[pa.RecordBatch], wanted: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """Yield batches with the rows that stay, and the columns that are wanted."""
        for batch in batches:
            stays, counts = self.sieve.split(batch, self.names)
            for why, number in counts.items():
                self.left_out[why] = self.left_out.get(why, 0) + number
            chosen = batch.select(list(wanted))
            yield chosen if stays.all() else chosen.filter(pa.array(stays))
        self.is_complete = True


def told(left_out: Mapping[str, int]) -> dict[str, int]:
    """Return what was left out by why, where it was any."""
    return {why: number for why, number in left_out.items() if number}
