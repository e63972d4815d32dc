"""The step that works a formula out."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from kivvet.core.calculate.formula_values import evaluate_formula
from kivvet.core.calculate.plain_floats import plain_column
from kivvet.core.calculate.vectors import Vector, made_of_vector, without_empty
from kivvet.core.columns.column import Column
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.formulas.domain import Domain
from kivvet.core.formulas.domain import domain_of as domain_of_tree
from kivvet.core.formulas.errors import FormulaError, written_error
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.tree import Constant
from kivvet.core.read.meaning import formula_meaning
from kivvet.core.run.step_reports import FormulaReport
from kivvet.core.run.steps import Made, Read, Stage, Step
from kivvet.core.words.errors import DataError
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import count


@dataclass(frozen=True)
class FormulaStep(Step):
    """One formula worked out.

    Attributes
    ----------
    formula : Formula
    reads : tuple of Read
    names : tuple of str
        The names under which its column is known; one, but where others ask for it by its own.
    type : str or None
        The type of its values; None before it is decided (see `Plan.typed`).
    """

    formula: Formula
    reads: tuple[Read, ...]
    names: tuple[str, ...]
    type: ValueType | None = None

    @property
    def name(self) -> str:
        return self.formula.name

    @property
    def made(self) -> tuple[Made, ...]:
        return tuple(Made(name, ("formula",), self.type) for name in self.names)

    @property
    def decides(self) -> frozenset[str]:
        return frozenset(self.formula.reads)

    @property
    def needs_all_rows(self) -> bool:
        return self.formula.has_windows

    def meaning(self) -> dict[str, Any]:
        return formula_meaning(self.formula)

    def definition(self) -> dict[str, Any]:
        return formula_meaning(self.formula)

    def typed(self, type_of: Callable[[Read], ValueType | None]) -> tuple[FormulaStep, Finding | None]:
        types = {read.name: type_of(read) for read in self.reads}
        formula = self.formula
        try:
            found = formula.type_given(lambda column: types[column.name])
        except FormulaError as error:
            message, fix = written_error(error, formula.text)
            places = (formula.place,) if formula.place else ()
            return self, finding(
                "type", message, table=formula.name, is_of_formula=True, places=places, remedy=fix
            )
        return replace(self, type=found), None

    def domains(self, domain_of: Callable[[Read], Domain | None]) -> Mapping[str, Domain | None]:
        of_reads = {read.name: domain_of(read) for read in self.reads}
        return dict.fromkeys(self.names, domain_of_tree(self.formula.tree, of_reads.get))

    def for_one_row(self) -> FormulaStep:
        if not self.formula.has_windows:
            return self
        return replace(self, formula=replace(self.formula, tree=Constant(None), among=None))

    def start(self, *, with_report: bool, refuses_overlaps: bool) -> Stage:
        return FormulaStage(self)


class FormulaStage(Stage):
    """The step of a formula, with its counts; one that looks at other rows keeps its values for all of them."""

    def __init__(self, step: FormulaStep) -> None:
        self.step: FormulaStep = step
        self.whole: Vector | None = None
        self.kind = ""
        self.n_rows = 0
        self.missing = 0
        self.made_missing: dict[str, tuple[int, int]] = {}
        self.notes = [0, 0, 0]
        self.spellings: dict[tuple[str, ...], None] = {}
        self.misspelt = 0

    def apply(self, columns: Mapping[str, Column], rows_before: int, n_rows: int) -> dict[str, MadeColumn]:
        names = self.step.made_names
        column = self._plain(columns, n_rows)
        if column is None:
            if self.whole is None:
                vector = self.evaluated(columns, rows_before, n_rows)
            else:
                vector = self.whole.take(slice(rows_before, rows_before + n_rows))
            column = made_of_vector(names[0], vector, n_rows)
        return {name: replace(column, name=name) for name in names}

    def _plain(self, columns: Mapping[str, Column], n_rows: int) -> MadeColumn | None:
        """Return the column of a formula that is worked out the quick way; None of others."""
        if self.step.type != "number" or self.step.formula.has_windows:
            return None
        made = plain_column(self.step.formula.tree, columns, n_rows)
        if made is None:
            return None
        self.kind = "number"
        self.n_rows += n_rows
        self.missing += made.null_count
        return MadeColumn(self.step.made_names[0], values=made)

    def evaluated(self, columns: Mapping[str, Column], rows_before: int, n_rows: int) -> Vector:
        formula = self.step.formula
        assert self.step.type is not None
        made = evaluate_formula(formula, columns.__getitem__, n_rows, self.step.type)
        for cause, n in made.made_missing.items():
            before, first = self.made_missing.get(cause, (0, rows_before + made.first_missing[cause] + 1))
            self.made_missing[cause] = before + n, first
        if formula.is_strict and self.made_missing:
            cause, (n, first) = next(iter(self.made_missing.items()))
            raise DataError(
                f"formula {formula.name!r} is strict, and {count(n, 'value')} {'has' if n == 1 else 'have'} no result: {cause}; the first is in row {first:,}",
                place=formula.place,
                fix="correct the data, say in the formula what such rows get, or leave out strict",
            )
        for note in made.notes.values():
            found = (note.without_group, note.without_order, note.split_ties)
            self.notes = [max(pair) for pair in zip(self.notes, found, strict=True)]
            self.spellings.update(dict.fromkeys(note.spellings))
            self.misspelt = max(self.misspelt, note.misspelt)
        vector = made.vector.of_rows(n_rows)
        self.kind = vector.kind
        self.n_rows += n_rows
        gone = without_empty(vector) if vector.kind == "text" else vector
        self.missing += int(np.count_nonzero(gone.missing_rows(n_rows)))
        if formula.has_windows:
            self.whole = vector
        return vector

    def report(self) -> FormulaReport:
        name = self.step.formula.name
        return FormulaReport(
            name,
            self.step.made_names,
            self.kind,
            self.n_rows,
            self.missing,
            self.made_missing,
            without_group=self.notes[0],
            without_order=self.notes[1],
            split_ties=self.notes[2],
            spellings=tuple(self.spellings),
            misspelt=self.misspelt,
        )
