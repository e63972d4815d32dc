"""Cross-tables of data: counts, totals and other aggregates by classes, periods or values."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from kivvet.books.files.dataset import Dataset
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.expressions import Asked, ask, column_formula, of_tree
from kivvet.books.runs.prepare import Prepared
from kivvet.books.runs.run import Run, RunBatch
from kivvet.core.calculate.evaluate import Evaluator
from kivvet.core.calculate.tally import windows_of
from kivvet.core.calculate.vectors import Vector, of_column
from kivvet.core.classify.outcomes import WHY_BY_STATUS
from kivvet.core.columns.arrays import Array
from kivvet.core.columns.column import BoolArray, Column, NumericColumn, missing_mask
from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.parser import parse_formula
from kivvet.core.formulas.tree import ColumnName, Tree, Window, children, columns_read, write_name
from kivvet.core.formulas.types import type_of
from kivvet.core.run.class_names import classes_of_formula
from kivvet.core.run.cross_table import CrossTable
from kivvet.core.run.crossing import Crossing, KeyCodes
from kivvet.core.run.frames import formula_finding
from kivvet.core.run.plan import Plan
from kivvet.core.run.table_step import TableStep
from kivvet.core.words.errors import DataError, TableError
from kivvet.core.words.findings import Finding
from kivvet.core.words.values import Value, ValueType
from kivvet.core.words.wording import did_you_mean, listed
from kivvet.io.source_and_target import Source

OnRows = Callable[[int], None]
#: The name of the number of rows.
ROWS = "rows"
MOST_ACROSS = 12
_FEW_CLASSES = 100


@dataclass(frozen=True)
class Wanted:
    """What a cross-table is to show.

    Attributes
    ----------
    by : tuple of (str, str)
        Names and expressions of the lines, from the outer key to the inner.
    across : (str, str) or None
    values : tuple of (str, str)
        Names and aggregate formulas.
    where : str or None
        The condition of the rows that count.
    most_across : int or None
    """

    by: tuple[tuple[str, str], ...]
    across: tuple[str, str] | None = None
    values: tuple[tuple[str, str], ...] = ((ROWS, "COUNT(*)"),)
    where: str | None = None
    most_across: int | None = MOST_ACROSS

    @property
    def keys(self) -> tuple[tuple[str, str], ...]:
        """The keys of lines and columns."""
        return (*self.by, *([] if self.across is None else [self.across]))


@dataclass(frozen=True)
class Counted:
    """Rows counted for a cross-table.

    Attributes
    ----------
    crossing : Crossing
    n_rows : int
        That were read.
    left_out : int
        Of these, those that do not count.
    faults : tuple of Finding
        Of columns with fields that could not be read.
    """

    crossing: Crossing
    n_rows: int
    left_out: int
    faults: tuple[Finding, ...]


@dataclass(frozen=True)
class CrossAsked:
    """A cross-table made ready: names resolved, types known, nothing read yet.

    Attributes
    ----------
    asked : Asked
    wanted : Wanted
    values : mapping of str to Tree
    kinds : mapping of str to str
        The types of the values.
    inner : set of str
        The columns that aggregates read.
    conditions : mapping of str to Formula
        Of the rows that count.
    """

    asked: Asked
    wanted: Wanted
    values: Mapping[str, Tree]
    kinds: Mapping[str, ValueType]
    inner: frozenset[str]
    conditions: Mapping[str, Formula]

    @property
    def key_types(self) -> Mapping[str, ValueType]:
        """The types of the keys."""
        types = self.asked.types
        return {name: types[f"by {name}"] or "number" for name, _ in self.wanted.keys}

    def maker_of_key(self, name: str) -> tuple[TableStep, str] | None:
        """Return the step of the table whose classes a key holds, and which output; None where it is none of a table."""
        return _maker_of_key(self.asked, name)

    def made(self, on_rows: OnRows = lambda _: None, *, tells_why: bool = True) -> CrossTable:
        """Read the data, and return the cross-table.

        Parameters
        ----------
        tells_why : bool
            Whether rows without a class are told apart by why they have none.
        """
        return self.result(self.counted(self.prepared, on_rows=on_rows, tells_why=tells_why))

    @property
    def prepared(self) -> Prepared:
        """What is run to count."""
        plan, _, _ = self._keyed()
        return replace(self.asked.prepared, plan=plan)

    def _keyed(self) -> tuple[Plan, list[KeyCodes], dict[str, str]]:
        return _keys(self.asked, [name for name, _ in self.wanted.keys], self.conditions)

    def counted(
        self,
        prepared: Prepared,
        known: Mapping[int, Vector] | None = None,
        *,
        on_rows: OnRows = lambda _: None,
        tells_why: bool = True,
    ) -> Counted:
        """Return the rows counted, of all the data or of a part of it.

        Parameters
        ----------
        prepared : Prepared
            That of this cross-table, its source perhaps a part.
        known : mapping of int to Vector, optional
            Of a part, what steps that look at other rows give in its rows, by the place of the step.
        """
        asked, wanted, names = self.asked, self.wanted, [name for name, _ in self.wanted.keys]
        _, coders, why = self._keyed()
        by, across = coders[: len(wanted.by)], coders[-1] if wanted.across is not None else None
        crossing = Crossing(by, across, self.values)
        run = Run(prepared, with_report=False, on_rows=on_rows)
        if known is not None:
            run.knows_all_rows = True
            run.execution.take_known(known)
        run.read_codes(asked.plan.source_columns)
        left_out = 0
        for batch in run.batches(asked.plan.source_columns or None):
            kept = rows_kept(asked, batch, list(self.conditions))
            columns = [
                (column_of(asked, batch, f"by {name}"), _why(batch, why.get(name) if tells_why else None))
                for name in names
            ]
            evaluator = Evaluator(_vectors(asked, batch, self.inner), batch.n_rows)
            rows = None if kept is None or kept.all() else np.flatnonzero(kept)
            left_out += 0 if rows is None else batch.n_rows - len(rows)
            crossing.add(columns, evaluator, batch.n_rows, rows)
        return Counted(crossing, run.n_rows, left_out, tuple(run.faults()))

    def result(self, counted: Counted) -> CrossTable:
        """Return the cross-table of all rows counted; raise `TableError` where fields could not be read."""
        if counted.faults:
            raise TableError(list(counted.faults))
        wanted = self.wanted
        found = counted.crossing.result(self.kinds, most_across=wanted.most_across, left_out=counted.left_out)
        return replace(found, expressions=dict((*wanted.keys, *wanted.values)))


def ask_cross(book: OpenBook | None, dataset: Dataset, source: Source, wanted: Wanted) -> CrossAsked:
    """Return a cross-table of data made ready. The rows are those that the dataset keeps.

    Raises
    ------
    TableError
        If an expression cannot be read, names what there is not, or types do not fit.
    DataError
        If the data cannot be opened, or a key cannot be one.
    """
    trees = {name: read_expression(name, text, of_groups=True) for name, text in wanted.values}
    keys = {name: read_expression(name, text) for name, text in wanted.keys}
    if len(keys) < len(wanted.keys):
        raise DataError(f"{listed([name for name, _ in wanted.keys])} are the keys", expected="each key once")
    _refuse_bare_columns(dict(wanted.values), trees, list(keys))
    inner = {
        column
        for window in windows_of(list(trees.values()))
        for part in children(window)
        for column in columns_read(part)
    }
    formulas: dict[str, Formula] = {f"by {name}": of_tree(name, tree) for name, tree in keys.items()}
    formulas |= {f"of {column}": column_formula(column) for column in sorted(inner)}
    conditions = {} if dataset.where is None else {"where the dataset": dataset.where}
    if wanted.where is not None:
        conditions["where"] = Formula("where", wanted.where, read_expression("where", wanted.where))
    asked = ask(book, dataset, source, {**formulas, **conditions})
    refuse_no_condition(asked, conditions)
    _keys(asked, list(keys), conditions)
    kinds = _kinds(trees, dict(wanted.values), asked)
    return CrossAsked(asked, wanted, trees, kinds, frozenset(inner), conditions)


def read_expression(name: str, text: str, *, of_groups: bool = False) -> Tree:
    """Return the tree of an expression; a name that formulas write in quotes may stand without them."""
    try:
        return parse_formula(text, of_groups=of_groups)
    except FormulaError as error:
        if not of_groups and _is_plain_name(text):
            return ColumnName(text)
        raise TableError([formula_finding(name, text, error)]) from None


def _is_plain_name(text: str) -> bool:
    """Whether a text is a name that formulas write in quotes, such as ``Station no.``."""
    return write_name(text) != text and not any(sign in text for sign in "()+*/<>='\"")


def _refuse_bare_columns(texts: Mapping[str, str], trees: Mapping[str, Tree], keys: Sequence[str]) -> None:
    """Raise where a value names a column outside an aggregate that is no key: it has no one value for a group."""
    for name, tree in trees.items():
        for column in _outside(tree):
            if column.name not in keys:
                error = FormulaError(
                    f"{column.name!r} stands outside an aggregate, and has no one value for a group of rows",
                    column.at,
                    f"for example SUM({write_name(column.name)}), or sum up by it",
                )
                raise TableError([formula_finding(name, texts[name], error)])
        if not windows_of([tree]):
            error = FormulaError("there is no aggregate in it", 0, "for example SUM(load) or COUNT(*)")
            raise TableError([formula_finding(name, texts[name], error)])


def _outside(tree: Tree) -> list[ColumnName]:
    """Return the columns that stand outside aggregates."""
    if isinstance(tree, Window):
        return []
    if isinstance(tree, ColumnName):
        return [tree]
    return [one for part in children(tree) for one in _outside(part)]


def _maker_of_key(asked: Asked, name: str) -> tuple[TableStep, str] | None:
    """Return the step of the table that makes a key, and which output: of a summary that is what it sums up by."""
    behind = asked.behind(f"by {name}")
    if behind is None:
        return None
    if not behind.from_source:
        return asked.table_output(behind.column)
    below = getattr(asked.prepared.source, "ready", None)
    if not isinstance(below, CrossAsked) or behind.column not in dict(below.wanted.keys):
        return None
    return below.maker_of_key(behind.column)


def _keys(
    asked: Asked, names: Sequence[str], conditions: Collection[str]
) -> tuple[Plan, list[KeyCodes], dict[str, str]]:
    """Return the plan with columns that say why rows have no class, what numbers the keys, and these columns by key."""
    plan, coders, why = asked.to_run(conditions), [], {}
    for name in names:
        behind = asked.behind(f"by {name}")
        found = None if behind is None or behind.from_source else asked.table_output(behind.column)
        if found is None:
            coders.append(KeyCodes(name, *_classes_of_formula(asked, name)))
            continue
        step, output = found
        about = step.table.output(output)
        if step.table.match == "every" and about.combine in ("list", "flags"):
            raise DataError(
                f"{name!r} holds several classes in a row",
                fix=f'sum up one of its columns by class: {{ indicators = "{name}" }}',
            )
        step = next(one for one in plan.table_steps if one.made_names[:1] == step.made_names[:1])
        status = step.status or f"\0status of {name}"
        if step.status is None:
            plan = replace(
                plan,
                steps=tuple(replace(step, status=status) if one is step else one for one in plan.steps),
            )
        why[name] = status
        is_single = step.table.match != "every" and not (
            step.table.lookup is None and step.table.computed(about)
        )
        classes = step.table.classes(about) if is_single else ()
        if classes and (step.table.lookup is None or about.order or len(classes) <= _FEW_CLASSES):
            ordered = classes if step.table.lookup is None or about.order else tuple(sorted(classes))
            coders.append(KeyCodes(name, ordered, is_open=False))
        else:
            coders.append(KeyCodes(name))
    return plan, coders, why


def _classes_of_formula(asked: Asked, name: str) -> tuple[tuple[Value, ...]]:
    """Return the texts that a formula can give, in the order in which it names them, where its form says so; of a key of a summary
    the classes of the table that makes it.
    """
    behind = asked.behind(f"by {name}")
    if behind is not None and behind.from_source and (maker := _maker_of_key(asked, name)) is not None:
        step, output = maker
        about = step.table.output(output)
        classes = step.table.classes(about)
        return (classes if step.table.lookup is None or about.order else tuple(sorted(classes)),)
    formula_step = None
    if behind is not None and not behind.from_source:
        formula_step = next(
            (step for step in asked.plan.formula_steps if behind.column in step.made_names), None
        )
    if formula_step is None:
        return ((),)
    named = classes_of_formula(formula_step.formula, lambda _: None) or ()
    return (named if all(isinstance(one, str) for one in named) else (),)


def _kinds(trees: Mapping[str, Tree], texts: Mapping[str, str], asked: Asked) -> dict[str, ValueType]:
    """Return the types of the values."""
    types = asked.types

    def of(column: ColumnName) -> ValueType | None:
        name = f"of {column.name}"
        return types[name] if name in types else types.get(f"by {column.name}")

    kinds: dict[str, ValueType] = {}
    for name, tree in trees.items():
        try:
            kinds[name] = type_of(tree, of) or "number"
        except FormulaError as error:
            raise TableError([formula_finding(name, texts[name], error, kind="type")]) from None
    return kinds


def refuse_no_condition(asked: Asked, conditions: Mapping[str, Formula]) -> None:
    """Raise where what is to be a condition gives something else."""
    for name, one in conditions.items():
        if asked.types[name] not in ("boolean", None):
            raise DataError(
                f"where is a condition; {one.text} is {asked.types[name]}",
                fix=f"compare it with something, for example {one.text} > 0",
            )


def rows_kept(asked: Asked, batch: RunBatch, conditions: Sequence[str]) -> BoolArray | None:
    """Return the rows of which all conditions are true; None where there are none."""
    kept: BoolArray | None = None
    for name in conditions:
        column = batch.made[asked.columns[name]].as_column()
        assert isinstance(column, NumericColumn)
        true = column.values.astype(bool) & ~missing_mask(column)
        kept = true if kept is None else kept & true
    return kept


def column_of(asked: Asked, batch: RunBatch, name: str) -> Column:
    """Return the column of an expression; where it is a column, that itself, with its classes."""
    behind = asked.behind(name)
    if behind is None:
        return batch.made[asked.columns[name]].as_column()
    return behind.found_in(batch.read.column, lambda made: batch.made[made].as_column())


def _why(batch: RunBatch, status: str | None) -> Array | None:
    """Return why each row has no class, if it has none."""
    if status is None:
        return None
    codes = batch.made[status].codes
    assert codes is not None
    return WHY_BY_STATUS[codes].astype(np.int64)


def _vectors(asked: Asked, batch: RunBatch, inner: Collection[str]) -> Callable[[str], Vector]:
    known: dict[str, Vector] = {}

    def vector(name: str) -> Vector:
        if name not in inner:
            raise DataError(f"there is no column {name!r}", fix=did_you_mean(name, sorted(inner)) or None)
        if name not in known:
            known[name] = of_column(column_of(asked, batch, f"of {name}"))
        return known[name]

    return vector
