"""The step that makes one column for each class: indicators, or amounts."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.classify.by_class import OUTSIDE, ClassColumns, class_codes
from kivvet.core.columns.column import BoolArray, Column, NumericColumn, arrow_from_column, missing_mask
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.formulas.domain import Domain
from kivvet.core.read.meaning import SEMANTICS_VERSION
from kivvet.core.run.entries import ByClass
from kivvet.core.run.step_reports import ClassReport
from kivvet.core.run.steps import Made, Read, Stage, Step
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.values import Value, ValueType, write_value
from kivvet.core.words.wording import listed

_MOST_OUTSIDE = 1_000  # different values that are none of the classes, remembered one by one
_WITH_CLASSES = ("text", "integer", "number", "boolean", "date")

#: How the steps are called that make a column for each class: they have no rules of their own.
BY_CLASS = "columns by class of "


@dataclass(frozen=True)
class ClassStep(Step):
    """One column for each class of another column.

    Attributes
    ----------
    column : str
        The column that has the classes.
    by_class : ByClass
    classes : tuple of Value
        In order.
    names : tuple of str
        The names of the columns, one for each class; one more where rows without a class have one.
    reads : tuple of Read
        The column with the classes, named ``class``, or where a row may be of several classes, one of true and false for
        each, named ``class 0`` and so on; then ``amount``.
    amount_type : str or None
    """

    column: str
    by_class: ByClass
    classes: tuple[Value, ...]
    names: tuple[str, ...]
    reads: tuple[Read, ...]
    place: Place | None = None
    amount_type: ValueType | None = None

    @property
    def name(self) -> str:
        return f"{BY_CLASS}{self.column}"

    @property
    def is_of_sets(self) -> bool:
        """Whether a row may be of several classes."""
        return self.reads[0].name != "class"

    @property
    def made(self) -> tuple[Made, ...]:
        kind: ValueType | None = "boolean" if self.by_class.is_boolean else "integer"
        if self.by_class.amount is not None:
            kind = self.amount_type
        roles = [*(("class", write_value(one)) for one in self.classes), ("rest",)]
        return tuple(Made(name, role, kind) for name, role in zip(self.names, roles, strict=False))

    @property
    def decides(self) -> frozenset[str]:
        return frozenset(read.name for read in self.reads)

    def meaning(self) -> dict[str, Any]:
        """Return what decides the columns; their class is the role of each, and the classes are what is read decides."""
        return {
            "semantics": SEMANTICS_VERSION,
            "by_class": ["amount" if self.by_class.amount is not None else "indicator"],
            "elsewhere": self.by_class.elsewhere,
            "boolean": self.by_class.is_boolean,
            "rest": self.by_class.rest is not None,
        }

    def definition(self) -> None:
        return None

    def typed(self, type_of: Callable[[Read], ValueType | None]) -> tuple[ClassStep, Finding | None]:
        kinds = {read.name: type_of(read) for read in self.reads}
        kind, amount = kinds.get("class"), kinds.get("amount")

        def fault(message: str, fix: str) -> tuple[ClassStep, Finding]:
            places = (self.place,) if self.place else ()
            return self, finding("type", message, places=places, remedy=fix)

        if self.by_class.amount is not None and amount not in ("integer", "number", "decimal", None):
            return fault(
                f"amount = {self.by_class.amount!r} is {amount}, and amounts are numbers",
                f"name a column of numbers, or make one of it: CAST({self.by_class.amount} AS NUMBER)",
            )
        if not self.is_of_sets and kind is not None:
            given = {_kind_of(one) for one in self.classes}
            fits = kind in _WITH_CLASSES and all(
                kind == one or (kind in ("integer", "number", "boolean") and one == "integer")
                for one in given
            )
            is_whole = kind == "number" and given == {"integer"} and not self.by_class.classes
            if not fits or (is_whole and self._is_of_formula()):
                return fault(
                    f"{self.column!r} is {kind}, and its classes are {listed(map(write_value, self.classes), 4)}",
                    "name the classes as they are: classes = [...]"
                    if kind in _WITH_CLASSES
                    else "give it classes by a table first",
                )
        return replace(self, amount_type=amount or "number"), None

    def _is_of_formula(self) -> bool:
        """Whether the classes are those of a formula, which were taken to be whole numbers."""
        return all(isinstance(one, int) and not isinstance(one, bool) for one in self.classes)

    def domains(self, domain_of: Callable[[Read], Domain | None]) -> Mapping[str, Domain | None]:
        return {}

    def start(self, *, with_report: bool, refuses_overlaps: bool) -> Stage:
        return _ClassStage(self, with_report=with_report)


def _kind_of(value: Value) -> ValueType:
    if isinstance(value, bool):
        return "boolean"
    if isinstance(value, str):
        return "text"
    if isinstance(value, Decimal):
        return "integer" if value == value.to_integral_value() else "number"
    return "integer" if isinstance(value, int) else "date"


class _ClassStage(Stage):
    """The columns per class of a column, with the rows of each."""

    def __init__(self, step: ClassStep, *, with_report: bool) -> None:
        self.step: ClassStep = step
        self.with_report = with_report
        self.counts = np.zeros(len(step.names), np.int64)
        self.n_rows = self.classless = self.n_outside = 0
        self.outside: Counter[str] = Counter()

    def apply(self, columns: Mapping[str, Column], rows_before: int, n_rows: int) -> dict[str, MadeColumn]:
        step, by_class = self.step, self.step.by_class
        maker = self.of_sets(columns) if step.is_of_sets else self.of_one(columns["class"])
        if by_class.amount is None:
            made = maker.indicators(is_boolean=by_class.is_boolean)
        else:
            made = maker.amounts(columns["amount"], elsewhere_missing=by_class.elsewhere == "missing")
        self.n_rows += n_rows
        return {name: MadeColumn(name, values=one) for name, one in zip(step.names, made, strict=True)}

    def of_one(self, column: Column) -> ClassColumns:
        step = self.step
        codes = class_codes(column, step.classes)
        classless: BoolArray | None = None
        if self.with_report:
            counts = np.bincount(codes + 2, minlength=len(step.classes) + 2)
            self.n_outside += int(counts[0])
            if counts[0]:
                self.note_outside(column, codes == OUTSIDE)
            classless = codes < 0 if counts[:2].any() else None
            self.count(counts[2:], int(counts[:2].sum()))
        elif len(codes) and codes.min() < 0:
            classless = codes < 0
        return ClassColumns(codes, classless, len(step.names), has_rest=step.by_class.rest is not None)

    def of_sets(self, columns: Mapping[str, Column]) -> ClassColumns:
        step = self.step
        held: list[BoolArray] = []
        gone: BoolArray | None = None
        for number in range(len(step.classes)):
            column = columns[f"class {number}"]
            assert isinstance(column, NumericColumn)
            missing = missing_mask(column)
            gone = missing if gone is None else gone
            held.append(column.values.astype(bool) & ~missing)
        assert gone is not None
        none = gone.copy()
        if step.by_class.rest is not None:
            none |= ~np.logical_or.reduce(held)
        if self.with_report:
            without = gone | ~np.logical_or.reduce(held)
            counts = np.array([np.count_nonzero(one) for one in held])
            self.count(counts, int(np.count_nonzero(without)))
        return ClassColumns(
            held, none if none.any() else None, len(step.names), has_rest=step.by_class.rest is not None
        )

    def count(self, of_classes: Any, classless: int) -> None:
        self.classless += classless
        self.counts[: len(of_classes)] += of_classes
        if self.step.by_class.rest is not None:
            self.counts[-1] += classless

    def note_outside(self, column: Column, rows: BoolArray) -> None:
        """Remember values that are none of the classes."""
        values = arrow_from_column(column).filter(pa.array(rows))
        counted = pc.value_counts(values)
        for value in counted.to_pylist():
            text = (
                write_value(value["values"])
                if not isinstance(value["values"], float)
                else repr(value["values"])
            )
            if text in self.outside or len(self.outside) < _MOST_OUTSIDE:
                self.outside[text] += value["counts"]

    def report(self) -> ClassReport:
        return ClassReport(
            self.step.column,
            tuple(zip(self.step.names, self.counts.tolist(), strict=True)),
            self.n_rows,
            self.classless,
            self.n_outside,
            tuple(sorted(self.outside.items(), key=lambda pair: (-pair[1], pair[0]))),
            self.step.by_class.amount,
        )
