"""What people changed in a workbook of rules, taken back: as edits of the files, merged by meaning with what changed in the
book meanwhile, shown before anything is written.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.asks.draft_table import free_path, write_files
from kivvet.books.asks.impact import impact_in_book
from kivvet.books.asks.long_rules import by_table, new_table_text, read_lines, with_lines
from kivvet.books.asks.merge_table import Merged, merge_files
from kivvet.books.asks.rules_layout import ORIGIN_SHEET, ROW, Origin, unpacked
from kivvet.books.asks.rules_sheet import SheetBack
from kivvet.books.files.table_files import TableFiles
from kivvet.books.runs.other_rules import OtherRules
from kivvet.books.runs.table_findings import new_errors
from kivvet.books.runs.target_lock import locked
from kivvet.core.compare.compare import compared_rules
from kivvet.core.compare.comparison import Comparison
from kivvet.core.run.impact import Impact
from kivvet.core.words.errors import BookError, KivvetError
from kivvet.core.words.findings import Finding
from kivvet.core.words.places import Place
from kivvet.core.words.printed import Printed
from kivvet.core.words.wording import count, did_you_mean, listed, shown_path
from kivvet.io.formats import has_sheets
from kivvet.io.scratch import scratch_folder

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook
    from kivvet.io.workbook_cells import Workbook


@dataclass(frozen=True)
class TableIn:
    """A table as it comes back.

    Attributes
    ----------
    name : str
    state : str
        ``unchanged``; ``changed``; ``new``; ``already`` where the book says the same by now; ``undecided`` where both changed the
        same; ``unreadable`` where what came back is no table.
    difference : str
        What would change in its file, in the unified form; of a new table the whole file.
    comparison : Comparison or None
        What changes by meaning.
    merged : Merged or None
        Where the book changed meanwhile: the two as one, or what is left to decide.
    errors : tuple of Finding
        What the table would have then that it has not now.
    why_not : str
        Why it is not taken.
    """

    name: str
    state: str
    difference: str = ""
    comparison: Comparison | None = None
    merged: Merged | None = None
    errors: tuple[Finding, ...] = ()
    why_not: str = ""

    @property
    def is_clean(self) -> bool:
        """Whether nothing is left to decide or to mend."""
        return self.state in ("unchanged", "changed", "new", "already") and not self.errors

    def as_dict(self) -> dict[str, Any]:
        return {
            "name": self.name,
            "state": self.state,
            "difference": self.difference,
            "comparison": None if self.comparison is None else self.comparison.as_dict(),
            "merged": None if self.merged is None else self.merged.as_dict(),
            "errors": [error.as_dict() for error in self.errors],
            "why_not": self.why_not,
        }


@dataclass(frozen=True)
class RulesIn(Printed):
    """A workbook of rules as it comes back.

    Attributes
    ----------
    file : str
    tables : tuple of TableIn
    impact : Impact or None
        What the changes move in the data; None where none is read, or nothing changes.
    notes : tuple of str
        What of the workbook is not taken.
    written : tuple of str
        The files that were written.
    """

    file: str
    tables: tuple[TableIn, ...]
    impact: Impact | None = None
    notes: tuple[str, ...] = ()
    written: tuple[str, ...] = ()

    @property
    def changed(self) -> tuple[TableIn, ...]:
        """The tables that change, or are new."""
        return tuple(table for table in self.tables if table.state in ("changed", "new"))

    @property
    def is_clean(self) -> bool:
        """Whether nothing is left to decide or to mend."""
        return all(table.is_clean for table in self.tables)

    def as_dict(self) -> dict[str, Any]:
        return {
            "version": 1,
            "file": self.file,
            "clean": self.is_clean,
            "tables": [table.as_dict() for table in self.tables],
            "impact": None if self.impact is None else self.impact.as_dict(),
            "notes": list(self.notes),
            "written": list(self.written),
        }


def rules_in(
    book: OpenBook,
    path: Path,
    *,
    write: bool = False,
    data: bool = True,
    on_rows: Callable[[int], None] = lambda _: None,
) -> RulesIn:
    """Return what a workbook of rules changes in a book, and write it where that is asked for; see `Book.import_rules`."""
    pairs, notes = _taken(book, path)
    found = tuple(one for one, _ in pairs)
    changed = {one.name: files for one, files in pairs if files is not None and one.state == "changed"}
    new = {one.name: one.difference for one in found if one.state == "new"}
    impact = None
    if changed and data:
        then = OtherRules({name: files.table for name, files in changed.items()}).of(book)
        old = OtherRules({name: book.tables[name] for name in changed})
        impact = impact_in_book(then, sorted(changed), "the book as it is", rules=old, on_rows=on_rows)
    made = RulesIn(shown_path(path), found, impact, tuple(notes))
    if write and not made.is_clean:
        undecided = [one.name for one in found if not one.is_clean]
        raise BookError(
            f"nothing was written: {listed(undecided)} {'is' if len(undecided) == 1 else 'are'} not ready",
            place=Place(shown_path(path)),
            fix="kivvet import without --write shows what is left to decide or to mend",
        )
    if not write:
        return made
    written = _written(book, list(changed.values()))
    texts = {free_path(book, name, replace=False): text for name, text in new.items()}
    return replace(made, written=(*written, *map(shown_path, write_files(texts))))


def _taken(book: OpenBook, path: Path) -> tuple[list[tuple[TableIn, TableFiles | None]], list[str]]:
    """Return each table as it comes back, with its files as they would be; and what of the file is not taken."""
    if has_sheets(path):
        from kivvet.io.workbook_cells import Workbook

        workbook = Workbook(path)
        if ORIGIN_SHEET in workbook.sheets:
            origins = _origins(workbook)
            notes = [
                f"sheet {name!r} is no table that went out: it is not read"
                for name in _others(workbook, origins)
            ]
            return [_of_sheet(book, workbook, origin) for origin in origins], notes
    return _of_lines(book, path)


def _of_lines(book: OpenBook, path: Path) -> tuple[list[tuple[TableIn, TableFiles | None]], list[str]]:
    """Return the tables that a file of many mappings names, as it has them."""
    pairs: list[tuple[TableIn, TableFiles | None]] = []
    notes = []
    for name, lines in by_table(read_lines(path)).items():
        try:
            if name not in book.tables and name not in book.unusable_tables:
                free_path(book, name, replace=False)
                near = did_you_mean(name, list(book.tables))
                pairs.append((TableIn(name, "new", new_table_text(name, lines), why_not=near or ""), None))
                continue
            book.table(name)
            now = TableFiles.read(book.file_of_table(name))
            edited, n_left = with_lines(now, lines)
            pairs.append(
                (TableIn(name, "unchanged"), None)
                if edited.text == now.text
                else _held(name, now, now, edited)
            )
            if n_left:
                notes.append(
                    f"{count(n_left, 'value')} of {name} that the file does not name stay as they are"
                )
        except KivvetError as error:
            pairs.append((TableIn(name, "unreadable", why_not=str(error)), None))
    return pairs, notes


def _written(book: OpenBook, files: Sequence[TableFiles]) -> tuple[str, ...]:
    """Write files, all of them looked at first: none where something else changed one meanwhile."""
    for one in files:
        if one.file.read_bytes() != one.original:
            raise BookError(
                "was changed by something else meanwhile, so nothing was written",
                place=Place(shown_path(one.file)),
                fix="take the workbook in again",
            )
    for one in files:
        with locked(book.folder, one.file):
            one.write()
    return tuple(shown_path(file.file) for file in files)


def _origins(workbook: Workbook) -> list[Origin]:
    """Return what the tables of a workbook were when they went out."""
    rows = workbook.cells(ORIGIN_SHEET).rows
    try:
        return unpacked([str(row[0]) for row in rows[1:] if row[0] is not None])
    except ValueError as error:
        raise BookError(
            f"the sheet {ORIGIN_SHEET!r} was changed: {error}",
            place=workbook.place(ORIGIN_SHEET),
            fix="take the changes over into a workbook that kivvet export writes anew",
        ) from error


def _others(workbook: Workbook, origins: Sequence[Origin]) -> list[str]:
    known = {origin.sheet for origin in origins}
    return [
        name
        for name in workbook.visible
        if name not in known and any(row and row[0] == ROW for row in workbook.cells(name).rows[:10])
    ]


def _of_sheet(book: OpenBook, workbook: Workbook, origin: Origin) -> tuple[TableIn, TableFiles | None]:
    """Return a table of a workbook as it comes back, and its files as they would be."""
    name = origin.table
    try:
        if origin.sheet not in workbook.sheets:
            return TableIn(name, "unchanged", why_not="its sheet is not there any more"), None
        if name not in book.tables:
            why = "; ".join(
                filter(None, ["the book has no table of that name", did_you_mean(name, list(book.tables))])
            )
            return TableIn(name, "unreadable", why_not=why), None
        now = TableFiles.read(book.file_of_table(name))
        base = now if now.text == origin.text else now.with_text(origin.text)
        theirs = SheetBack(workbook, origin.sheet, base).changed()
        if theirs.text == base.text:
            return TableIn(name, "unchanged"), None
        return _held(name, now, base, theirs)
    except KivvetError as error:
        return TableIn(name, "unreadable", why_not=str(error)), None


def _held(
    name: str, now: TableFiles, base: TableFiles, theirs: TableFiles
) -> tuple[TableIn, TableFiles | None]:
    """Return a table that was changed, held against what it was and what it is by now."""
    merged, files = None, theirs
    if now.text != base.text:
        merged = _merged(now, base.text, theirs.text)
        if not merged.is_clean:
            return TableIn(name, "undecided", merged=merged), None
        files = now.with_text(merged.text)
    files = replace(files, original=now.original)
    difference = files.difference(now, "as it comes back")
    if not difference:
        return TableIn(name, "already"), None
    errors = tuple(now.placed(one) for one in new_errors(files.table, now.table))
    comparison = compared_rules(now.table, files.table, "the book as it is")
    return TableIn(name, "changed", difference, comparison, merged, errors), files


def _merged(now: TableFiles, base: str, theirs: str) -> Merged:
    """Return what the book changed meanwhile and what comes back as one."""
    with scratch_folder() as folder:
        paths = []
        for name, text in (("base", base), ("ours", now.text), ("theirs", theirs)):
            path = folder / name
            path.write_text(text, encoding="utf-8", newline="")
            paths.append(path)
        return merge_files(*paths, path=now.file, called=("the book", "the workbook"))
