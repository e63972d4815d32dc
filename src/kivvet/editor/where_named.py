"""Where what stands at the cursor is defined: in a table, a formula, a lookup's rows, or the data itself."""

from __future__ import annotations

from pathlib import Path

from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.fed_domains import known_plan
from kivvet.editor.occurrences import Entity, Occurrence, entity_at, occurrences
from kivvet.editor.open_books import OpenBooks
from kivvet.editor.texts import Span
from kivvet.io.formats import ROW_ENDINGS


def definitions_of(books: OpenBooks, path: Path, offset: int) -> list[Occurrence]:
    """Return the places that define what is named at a place of a file: of a column of the data, its heading there."""
    found, folder = entity_at(books, path, offset), books.folder_of(path)
    book = None if folder is None else books.read(folder)
    if found is None or book is None:
        return []
    entity, _ = found
    named = [one for one in occurrences(books, book, entity) if one.is_definition]
    if not named and entity.kind == "column":
        return _headings(book, entity)
    return named


def _headings(book: OpenBook, entity: Entity) -> list[Occurrence]:
    """Return where the headings of sources name a column."""
    found: dict[Path, Occurrence] = {}
    for dataset in book.datasets.values():
        plan, _ = known_plan(book, dataset)
        source = dataset.source
        if plan is None or entity.name not in plan.source_columns or not isinstance(source, Path):
            continue
        if not source.name.lower().endswith(ROW_ENDINGS) or not source.is_file():
            continue
        path = source.resolve()
        with path.open(encoding="utf-8-sig", errors="replace") as file:
            line = file.readline()
        heading = dataset.renamed.get(entity.name, entity.name)
        at = line.find(heading)
        if at >= 0:
            found[path] = Occurrence(path, Span(at, at + len(heading)), "csv", is_definition=True)
    return list(found.values())
