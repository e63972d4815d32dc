"""Tables of a book as those who review them in a workbook see them: rows as they stand, and beside them what was found."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.asks.check_book import check_book
from kivvet.books.asks.counted import Counted, counted_of
from kivvet.books.asks.table_told import rest_told, rows_told, sums_by_row
from kivvet.books.files.row_edits import row_comments
from kivvet.books.files.table_files import TableFiles
from kivvet.core.picture.paints import paints_of_output
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError
from kivvet.core.words.findings import Finding, Report
from kivvet.core.words.printed import Printed
from kivvet.core.words.values import write_value
from kivvet.core.words.wording import listed

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

_MOST_CLASSES = 500  # of an output, that a list to choose from holds
_MOST_ROWS = 100_000  # of a table; a longer one is no sheet to look through


@dataclass(frozen=True)
class ClassesOut:
    """The classes that a cell of a result may hold.

    Attributes
    ----------
    classes : tuple of str
    colours : mapping of str to str
        By class; empty where the table does not say what they mean.
    """

    classes: tuple[str, ...]
    colours: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class TableOut:
    """A table as a sheet shows it.

    Attributes
    ----------
    name, title : str
    facts : tuple of (str, str)
        What the table says of itself, each with a word for it.
    found_of_all : tuple of str
        What was found of no row alone.
    headings : tuple of str
        Of the columns that stand in its file.
    records : tuple of tuple of str
        The cells of each row, as they stand in the file.
    comments, found : tuple of str
        Beside each row: the comment of its line, and what was found of it.
    counts : tuple of int, or None
        The rows of data that each row decides; None where no data was read.
    classes : mapping of str to ClassesOut
        By heading of an output of texts.
    file : str
        The file of the rows, from the book's folder; empty where they cannot be changed in a workbook.
    text : str
        What that file holds.
    why_not : str
        Why the rows cannot be changed in a workbook.
    """

    name: str
    title: str
    facts: tuple[tuple[str, str], ...]
    found_of_all: tuple[str, ...]
    headings: tuple[str, ...]
    records: tuple[tuple[str, ...], ...] = field(repr=False)
    comments: tuple[str, ...] = field(repr=False)
    found: tuple[str, ...] = field(repr=False)
    counts: tuple[int, ...] | None
    classes: Mapping[str, ClassesOut]
    file: str = ""
    text: str = field(default="", repr=False)
    why_not: str = ""


@dataclass(frozen=True)
class RulesOut(Printed):
    """Tables of a book that go out to a workbook.

    Attributes
    ----------
    book : str
        Its title.
    tables : tuple of TableOut
    """

    book: str
    tables: tuple[TableOut, ...]

    def as_dict(self) -> dict[str, Any]:
        return {
            "version": 1,
            "tables": [
                {
                    "name": table.name,
                    "rows": len(table.records),
                    "findings": sum(bool(said) for said in table.found),
                    "why_not": table.why_not,
                }
                for table in self.tables
            ],
        }


def rules_out(
    book: OpenBook,
    names: Sequence[str] = (),
    *,
    data: bool = True,
    on_rows: Callable[[int], None] = lambda _: None,
) -> RulesOut:
    """Return tables of a book as a workbook is to show them; see `Book.export`."""
    chosen = [book.table(name) for name in dict.fromkeys(names)] or [
        book.tables[name] for name in sorted(book.own_names) if name in book.tables
    ]
    if not chosen:
        raise BookError("the book has no table that could be read")
    report = check_book(book, [one.name for one in chosen], data=data, on_rows=on_rows)
    counted: dict[str, Counted] = {}
    if data:
        everything = {table.name for table in book.tables.values()}  # no picture is drawn
        counted = {
            name: counted_of(book, dataset, everything, on_rows)
            for name, dataset in book.datasets.items()
            if any(one.name in _tables_of(dataset) for one in chosen)
        }
    return RulesOut(book.title, tuple(_table_out(book, one, report, counted) for one in chosen))


def _tables_of(dataset: Any) -> set[str]:
    return {entry.table for entry in dataset.entries}


def _table_out(book: OpenBook, table: Table, report: Report, counted: Mapping[str, Counted]) -> TableOut:
    own = [one for one in report if one.table == table.name]
    try:
        files = _files_of(book, table)
        headings, records = files.headings, files.records
        comments = [""] * len(records) if files.rows_file else row_comments(table, files.path, files.text)
        why_not = ""
    except BookError as error:
        files = None
        heads, _, shown = rows_told(table)
        headings, records = list(heads), [list(cells) for cells, _ in shown]
        comments, why_not = [note for _, note in shown], error.problem
    n_rows = len(records)
    found = [""] * n_rows
    whole: list[str] = []
    for one in own:
        said = f"{one.severity}: {_said(one)}"
        if not one.rows:
            whole.append(said)
        for number in one.rows:
            if number <= n_rows:
                found[number - 1] = "\n".join(filter(None, [found[number - 1], said]))
    sums = sums_by_row(table, counted) if counted else None
    return TableOut(
        table.name,
        table.title,
        (*_facts(table), *rest_told(table)),
        tuple(whole),
        tuple(headings),
        tuple(map(tuple, records)),
        tuple(comments),
        tuple(found),
        sums,
        {} if table.lookup is not None else _classes(table, headings),
        "" if files is None else _within(book.folder, files.file),
        "" if files is None else files.text,
        why_not,
    )


def _files_of(book: OpenBook, table: Table) -> TableFiles:
    """Return the files of a table whose rows can be changed in a workbook; `BookError` where they cannot."""
    if table.n_rows > _MOST_ROWS:
        raise BookError(
            f"table {table.name} has {table.n_rows:,} rows, more than a sheet to look through holds"
        )
    return TableFiles.read(book.file_of_table(table.name))


def _said(one: Finding) -> str:
    return f"{one.message}; {one.remedy}" if one.remedy else one.message


def _within(folder: Path, file: Path) -> str:
    return file.resolve().relative_to(folder.resolve()).as_posix()


def _facts(table: Table) -> tuple[tuple[str, str], ...]:
    """Return what a table says of itself, apart from its rows."""
    reads = listed([f"{input_.name} ({input_.type})" for input_ in table.inputs], 20)
    gives = listed([f"{output.name} ({output.type})" for output in table.outputs], 20)
    matches = {"one": "one row alone", "first": "the first row that fits", "every": "every row that fits"}
    facts = [("reads", reads), ("gives", gives)]
    if table.lookup is None:
        facts.append(("decided by", matches.get(str(table.match), str(table.match))))
    facts += [
        (word, text)
        for word, text in (
            ("note", table.note),
            ("owner", table.owner),
            (
                "reviewed",
                "" if table.reviewed is None else f"{table.reviewed.on} {table.reviewed.by}".strip(),
            ),
        )
        if text
    ]
    return tuple(facts)


def _classes(table: Table, headings: Sequence[str]) -> dict[str, ClassesOut]:
    made = {}
    for output in table.outputs:
        classes = tuple(map(write_value, table.classes(output))) if output.type == "text" else ()
        if output.name in headings and 0 < len(classes) <= _MOST_CLASSES:
            made[output.name] = ClassesOut(classes, _colours(table, output))
    return made


def _colours(table: Table, output: Output) -> dict[str, str]:
    if not output.meaning:
        return {}
    return {text: paint.colour for text, paint in paints_of_output(table, output).items()}
