"""Tables of a book as a workbook that people review: a sheet each, conditions and results as texts that can be changed."""

from __future__ import annotations

import zipfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from kivvet.books.asks.long_rules import LONG_HEADINGS, LongLine, csv_of_lines
from kivvet.books.asks.rules_layout import (
    CLASSES_SHEET,
    COMMENT,
    COUNT,
    FOUND,
    HEADINGS_ROW,
    ORIGIN_SHEET,
    ROW,
    TABLES_SHEET,
    Origin,
    packed,
    sheet_names,
)
from kivvet.books.asks.rules_out import RulesOut, TableOut
from kivvet.core.adopt.decision_tables import write_decisions
from kivvet.core.adopt.to_sql import sql_of_tables
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError, OutputError
from kivvet.core.words.places import Place, column_letters
from kivvet.core.words.printed import Printed
from kivvet.core.words.wording import count, listed, shell_word, shown_path
from kivvet.io.own_files import refuse_ending, refuse_other, write_whole
from kivvet.io.workbook_library import fixed_workbook, ink_on

_DMN_MARK = 'namespace="urn:rules"'
_SQL_MARK = "-- written by Kivvet"
_ROWS_MORE = 1_000  # below a table, whose cells are texts with lists to choose from
_WIDEST, _NARROWEST = 48, 9
_HOW = (
    "Change conditions, results and notes in the sheets of the tables. Rows can be moved and deleted; a new row has no number.",
    "Then `kivvet import` shows what that changes, by meaning and in the data, before anything is written.",
)


@dataclass(frozen=True)
class RulesWorkbook(Printed):
    """Tables of a book, to be written as a workbook.

    Attributes
    ----------
    rules : RulesOut
        What stands in it.
    lines : tuple of LongLine
        A line for each value of each table that is a mapping.
    others : mapping of str to str
        By table that is none, why.
    tables : tuple of Table
    unusable : tuple of str
        Those of them that have errors.
    """

    rules: RulesOut
    lines: tuple[LongLine, ...] = ()
    others: Mapping[str, str] = field(default_factory=dict)
    tables: tuple[Table, ...] = field(default=(), repr=False)
    unusable: tuple[str, ...] = ()

    def _sayable(self) -> tuple[Table, ...]:
        """Return the tables, which have a meaning to be said otherwise; `DataError` where one has errors."""
        if self.unusable:
            raise DataError(
                f"table {self.unusable[0]} cannot be said otherwise: it has errors"
                if len(self.unusable) == 1
                else f"tables {listed(self.unusable)} cannot be said otherwise: they have errors",
                fix=f"mend what `kivvet check {shell_word(self.unusable[0])}` tells",
            )
        return self.tables

    def save(
        self, path: str | Path, *, long: bool = False, formulas: bool = False, replace: bool = False
    ) -> Path:
        """Write it, whole or not at all; return its path.

        Parameters
        ----------
        path : str or Path
            It ends in .xlsx; or in .csv, which holds a line for each value of each mapping; or in .sql: a query that gives
            the same, for those who go on without Kivvet; or in .dmn: decision tables of the OMG's standard.
        long : bool
            Whether a workbook holds such lines too, on one sheet.
        formulas : bool
            Whether a workbook holds no rules to review, but formulas that give the same, beside cells for the inputs.
        replace : bool
            Whether a file may go that is no workbook of rules.

        Raises
        ------
        OutputError
            If it cannot be written, or is there already and no workbook of rules.
        DataError
            If a table cannot be said in SQL, or as a formula, so that it means the same.
        """
        target = Path(path)
        refuse_ending(target, (".xlsx", ".csv", ".sql", ".dmn"), "file of rules")
        if target.suffix.lower() == ".dmn":
            content = write_decisions(self._sayable())
            if not replace:
                refuse_other(target, _DMN_MARK, "file of decisions")
            write_whole(target, content)
            return target
        if target.suffix.lower() == ".sql":
            text = sql_of_tables(self._sayable())
            if not replace:
                refuse_other(target, _SQL_MARK, "query")
            write_whole(target, f"{_SQL_MARK}\n{text}".encode())
            return target
        if formulas:
            from kivvet.pages.rules_formulas import workbook_of_formulas

            refuse_ending(target, (".xlsx",), "workbook of formulas")
            content = workbook_of_formulas(self._sayable())
            if target.is_file() and not replace:
                raise OutputError(
                    "is there already",
                    place=Place(shown_path(target)),
                    fix="name another file, or say that it may go: --replace (replace=True)",
                )
            write_whole(target, content)
            return target
        if long or target.suffix.lower() == ".csv":
            return self._save_lines(target, replace=replace)
        if target.is_file() and not replace and not _is_ours(target):
            raise OutputError(
                "is there already, and is no workbook of rules that Kivvet made",
                place=Place(shown_path(target)),
                fix="name another file, or say that it may go: --replace (replace=True)",
            )
        write_whole(target, workbook_of_rules(self.rules))
        return target

    def _save_lines(self, target: Path, *, replace: bool) -> Path:
        is_csv = target.suffix.lower() == ".csv"
        if target.is_file() and not replace and not (is_csv and _begins_as_ours(target)):
            raise OutputError(
                "is there already",
                place=Place(shown_path(target)),
                fix="name another file, or say that it may go: --replace (replace=True)",
            )
        write_whole(target, csv_of_lines(self.lines) if is_csv else _sheet_of_lines(self.lines))
        return target

    def __repr__(self) -> str:
        return f"<RulesWorkbook: {count(len(self.rules.tables), 'table')}>"

    def as_dict(self) -> dict[str, Any]:
        return self.rules.as_dict()


def _is_ours(path: Path) -> bool:
    try:
        with zipfile.ZipFile(path) as package:
            return f'name="{ORIGIN_SHEET}"'.encode() in package.read("xl/workbook.xml")
    except (zipfile.BadZipFile, KeyError, OSError):
        return False


def _begins_as_ours(path: Path) -> bool:
    head = csv_of_lines(())
    with path.open("rb") as file:
        return file.read(len(head)) == head


def _sheet_of_lines(lines: Sequence[LongLine]) -> bytes:
    """Return a workbook with one sheet that has a line for each value of each mapping."""
    with fixed_workbook() as (book, buffer):
        sheet = book.add_worksheet("mappings")
        text, bold = book.add_format({"num_format": "@"}), book.add_format({"bold": True, "bottom": 1})
        sheet.set_column(0, len(LONG_HEADINGS) - 1, 24, text)
        for at, heading in enumerate(LONG_HEADINGS):
            sheet.write_string(0, at, heading, bold)
        for row, line in enumerate(lines, 1):
            label = f":{line.label}" if line.label.startswith("=") else line.label
            for at, cell in enumerate((line.table, line.input, line.value, line.output, label)):
                sheet.write_string(row, at, cell, text)
        sheet.freeze_panes(1, 0)
        sheet.autofilter(0, 0, max(len(lines), 1), len(LONG_HEADINGS) - 1)
    return buffer.getvalue()


def workbook_of_rules(rules: RulesOut) -> bytes:
    """Return a workbook with a sheet that lists the tables, one for each, and a hidden one with what they were."""
    sheets = sheet_names([table.name for table in rules.tables])
    with fixed_workbook() as (book, buffer):
        writer = _Writer(book)
        writer.list_tables(rules, sheets)
        for table in rules.tables:
            writer.write_table(table, sheets[table.name])
        writer.write_classes()
        origins = [
            Origin(table.name, sheets[table.name], table.file, table.text, table.headings)
            for table in rules.tables
            if table.file
        ]
        hidden = book.add_worksheet(ORIGIN_SHEET)
        hidden.write_string(0, 0, "what the tables were when they went out; kivvet import reads it")
        for row, part in enumerate(packed(origins), 1):
            hidden.write_string(row, 0, part)
        hidden.hide()
    return buffer.getvalue()


def _height(texts: Sequence[tuple[str, int]]) -> float:
    """Return how high a row is, in points, whose cells hold some texts in columns of some widths."""
    lines = max(
        sum(max(1, -(-len(line) // (width - 2))) for line in text.split("\n")) for text, width in texts
    )
    return 15.0 * min(lines, 20)


class _Writer:
    """Writes sheets of one workbook, with its formats."""

    def __init__(self, book: Any) -> None:
        self.book = book
        top = {"valign": "top"}
        self.title = book.add_format({"bold": True, "font_size": 14})
        self.plain = book.add_format({**top, "text_wrap": True})
        self.head = book.add_format({"bold": True, "bottom": 1, "bg_color": "#e8eef2", "num_format": "@"})
        self.head_beside = book.add_format({"bottom": 1, "font_color": "#666666", "italic": True})
        self.cell = book.add_format({**top, "num_format": "@", "text_wrap": True})
        self.beside = book.add_format({**top, "font_color": "#666666", "text_wrap": True})
        self.number = book.add_format({**top, "font_color": "#666666", "num_format": "#,##0"})
        self.found = book.add_format({**top, "font_color": "#8a2f14", "text_wrap": True})
        self.found_of_all = book.add_format({"font_color": "#8a2f14"})
        self.centred = book.add_format({**top, "font_color": "#666666", "align": "center"})
        self.link = book.get_default_url_format()
        self.lists: dict[
            tuple[str, ...], int
        ] = {}  # by classes the column of the hidden sheet that holds them

    def list_tables(self, rules: RulesOut, sheets: dict[str, str]) -> None:
        """Write the sheet that lists the tables, and what is said of each as a whole."""
        sheet = self.book.add_worksheet(TABLES_SHEET)
        sheet.write_string(0, 0, rules.book or "Rules", self.title)
        for row, said in enumerate(_HOW, 1):
            sheet.write_string(row, 0, said)
        words = list(dict.fromkeys(word for table in rules.tables for word, _ in table.facts))
        heads = ["table", "title", "rows", *words, FOUND]
        for at, head in enumerate(heads):
            sheet.write_string(4, at, head, self.head)
        for row, table in enumerate(rules.tables, 5):
            sheet.write_url(row, 0, f"internal:'{sheets[table.name]}'!A1", self.link, table.name)
            sheet.write_string(row, 1, table.title, self.plain)
            sheet.write_number(row, 2, len(table.records), self.number)
            for at, word in enumerate(words, 3):
                sheet.write_string(row, at, dict(table.facts).get(word, ""), self.plain)
            n_found = sum(map(bool, table.found))
            rows = f"{count(n_found, 'row')} with findings" if n_found else ""
            said_of_all = "\n".join(filter(None, [table.why_not, rows, *table.found_of_all]))
            sheet.write_string(row, len(heads) - 1, said_of_all, self.found)
            texts = [(table.title, 28), *((text, 26) for _, text in table.facts), (said_of_all, 60)]
            sheet.set_row(row, _height(texts))
        sheet.set_column(0, 0, 20)
        sheet.set_column(1, 1, 28)
        sheet.set_column(2, 2, 7)
        sheet.set_column(3, len(heads) - 2, 26)
        sheet.set_column(len(heads) - 1, len(heads) - 1, 60)
        sheet.freeze_panes(5, 1)
        sheet.set_landscape()
        sheet.fit_to_pages(1, 0)

    def write_table(self, one: TableOut, name: str) -> None:
        """Write a table: its rows as texts, and beside them the comment, the rows of data and what was found."""
        sheet = self.book.add_worksheet(name)
        sheet.write_string(0, 0, one.title or one.name, self.title)
        above = "; ".join([*([f"for reading only: {one.why_not}"] if one.why_not else []), *one.found_of_all])
        sheet.write_string(1, 0, above, self.found_of_all)
        heads = [ROW, *one.headings]
        beside: list[tuple[str, int]] = []
        if any(one.comments):
            beside.append((COMMENT, 30))
        if one.counts is not None:
            beside.append((COUNT, 12))
        beside.append((FOUND, 60))
        top = HEADINGS_ROW - 1
        for at, head in enumerate(heads):
            sheet.write_string(top, at, head, self.head if at else self.head_beside)
        for at, (head, width) in enumerate(beside, len(heads)):
            sheet.write_string(top, at, head, self.head_beside)
            sheet.set_column(at, at, width)
        sheet.set_column(0, 0, 6)
        for at, head in enumerate(one.headings, 1):
            longest = max((len(record[at - 1]) for record in one.records[:2_000]), default=0)
            width = min(_WIDEST, max(_NARROWEST, len(head) + 3, longest + 2))
            sheet.set_column(at, at, width, self.cell)
        for number, record in enumerate(one.records, 1):
            self._write_row(sheet, top + number, one, number, record, beside)
        first, last = top + 1, top + len(one.records) + (0 if one.why_not else _ROWS_MORE)
        for at, head in enumerate(one.headings, 1):
            if head in one.classes and len(one.records):
                self._offer_classes(sheet, one, head, (first, at, last, at))
        sheet.freeze_panes(top + 1, 1)
        if one.records:
            sheet.autofilter(top, 0, top + len(one.records), len(heads) + len(beside) - 1)
        sheet.set_landscape()
        sheet.fit_to_pages(1, 0)
        sheet.repeat_rows(top)

    def _write_row(
        self,
        sheet: Any,
        row: int,
        one: TableOut,
        number: int,
        record: tuple[str, ...],
        beside: list[tuple[str, int]],
    ) -> None:
        sheet.write_number(row, 0, number, self.centred)
        for at, text in enumerate(record, 1):
            sheet.write_string(row, at, f":{text}" if text.startswith("=") else text, self.cell)
        for at, (head, _) in enumerate(beside, len(record) + 1):
            if head == COMMENT:
                sheet.write_string(row, at, one.comments[number - 1], self.beside)
            elif head == COUNT and one.counts is not None and number <= len(one.counts):
                sheet.write_number(row, at, one.counts[number - 1], self.number)
            elif head == FOUND and one.found[number - 1]:
                sheet.write_string(row, at, one.found[number - 1], self.found)
        texts = [
            *((text, _WIDEST) for text in record),
            (one.comments[number - 1], 30),
            (one.found[number - 1], 60),
        ]
        sheet.set_row(row, _height(texts))

    def _offer_classes(self, sheet: Any, one: TableOut, head: str, cells: tuple[int, int, int, int]) -> None:
        """Let cells choose from the classes of an output, and show these in their colours."""
        offered = one.classes[head]
        column = self.lists.setdefault(offered.classes, len(self.lists))
        letters = column_letters(column + 1)
        sheet.data_validation(
            *cells,
            {
                "validate": "list",
                "source": f"={CLASSES_SHEET}!${letters}$1:${letters}${len(offered.classes)}",
                "error_type": "information",
                "error_title": "a new class",
                "error_message": f"{head} has no class of that name so far.",
            },
        )
        for text, colour in offered.colours.items():
            paint = self.book.add_format({"bg_color": colour, "font_color": ink_on(colour)})
            shown = text.replace('"', '""')
            told = {"type": "cell", "criteria": "==", "value": f'"{shown}"', "format": paint}
            sheet.conditional_format(*cells, told)

    def write_classes(self) -> None:
        """Write the hidden sheet that holds the lists to choose from."""
        if not self.lists:
            return
        sheet = self.book.add_worksheet(CLASSES_SHEET)
        for classes, column in self.lists.items():
            for row, text in enumerate(classes):
                sheet.write_string(row, column, text)
        sheet.hide()
