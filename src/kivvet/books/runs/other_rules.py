"""The rules of a book as they were: a book whose tables and formulas are others, and all else is the same."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from kivvet.books.files.dataset import Dataset
from kivvet.books.files.read_formulas import parse_named_formula
from kivvet.books.runs.record import Record, read_record
from kivvet.books.runs.same_meaning import past_definition, past_table
from kivvet.core.formulas.formula import Formula
from kivvet.core.read.meaning import SEMANTICS_VERSION, fingerprint, formula_meaning, table_fingerprint
from kivvet.core.tables.table import Table
from kivvet.core.words.kept import without_kept
from kivvet.io.locations import is_there

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


@dataclass(frozen=True)
class OtherRules:
    """Tables and formulas as they were, those that are as today left out.

    Attributes
    ----------
    tables, formulas : mapping by name
    why_not : str
        Why they are not known; empty where they are.
    """

    tables: Mapping[str, Table] = field(default_factory=dict)
    formulas: Mapping[str, Formula] = field(default_factory=dict)
    why_not: str = ""

    def of(self, book: OpenBook) -> OpenBook:
        """Return the book with these rules in the place of its own."""
        made = without_kept(book)
        made.tables = {**book.tables, **self.tables}
        made.formulas = {**book.formulas, **self.formulas}
        return made

    def only(self, names: set[str]) -> OtherRules:
        """Return those of some names."""
        tables = {name: one for name, one in self.tables.items() if name in names}
        formulas = {name: one for name, one in self.formulas.items() if name in names}
        return OtherRules(tables, formulas, self.why_not)


def rules_then(book: OpenBook, dataset: Dataset) -> OtherRules:
    """Return the rules by which the target of a dataset was made, as far as they differ from today's."""
    record = None
    if dataset.target is not None and is_there(dataset.target):
        record = read_record(dataset.target).record
    if record is None:
        return OtherRules(why_not="it was not applied yet")
    if record.semantics != SEMANTICS_VERSION:
        return OtherRules(why_not="it was made by another version of Kivvet")
    tables: dict[str, Table] = {}
    formulas: dict[str, Formula] = {}
    for name, key in record.rule_versions.items():
        if name in book.tables and key != table_fingerprint(book.tables[name]):
            past = past_table(book, record, name, key)
            if past is None:
                return OtherRules(why_not=f"how table {name} was then is not remembered")
            tables[name] = past
        elif name in book.formulas and key != fingerprint(formula_meaning(book.formulas[name])):
            formula = past_formula(book, record, name, key)
            if formula is None:
                return OtherRules(why_not=f"how formula {name} was then is not remembered")
            formulas[name] = formula
    return OtherRules(tables, formulas)


def past_formula(book: OpenBook, record: Record, name: str, key: str) -> Formula | None:
    """Return a formula as it was, by its fingerprint; None where that is not remembered."""
    definition = past_definition(book, record, key)
    if definition is None or "formula" not in definition:
        return None
    words = ("formula", "among", "type")
    given = {word: definition[word] for word in words if definition.get(word) is not None}
    return parse_named_formula(name, given)[0]


def rules_of(book: OpenBook, other: OpenBook) -> OtherRules:
    """Return the rules of another book that this book has too and that differ."""
    return OtherRules(
        {
            name: table
            for name, table in other.tables.items()
            if name in book.tables and table_fingerprint(table) != table_fingerprint(book.tables[name])
        },
        {
            name: formula
            for name, formula in other.formulas.items()
            if name in book.formulas and formula.meaning != book.formulas[name].meaning
        },
    )
