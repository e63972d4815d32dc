"""Decision tables of an open standard taken over as tables and formulas of a book."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from kivvet.books.asks.adopt_sql import table_of_text
from kivvet.books.asks.adopted import Adopted, RulesAdopted
from kivvet.core.adopt.decision_tables import TakenFormula, read_decisions
from kivvet.core.formulas.tree import Constant
from kivvet.core.read.options import toml_text
from kivvet.core.read.table_text import table_text
from kivvet.core.words.errors import BookError, DataError, TableError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path, toml_key

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

#: Endings of files of decisions.
DECISION_ENDINGS = (".dmn", ".xml")


def adopt_decisions(book: OpenBook, path: Path, *, name: str = "") -> RulesAdopted:
    """Return the decisions of a file of the standard DMN as tables and formulas, nothing written yet; see `Book.adopt`."""
    del book
    shown = shown_path(path)
    try:
        content = path.read_bytes()
    except OSError as error:
        raise BookError(f"cannot be read: {error.strerror}", place=Place(shown)) from error
    try:
        found, left = read_decisions(content)
    except DataError as error:
        raise DataError(error.problem, place=Place(shown), expected=error.expected, fix=error.fix) from error
    made = []
    for one in found:
        if isinstance(one, TakenFormula):
            if not name or one.name == name:
                text = f"{toml_key(one.name)} = {toml_text(one.text)}\n"
                made.append(Adopted(one.name, "formula", text, None, one.tree))
            continue
        if name and one.table.name != name:
            continue
        text = table_text(one.table)
        text = f"note = {toml_text(f'taken over from {shown}')}\n{text}"
        try:
            made.append(
                Adopted(one.table.name, "table", text, table_of_text(one.table.name, text), Constant(None))
            )
        except TableError as error:
            left.append(f"{one.table.name} is not taken over: {error.findings[0].message}")
    if not made:
        raise DataError(
            "holds no decision that could be taken over", place=Place(shown), found="; ".join(left) or None
        )
    return RulesAdopted(shown, tuple(made), tuple(left))
