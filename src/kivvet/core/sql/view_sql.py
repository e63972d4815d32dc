"""A plan as one query of a database that makes the same columns, with the tables of keys that it joins, and all that stands against it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

import pyarrow as pa

from kivvet.core.check.check import findings_of
from kivvet.core.columns.column import type_of_arrow
from kivvet.core.formulas.tree import Constant
from kivvet.core.run.class_step import ClassStep
from kivvet.core.run.formula_step import FormulaStep
from kivvet.core.run.plan import Plan
from kivvet.core.run.steps import Read, Step
from kivvet.core.run.table_step import TableStep
from kivvet.core.sql.dialect import Dialect, ObstacleError
from kivvet.core.sql.formula_sql import FormulaSql
from kivvet.core.sql.table_sql import (
    ColumnRead,
    KeyTable,
    deciding_row,
    is_long_mapping,
    joined_result,
    joined_row,
    keys_of_lookup,
    keys_of_mapping,
    refuse_table,
    result_sql,
    results_by_row,
    row_sql,
    status_sql,
)
from kivvet.core.tables.table import Table
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.values import ValueType

_MEETING = ("overlap", "conflict", "repeated-key", "duplicate")
_ARROW: Mapping[ValueType, pa.DataType] = {
    "text": pa.string(),
    "integer": pa.int64(),
    "number": pa.float64(),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "datetime": pa.timestamp("us"),
}


@dataclass(frozen=True)
class ViewSql:
    """What a view is made of.

    Attributes
    ----------
    query : str
    keys : mapping of str to KeyTable
        By the name of the table in the database.
    obstacles : tuple of Finding
        What cannot be the same; there is no query then.
    beside : tuple of str
        The columns that the view takes from a table beside it, as Kivvet made them.
    """

    query: str
    keys: Mapping[str, KeyTable] = field(default_factory=dict)
    obstacles: tuple[Finding, ...] = ()
    beside: tuple[str, ...] = ()


@dataclass(frozen=True)
class Beside:
    """A table beside a view that has what the view itself cannot make.

    Attributes
    ----------
    name : str
        In SQL.
    key : sequence of str
        The columns that it and the source have, and by which it is joined.
    """

    name: str
    key: Sequence[str]


def view_sql(
    plan: Plan,
    source: pa.Schema,
    from_: str,
    dialect: Dialect,
    name_of_keys: Callable[[str], str],
    dataset: str = "",
    beside: Beside | None = None,
) -> ViewSql:
    """Return what makes the columns of a plan in a database.

    Parameters
    ----------
    plan : Plan
        Typed.
    source : pyarrow.Schema
        All columns of the source.
    from_ : str
        What stands behind FROM for the source.
    name_of_keys : callable
        Gives the name of the table of a lookup's keys, in SQL.
    beside : Beside, optional
        What has the columns that cannot be the same; without it they are obstacles.
    """
    writer = _Writer(source, dialect, name_of_keys)
    faults: list[Finding] = []
    for step in plan.steps:
        try:
            writer.add(step)
        except ObstacleError as error:
            fault = _fault(step, error, dialect, dataset)
            faults += [] if any(one.message == fault.message for one in faults) else [fault]
        except KeyError:
            continue  # it reads what could not be made, which is told
    lacking = tuple(name for name in plan.written if name not in writer.made)
    if faults and (beside is None or (plan.where is not None and plan.where not in writer.made)):
        return ViewSql("", obstacles=tuple(faults))
    return ViewSql(writer.query(plan, source, from_, beside), writer.keys, beside=lacking)


def _fault(step: Step, error: ObstacleError, dialect: Dialect, dataset: str) -> Finding:
    is_formula = isinstance(step, FormulaStep)
    what = f"{step.name} cannot be the same in {dialect.name}: {error.what}"
    place = None
    if isinstance(step, FormulaStep):
        what, place = f"formula {what}", step.formula.place
    elif isinstance(step, TableStep):
        what, place = f"table {what}", step.table.place
    return finding(
        "obstacle",
        what,
        table=step.name,
        dataset=dataset,
        is_of_formula=is_formula,
        places=(place,) if place else (),
        remedy=error.fix or 'write the columns as a table: target = { ..., table = "..." }',
    )


class _Writer:
    def __init__(self, source: pa.Schema, dialect: Dialect, name_of_keys: Callable[[str], str]) -> None:
        self.dialect = dialect
        self.name_of_keys = name_of_keys
        self.prefix = "kivvet_"
        while any(name.lower().startswith(self.prefix) for name in source.names):
            self.prefix += "_"
        self.n_made = 0
        self.levels: list[list[tuple[str, str]]] = [[]]
        self.joins: list[list[str]] = [[]]
        self.level_of: dict[str, int] = {}  # by alias
        self.made: dict[str, tuple[str, ColumnRead]] = {}
        self.of_source: dict[str, tuple[str, ColumnRead]] = {}
        self.keys: dict[str, KeyTable] = {}
        self.source = source

    def _alias(self, level: int, sql: str) -> str:
        self.n_made += 1
        alias = f"{self.prefix}{self.n_made}"
        while len(self.levels) <= level:
            self.levels.append([])
            self.joins.append([])
        self.levels[level].append((alias, sql))
        self.level_of[alias] = level
        return alias

    def _read(self, read: Read) -> ColumnRead:
        if not read.from_source:
            return self.made[read.column][1]
        if read.column not in self.of_source:
            kind = self.source.field(read.column).type
            value_type = type_of_arrow(kind)
            if value_type is None:
                raise ObstacleError(f"column {read.column} is of type {kind}")
            name = f"t.{self.dialect.quoted(read.column)}"
            sql = self.dialect.clean(name, value_type, is_floating=pa.types.is_floating(kind))
            alias = self._alias(0, sql)
            self.of_source[read.column] = alias, ColumnRead(alias, value_type, kind)
        return self.of_source[read.column][1]

    def add(self, step: Step) -> None:
        """Add what a step makes."""
        reads = {read.name: self._read(read) for read in step.reads}
        level = 1 + max((self.level_of[read.sql] for read in reads.values()), default=0)
        formulas = FormulaSql(self.dialect, lambda name: _of_formula(name, reads))
        if isinstance(step, FormulaStep):
            self._formula(step, level, formulas)
        elif isinstance(step, TableStep):
            self._table(step, level, reads, formulas)
        elif isinstance(step, ClassStep):
            self._by_class(step, level, reads)
        else:
            raise ObstacleError("it is not known to be the same there")

    def _keep(self, name: str, alias: str, kind: ValueType) -> None:
        self.made[name] = alias, ColumnRead(alias, kind, _ARROW[kind])

    def _formula(self, step: FormulaStep, level: int, formulas: FormulaSql) -> None:
        formula = step.formula
        if formula.is_strict:
            raise ObstacleError("it is strict, and a view cannot refuse data", "leave out strict")
        assert step.type is not None
        tree = Constant(None) if formula.tree is None else formula.tree
        if formula.among is not None:
            formulas.among = formulas.sql(formula.among)
        sql = formulas.written(tree, step.type)
        if formula.among is not None:
            sql = f"CASE WHEN {formulas.among} THEN {sql} ELSE {self.dialect.null(step.type)} END"
        alias = self._alias(level, sql)
        for name in step.names:
            self._keep(name, alias, step.type)

    def _table(
        self, step: TableStep, level: int, reads: Mapping[str, ColumnRead], formulas: FormulaSql
    ) -> None:
        table = step.table
        refuse_table(table)
        if step.flags:
            raise ObstacleError("columns of true and false for each class")
        if any(input_.compared or input_.whole for input_ in table.computed_inputs) and any(
            input_.step is not None for input_ in table.inputs
        ):
            raise ObstacleError("it compares columns by their steps", "leave out step")
        found = ""
        is_joined = table.lookup is not None or is_long_mapping(table)
        if not is_joined and len(step.outputs) == 1 and step.status is None and step.row is None:
            ((output, name),) = step.outputs
            place = [output.name for output in table.outputs].index(output)
            gives = results_by_row(table, place, self.dialect, formulas).__getitem__
            sql = deciding_row(table, reads.__getitem__, self.dialect, formulas, gives)
            self._keep(name, self._alias(level, sql), table.outputs[place].type)
            return
        if is_joined:
            found = self._joined(step, level, reads)
            number = self._alias(level, joined_row(table, reads.__getitem__, f"{found}.row"))
        else:
            number = self._alias(level, deciding_row(table, reads.__getitem__, self.dialect, formulas))
        for output, name in step.outputs:
            place = [output.name for output in table.outputs].index(output)
            kind = table.outputs[place].type
            if found:
                given = self._alias(level, f"{found}.result_{place + 1}")
                sql = joined_result(table, place, number, given, self.dialect)
            else:
                sql = result_sql(table, place, number, self.dialect, formulas)
            self._keep(name, self._alias(level + 1, sql), kind)
        if step.status is not None:
            if table.lookup is not None and table.lookup.ranges:
                raise ObstacleError(
                    "status of a lookup in ranges, which tells missing periods apart", "leave out status"
                )
            self._keep(step.status, self._alias(level + 1, status_sql(number, self.dialect)), "text")
        if step.row is not None:
            self._keep(step.row, self._alias(level + 1, row_sql(number, self.dialect)), "integer")

    def _by_class(self, step: ClassStep, level: int, reads: Mapping[str, ColumnRead]) -> None:
        """Add one column for each class of texts."""
        if step.is_of_sets or reads["class"].kind != "text":
            raise ObstacleError(
                "their classes are no texts", "make the column of a table whose classes are texts"
            )
        name, by_class, dialect = reads["class"].sql, step.by_class, self.dialect
        texts = [dialect.text(str(one)) for one in step.classes]
        known = f"{name} IN ({', '.join(texts)})"
        kind = step.made[0].type or "number"
        if by_class.amount is not None:
            if reads["amount"].kind not in ("integer", "number"):
                raise ObstacleError("amounts of decimals", "let them be numbers")
            here, there = reads["amount"].sql, f"CAST(0 AS {dialect.types[kind]})"
        elif by_class.is_boolean:
            here, there = dialect.truth(True), dialect.truth(False)
        else:
            here, there = "1", "0"
        zero = f"WHEN {known} THEN {there}"
        if by_class.rest is not None:
            zero = f"ELSE {there}"
        if by_class.amount is not None and by_class.elsewhere == "missing":
            zero = ""
        columns = [f"CASE WHEN {name} = {text} THEN {here} {zero} END" for text in texts]
        if by_class.rest is not None:
            other = there if zero else dialect.null(kind)
            columns.append(f"CASE WHEN {known} THEN {other} ELSE {here} END")
        for made, sql in zip(step.names, columns, strict=True):
            self._keep(made, self._alias(level, sql), kind)

    def _joined(self, step: TableStep, level: int, reads: Mapping[str, ColumnRead]) -> str:
        table = step.table
        _refuse_meeting(table)
        name = self.name_of_keys(table.name)
        make = keys_of_lookup if table.lookup is not None else keys_of_mapping
        keys = make(table, reads.__getitem__)
        self.keys[name] = keys
        while len(self.levels) <= level:
            self.levels.append([])
            self.joins.append([])
        found = f"k{sum(map(len, self.joins)) + 1}"
        on = " AND ".join(keys.on).replace("k.", f"{found}.")
        self.joins[level].append(f"LEFT JOIN {name} AS {found} ON {on}")
        return found

    def query(self, plan: Plan, source: pa.Schema, from_: str, beside: Beside | None = None) -> str:
        """Return the whole query."""
        quoted = self.dialect.quoted
        own = ", ".join(f"t.{quoted(name)}" for name in source.names)
        first = [f"{sql} AS {alias}" for alias, sql in self.levels[0]]
        text = f"SELECT {', '.join([own, *first])}\nFROM {from_} AS t{self.dialect.fence}"
        for level, made in enumerate(self.levels[1:], 1):
            if made:
                columns = ",\n  ".join(["s.*", *(f"{sql} AS {alias}" for alias, sql in made)])
                joins = "".join(f"\n{one}" for one in self.joins[level])
                text = f"SELECT {columns}\nFROM (\n{text}\n) AS s{joins}{self.dialect.fence}"
        lacking = beside is not None and any(name not in self.made for name in plan.written)
        written = [
            f"{self.made[name][0]} AS {quoted(name)}" if name in self.made else f"b.{quoted(name)}"
            for name in plan.written
        ]
        columns = ", ".join([*(f"s.{quoted(name)}" for name in source.names), *written])
        joined = ""
        if lacking and beside is not None:
            on = " AND ".join(f"b.{quoted(name)} = s.{quoted(name)}" for name in beside.key)
            joined = f"\nLEFT JOIN {beside.name} AS b ON {on}"
        where = "" if plan.where is None else f"\nWHERE {self.made[plan.where][0]} IS TRUE"
        return f"SELECT {columns}\nFROM (\n{text}\n) AS s{joined}{where}"


def _of_formula(name: str, reads: Mapping[str, ColumnRead]) -> tuple[str, ValueType]:
    column = reads[name]
    if column.kind == "decimal":
        raise ObstacleError(
            f"column {name} is of decimals, which are floats in formulas", "make it a float in the query"
        )
    return column.sql, column.kind


def _refuse_meeting(table: Table) -> None:
    kinds = {finding.kind for finding in findings_of(table)}
    if found := [kind for kind in _MEETING if kind in kinds]:
        raise ObstacleError(f"rows of it have the same key ({found[0]})", "take them out")
