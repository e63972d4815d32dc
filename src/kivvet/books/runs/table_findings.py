"""The findings about a table as a book judges it: by what its datasets feed the table, and by its severities."""

from __future__ import annotations

from collections.abc import Iterable

from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.dependence import only_possible
from kivvet.books.runs.fed_domains import fed_domains
from kivvet.core.check.check import check_table, findings_of
from kivvet.core.run.fed_domains import limited
from kivvet.core.run.own_findings import of_cases, own_findings
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import TableError
from kivvet.core.words.findings import Finding, with_severity


def findings_in_book(book: OpenBook, table: Table, budget: int | None = None) -> list[Finding]:
    """Return the findings about a table alone, with the severities that the book and the table choose.

    Where every dataset that uses the table feeds it inputs that depend on each other, what constrains two of
    them is possible only.
    """
    checked = limited(table, fed_domains(book))
    found = findings_of(checked) if budget is None else tuple(check_table(checked, budget))
    if len(table.inputs) > 1 and any(one.kind in ("gap", "overlap", "conflict") for one in found):
        found = tuple(only_possible(book, table, found))
    return with_severity([*found, *of_cases(table, budget)], table.severity)


def refuse_faults(book: OpenBook | None, tables: Iterable[Table]) -> None:
    """Raise `TableError` where tables have errors."""
    if book is None:
        return
    found = [finding for table in tables for finding in findings_in_book(book, table)]
    if errors := [one for one in found if one.severity == "error"]:
        raise TableError(errors)


def new_errors(table: Table, *before: Table) -> list[Finding]:
    """Return the errors of a table alone, its examples included, that none of its earlier versions has."""
    known = {_key(error) for earlier in before for error in _errors(earlier)}
    return [error for error in _errors(table) if _key(error) not in known]


def _errors(table: Table) -> list[Finding]:
    return [one for one in own_findings(table) if one.severity == "error"]


def _key(found: Finding) -> tuple[object, ...]:
    region = tuple(sorted((found.region or {}).items()))
    return found.kind, region, "" if found.region is not None else found.message
