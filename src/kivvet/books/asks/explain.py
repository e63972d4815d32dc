"""Explaining one row of a dataset, or values that somebody types in."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import pyarrow as pa

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.plans import prepare
from kivvet.books.runs.prepare import Prepared
from kivvet.books.runs.run import Run
from kivvet.books.runs.table_findings import findings_in_book
from kivvet.core.check.check import findings_of
from kivvet.core.columns.column import Column, column_from_arrow
from kivvet.core.columns.convert import convert_text, expected, fitting_types
from kivvet.core.columns.field_form import PLAIN, FieldForm
from kivvet.core.run.execution import Execution
from kivvet.core.run.explain import explain_columns
from kivvet.core.run.explanation import Explanation
from kivvet.core.run.least_change import with_wanted
from kivvet.core.run.plan import Plan
from kivvet.core.run.steps import Step
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError, DataError, TableError
from kivvet.core.words.places import Place
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import did_you_mean, listed

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


def explain_in_book(
    book: OpenBook, name: str, row: int | Mapping[str, str], tables: Sequence[str] = (), wanted: str = ""
) -> tuple[Explanation, ...]:
    """Return why a row of a dataset, or fields for a dataset or a table, get their classes, and what would give a wanted result;
    see `Book.explain`.
    """
    if isinstance(row, int):
        return explain_row(book, book.dataset(name), row, tables, wanted)
    if name in book.dataset_names or name not in book.tables:
        return explain_fields(book, book.dataset(name), row, tables, wanted)
    return (explain_values(book.table(name), row, wanted),)


def explain_row(
    book: OpenBook, dataset: Dataset, row: int, tables: Sequence[str] = (), wanted: str = ""
) -> tuple[Explanation, ...]:
    """Return why one row of a dataset's source gets its classes, for each table or those named.

    Parameters
    ----------
    row : int
        Counted from 1, the header left out.

    Raises
    ------
    TableError, DataError, BookError
        If the tables cannot be applied, the source not be read, or there is no such row or table.
    """
    prepared = _prepared(book, dataset, tables)
    if row < 1:
        raise DataError(f"there is no row {row}", expected="a row counted from 1", place=_place(prepared))
    run = Run(prepared, with_report=False, refuses_overlaps=True)
    found = run.row(row)
    if found is None:
        raise DataError(f"there is no row {row:,}", found=f"{run.n_rows:,} rows", place=_place(prepared))
    return _explained(prepared.plan, found.columns_of, tables, wanted)


def explain_fields(
    book: OpenBook, dataset: Dataset, fields: Mapping[str, str], tables: Sequence[str] = (), wanted: str = ""
) -> tuple[Explanation, ...]:
    """Return why a row of these fields would get its classes; columns left out are missing, and tables that
    would read nothing but those are left out too. Formulas that look at other rows are missing.

    Parameters
    ----------
    fields : mapping of str to str
        By column of the source, written as in a CSV file.
    """
    prepared = _prepared(book, dataset, tables)
    _known(fields, prepared.plan.source_columns, f"dataset {dataset.name!r} reads no column")
    words = dataset.fields.words_of
    columns = {
        name: _column(
            name, fields.get(name, ""), prepared.types.get(name), words(name), dataset.fields.form_of(name)
        )
        for name in prepared.plan.source_columns
    }
    told: set[str] = set(fields)
    used = []
    for step in prepared.plan.steps:
        if any(read.column in told for read in step.reads):
            told |= set(step.made_names)
            used.append(step.name)
    plan = _of_one_row(prepared.plan)
    made = Execution(plan, with_report=False).apply(columns.__getitem__, 1)
    return _explained(
        plan,
        lambda step: step.columns_of(columns.__getitem__, lambda name: made[name].as_column()),
        [name for name in used if not tables or name in tables],
        wanted,
    )


def _of_one_row(plan: Plan) -> Plan:
    """Return a plan in which formulas that look at other rows give nothing, since there are none."""
    return replace(plan, steps=tuple(step.for_one_row() for step in plan.steps))


def explain_values(table: Table, fields: Mapping[str, str], wanted: str = "") -> Explanation:
    """Return why values get their results from one table.

    Parameters
    ----------
    fields : mapping of str to str
        By input, and by column that `when` reads, written as in a CSV file; what is left out is missing.
    """
    if errors := [finding for finding in findings_of(table) if finding.severity == "error"]:
        raise TableError(errors)
    _known(fields, list(table.reads), f"table {table.name!r} reads no column")
    columns = {
        name: _column(name, fields.get(name, ""), None if about is None else about.type)
        for name, about in table.reads.items()
    }
    return _with_wanted(table, columns, wanted)


def _known(fields: Mapping[str, str], names: Sequence[str], message: str) -> None:
    for name in fields:
        if name not in names:
            raise DataError(
                f"{message} {name!r}",
                expected=f"one of: {listed(names, 20)}",
                fix=did_you_mean(name, names) or None,
            )


def _prepared(book: OpenBook, dataset: Dataset, tables: Sequence[str]) -> Prepared:
    faults = [fault for fault in book.faults_of(dataset) if fault.severity == "error"]
    if faults:
        raise TableError(faults)
    prepared, found = prepare(book, dataset)
    used = prepared.plan.tables
    for name in tables:
        if name not in used:
            raise BookError(
                f"dataset {dataset.name!r} uses no table {name!r}",
                expected=f"one of: {listed(used)}",
                fix=did_you_mean(name, used),
            )
    for name in tables if tables else used:
        found += findings_in_book(book, used[name])
    # An example that comes out otherwise is a reason to ask why, not an obstacle to it.
    if errors := [one for one in found if one.severity == "error" and one.kind != "example"]:
        raise TableError(errors)
    return prepared


def _explained(
    plan: Plan, columns_of: Callable[[Step], Mapping[str, Column]], tables: Sequence[str], wanted: str
) -> tuple[Explanation, ...]:
    steps = [step for step in plan.table_steps if not tables or step.name in tables]
    if wanted and len(steps) > 1:
        raise DataError(
            f"{wanted} is wanted of one table, and {listed(step.name for step in steps)} are explained",
            fix="say of which with --table",
        )
    return tuple(_with_wanted(step.table, columns_of(step), wanted) for step in steps)


def _with_wanted(table: Table, columns: Mapping[str, Column], wanted: str) -> Explanation:
    explained = explain_columns(table, columns)
    return with_wanted(table, columns, explained, wanted) if wanted else explained


def _column(
    name: str, field: str, kind: ValueType | None, words: Sequence[str] = (), form: FieldForm = PLAIN
) -> Column:
    text = pa.array([field], pa.string())
    fitting: list[ValueType] = ["integer", "number", "date", "datetime", "boolean"]
    known: ValueType = kind if kind is not None else [*fitting_types(text, fitting, form), "text"][0]
    converted = convert_text(text, known, words, form)
    if converted.bad is not None:
        raise DataError(f"{name} = {field!r} is no {known}", expected=expected(known, form))
    return column_from_arrow(converted.array, name)


def _place(prepared: Prepared) -> Place:
    return Place(prepared.source.shown_name)
