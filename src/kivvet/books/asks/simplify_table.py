"""A smaller version of a table of a book, shown as the difference in its file before it is written."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.asks.compare_table import whole_table
from kivvet.books.files.row_edits import RowEdit
from kivvet.books.files.table_files import TableFiles
from kivvet.core.check.box_search import DEFAULT_BUDGET
from kivvet.core.compare.simplify import Simplified, rows_of, simplify
from kivvet.core.words.conditions import AnyValue, write_condition
from kivvet.core.words.errors import BookError
from kivvet.core.words.places import Place
from kivvet.core.words.printed import Printed
from kivvet.core.words.wording import shown_path
from kivvet.rule_table import RuleTable, rule_table

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


@dataclass(frozen=True)
class Simpler(Printed):
    """A smaller table of the same meaning, which is proved.

    Attributes
    ----------
    name : str
    before, after : RuleTable
        Equal where there is nothing to simplify.
    joined : tuple of (int, tuple of int)
        By row that stays, the rows that it took in; numbers count from 1 in `before`.
    dropped : tuple of int
        The rows that never won.
    file : Path
        The file that holds the rows.
    difference : str
        What changes in it, in the unified form; empty where nothing does.
    is_written : bool
    """

    name: str
    before: RuleTable
    after: RuleTable
    joined: tuple[tuple[int, tuple[int, ...]], ...]
    dropped: tuple[int, ...]
    file: Path
    difference: str
    is_written: bool = False

    def as_dict(self) -> dict[str, Any]:
        return {
            "version": 1,
            "table": self.name,
            "rows_before": self.before.n_rows,
            "rows_after": self.after.n_rows,
            "joined": [{"row": row, "took": list(took)} for row, took in self.joined],
            "dropped": list(self.dropped),
            "file": shown_path(self.file),
            "difference": self.difference,
            "written": self.is_written,
        }


def simplify_in_book(
    book: OpenBook, name: str, *, writes: bool = False, budget: int | None = None
) -> Simpler:
    """Return a smaller version of a table, and write it if asked; see `Book.simplify`."""
    table = whole_table(book, name)
    made = simplify(table, DEFAULT_BUDGET if budget is None else budget)
    path = book.file_of_table(name)
    joined = tuple((one.number, one.took) for one in made.kept if one.took)
    if not made.is_smaller:
        return Simpler(name, rule_table(table), rule_table(table), (), (), path, "")
    files = TableFiles.read(path)
    edited = files.with_edits(_edits(made))
    if edited.table.rows != made.after.rows:  # what is written is what was proved
        raise BookError(
            "the rows stand in a way in which they cannot be changed one by one",
            place=Place(shown_path(files.file)),
            fix="take the smaller table from Python: print(table.simplified())",
        )
    difference = edited.difference(files, "simplified")
    if writes:
        edited.write()
    after = rule_table(made.after)
    return Simpler(name, rule_table(table), after, joined, made.dropped, files.file, difference, writes)


def _edits(made: Simplified) -> dict[int, RowEdit]:
    edits: dict[int, RowEdit] = {}
    took = {one.number: one.took for one in made.kept}
    for was, now in rows_of(made):
        if now is None:
            edits[was.number] = RowEdit()
        elif was.conditions != now.conditions:
            cells = {
                about.name: ""
                if isinstance(after, AnyValue) and len(now.conditions) > 1
                else write_condition(after)
                for about, before, after in zip(
                    made.before.inputs, was.conditions, now.conditions, strict=True
                )
                if before != after
            }
            edits[was.number] = RowEdit(cells, took[was.number])
    return edits
