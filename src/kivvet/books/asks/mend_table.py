"""The fewest changes of a table of a book after which its examples and promises hold, each with what it would move."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.asks.compare_table import whole_table
from kivvet.books.asks.impact import impact_in_book
from kivvet.books.files.row_edits import RowEdit
from kivvet.books.files.table_files import TableFiles
from kivvet.books.runs.other_rules import OtherRules
from kivvet.books.runs.target_lock import locked
from kivvet.core.compare.compare import compare_tables
from kivvet.core.draft.mend import CellChanged, Mended, broken_of, mends
from kivvet.core.run.impact import DatasetImpact
from kivvet.core.space.region_text import write_region
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError, KivvetError
from kivvet.core.words.places import Place
from kivvet.core.words.printed import Printed
from kivvet.core.words.wording import count, shown_path

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

_MOST_OFFERS = 5
_MOST_WEIGHED = 12  # whose rows of data are counted
_MOST_REGIONS = 4


@dataclass(frozen=True)
class MendOffer:
    """One way to mend a table.

    Attributes
    ----------
    steps : tuple of str
        What changes: each a bound, a value or a result.
    cells : tuple of CellChanged
    regions : tuple of str
        Where the table gives something else then, from what to what; the first of them.
    moved : mapping of str to int
        By dataset the rows that get another class; None where that is not known.
    difference : str
        What changes in the file, in the unified form.
    """

    steps: tuple[str, ...]
    cells: tuple[CellChanged, ...]
    regions: tuple[str, ...]
    moved: dict[str, int | None]
    difference: str

    def as_dict(self) -> dict[str, Any]:
        return {
            "steps": list(self.steps),
            "cells": [cell.as_dict() for cell in self.cells],
            "regions": list(self.regions),
            "moved": dict(self.moved),
            "difference": self.difference,
        }


@dataclass(frozen=True)
class Mends(Printed):
    """What does not hold of a table, and the fewest changes after which all of it does.

    Attributes
    ----------
    name : str
    file : Path
    wrong : tuple of str
        The examples and promises that do not hold.
    offers : tuple of MendOffer
        Those that move the fewest rows of data first; none where all holds, or up to three changes do not mend it.
    written : int or None
        The offer that was written, counted from 1.
    """

    name: str
    file: Path
    wrong: tuple[str, ...]
    offers: tuple[MendOffer, ...]
    written: int | None = None

    def as_dict(self) -> dict[str, Any]:
        return {
            "version": 1,
            "table": self.name,
            "file": shown_path(self.file),
            "wrong": list(self.wrong),
            "offers": [offer.as_dict() for offer in self.offers],
            "written": self.written,
        }


def mend_in_book(book: OpenBook, name: str, *, writes: bool = False, offer: int = 1) -> Mends:
    """Return the fewest changes that mend a table, and write one if asked; see `Book.mend`."""
    book.table(name)
    table = whole_table(book, name)
    runs, promises = broken_of(table)
    wrong = tuple(
        f"{run.title} gives "
        + ", ".join(f"{key} = {run.got.get(key)}, not {run.example.expected[key]}" for key in run.broken)
        for run in runs
    )
    wrong = (*wrong, *promises)
    files = TableFiles.read(book.file_of_table(name))
    found = mends(table)
    weighed = [(_moved(book, table, one), one) for one in found[:_MOST_WEIGHED]]
    weighed.sort(key=lambda pair: sum(n or 0 for n in pair[0].values()))
    chosen = weighed[:_MOST_OFFERS]
    edited = [_edited(files, one) for _, one in chosen]
    offers = tuple(
        MendOffer(one.steps, one.cells, _regions(table, one), moved, after.difference(files, "mended"))
        for (moved, one), after in zip(chosen, edited, strict=True)
    )
    made = Mends(name, files.file, wrong, offers)
    if not writes or not wrong:
        return made
    if not 1 <= offer <= len(offers):
        raise BookError(
            f"there is no offer {offer} for table {name!r}",
            found=count(len(offers), "offer"),
            fix="look at them first, without --write",
        )
    with locked(book.folder, files.file):
        edited[offer - 1].write()
    return Mends(name, files.file, wrong, offers, offer)


def _edited(files: TableFiles, mended: Mended) -> TableFiles:
    cells: dict[int, dict[str, str]] = {}
    for cell in mended.cells:
        cells.setdefault(cell.row, {})[cell.heading] = cell.after
    edited = files.with_edits({row: RowEdit(texts) for row, texts in cells.items()})
    if [(row.conditions, row.results) for row in edited.table.rows] != [
        (row.conditions, row.results) for row in mended.table.rows
    ]:
        raise BookError(
            "the rows stand in a way in which they cannot be changed one by one",
            place=Place(shown_path(files.file)),
            fix="change them by hand: " + "; ".join(mended.steps),
        )
    return edited


def _regions(table: Table, mended: Mended) -> tuple[str, ...]:
    try:
        found = compare_tables(table, mended.table).regions
    except KivvetError:
        return ()
    names = [output.name for output in table.outputs]
    told = [
        f"{write_region(one.region) or 'everything'}: {one.before.of_outputs(names)} -> {one.after.of_outputs(names)}"
        for one in found
    ]
    more = (f"and {len(told) - _MOST_REGIONS} more regions",) if len(told) > _MOST_REGIONS else ()
    return (*told[:_MOST_REGIONS], *more)


def _moved(book: OpenBook, table: Table, mended: Mended) -> dict[str, int | None]:
    """Return by dataset that uses the table how many of its rows get another class."""
    moved: dict[str, int | None] = {}
    then = OtherRules({table.name: mended.table}).of(book)
    for name, dataset in book.datasets.items():
        if dataset.of is not None:
            continue
        try:
            made = impact_in_book(then, [table.name, name], "as it is", rules=OtherRules({table.name: table}))
        except KivvetError:
            moved[name] = None
            continue
        (found,) = made.datasets
        if found.columns or found.why_not or found.stopped_by:
            moved[name] = None if found.why_not or found.stopped_by else _rows(found)
    return moved


def _rows(found: DatasetImpact) -> int:
    return max((sum(move.count for move in column.moves) for column in found.columns), default=0)
