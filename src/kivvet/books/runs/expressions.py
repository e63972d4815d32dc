"""Expressions worked out on data: columns of a source, those that its dataset makes, and formulas over both.

What is drafted from, tried out, shown and summed up is asked for in this one way.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace

from kivvet.books.files.dataset import Dataset
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.prepare import Prepared, prepared_of
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.tree import ColumnName, Tree, write_formula
from kivvet.core.run.entries import Entry
from kivvet.core.run.plan import Plan
from kivvet.core.run.steps import Read
from kivvet.core.run.table_step import TableStep
from kivvet.core.words.errors import TableError
from kivvet.core.words.values import ValueType
from kivvet.io.source_and_target import Source


@dataclass(frozen=True)
class Asked:
    """Expressions on some data, made ready to be worked out.

    Attributes
    ----------
    prepared : Prepared
        Its plan makes all that the dataset does, and the expressions.
    plan : Plan
        Just what the expressions need.
    columns : mapping of str to str
        By the name of an expression, the column that has its values.
    """

    prepared: Prepared
    plan: Plan
    columns: Mapping[str, str]

    @property
    def types(self) -> Mapping[str, ValueType | None]:
        """By the name of an expression the type of its values; None where it has none."""
        kinds = self.plan.types
        return {name: kinds[column] for name, column in self.columns.items()}

    def to_run(self, besides: Collection[str] = ()) -> Plan:
        """Return the plan without the expressions that are columns and nothing else: those are read as they are.

        Parameters
        ----------
        besides : collection of str
            Expressions that are worked out all the same.
        """
        kept = {self.columns[name] for name in besides}
        plain = {self.columns[name] for name in self.columns if self.behind(name) is not None} - kept
        steps = tuple(step for step in self.plan.steps if not plain.intersection(step.made_names))
        return replace(
            self.plan, steps=steps, written=tuple(one for one in self.plan.written if one not in plain)
        )

    def behind(self, name: str) -> Read | None:
        """Return the column that an expression is, where it is nothing else; None where it is worked out."""
        made = self.columns[name]
        step = next(step for step in self.plan.formula_steps if made in step.made_names)
        is_column = isinstance(step.formula.tree, ColumnName)
        return step.reads[0] if is_column else None

    def table_output(self, column: str) -> tuple[TableStep, str] | None:
        """Return the step of the table that makes a column as an output, and which; None where none does."""
        return self.plan.maker_of(column)


def column_formula(name: str) -> Formula:
    """Return the formula that is a column."""
    return of_tree(name, ColumnName(name))


def of_tree(name: str, tree: Tree) -> Formula:
    """Return a tree as a formula with a name."""
    return Formula(name, write_formula(tree), tree)


def ask(book: OpenBook | None, dataset: Dataset, source: Source, wanted: Mapping[str, Formula]) -> Asked:
    """Return expressions on data made ready.

    Parameters
    ----------
    book : OpenBook or None
        Whose tables and formulas they may name.
    dataset : Dataset
        What makes columns, and says how its source is read.
    source : Source
    wanted : mapping of str to Formula
        By a name; that of the formula is used where faults are told.

    Raises
    ------
    TableError
        If an expression names what there is not, or types do not fit; or what it needs has faults.
    DataError
        If the source cannot be read.
    """
    columns = {name: f"\0{name}" for name in wanted}
    entries = [
        *(replace(entry, is_written=False) for entry in dataset.entries),
        *(Entry(column, is_written=False) for column in columns.values()),
    ]
    prepared, faults = prepared_of(
        replace(dataset, entries=tuple(entries), where=None),
        source,
        {} if book is None else book.tables,
        {**({} if book is None else book.formulas), **{columns[name]: one for name, one in wanted.items()}},
        set() if book is None else book.unusable_tables | book.unusable_formulas,
    )
    made = set(columns.values())
    steps = [step for step in prepared.plan.steps if made.intersection(step.made_names)]
    needed = prepared.plan.leading_to(steps)
    errors = [fault for fault in faults if fault.severity == "error"]
    names = {one.name for one in wanted.values()}
    used = {step.name for step in needed}
    about = [error for error in errors if error.table in names] or [
        error for error in errors if error.table in used
    ]
    if about or (errors and len(steps) < len(wanted)):
        raise TableError(about or errors)
    return Asked(prepared, Plan(needed, tuple(columns.values())), columns)
