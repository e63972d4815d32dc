"""Editing the rows of a table of a book in code: its file is changed line by line, and checked before it is written."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from kivvet.books.files.row_edits import RowEdit
from kivvet.books.files.table_files import TableFiles
from kivvet.books.runs.table_findings import new_errors
from kivvet.books.runs.target_lock import locked
from kivvet.core.tables.table import UNFINISHED, Table
from kivvet.core.words.conditions import AllOf, AnyOf, Condition, Equals, Negation
from kivvet.core.words.errors import BookError, TableError
from kivvet.core.words.values import write_value
from kivvet.core.words.wording import did_you_mean, listed
from kivvet.rule_table import RuleTable, rule_table

if TYPE_CHECKING:
    from types import TracebackType

    from kivvet.books.files.open_book import OpenBook


class TableEdit:
    """An edit of a table's rows. It is made by `Book.edit`; nothing is written before `save`.

    Rows are named by their numbers, from 1, as they stand after the edits made so far. Used in a ``with`` statement it
    is saved at the end, unless an error ends the block.

    Attributes
    ----------
    left : tuple of str
        What still names the classes that were renamed, in words: the order and the meaning of an output, examples, rows of
        tables that read it, formulas. They are not changed.
    """

    def __init__(self, book: OpenBook, name: str) -> None:
        book.table(name)
        path = book.file_of_table(name)
        self._files = self._first = TableFiles.read(path)
        self._folder, self._book = book.folder, book
        self.left: tuple[str, ...] = ()

    def __repr__(self) -> str:
        return f"<TableEdit: {self.table!r}, {'changed' if self.difference else 'as it was'}>"

    def __enter__(self) -> TableEdit:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if kind is None:
            self.save()

    @property
    def table(self) -> RuleTable:
        """The table as it would be."""
        return rule_table(self._files.table)

    @property
    def difference(self) -> str:
        """What would change in the file, in the unified form; empty where nothing would."""
        return self._files.difference(self._first, "edited")

    def set(self, row: int, cells: Mapping[str, Any]) -> TableEdit:
        """Write cells of a row anew, by input, output or ``when``; return the edit.

        Raises
        ------
        BookError
            If there is no such row or column, or the cell cannot be read then.
        """
        self._files.need_row(row)
        self._files = self._files.with_edits({row: RowEdit(self._files.known(cells))})
        return self

    def add(self, cells: Mapping[str, Any], *, at: int | None = None) -> TableEdit:
        """Add a row, at the end or at a place; cells that are not named are blank. Return the edit.

        Raises
        ------
        BookError
            If there is no such column, or the row cannot be read then.
        """
        self._files = self._files.with_row(self._files.known(cells))
        n_rows = self._files.table.n_rows
        return self if at is None or at == n_rows else self.move(n_rows, at)

    def remove(self, row: int) -> TableEdit:
        """Take a row out, with its comment; return the edit.

        Raises
        ------
        BookError
            If there is no such row.
        """
        self._files.need_row(row)
        self._files = self._files.with_edits({row: RowEdit()})
        return self

    def move(self, row: int, to: int) -> TableEdit:
        """Move a row to another place, its comment with it; return the edit.

        Raises
        ------
        BookError
            If there is no such row or place, or rows share a line of the file.
        """
        self._files.need_row(row)
        self._files.need_row(to)
        self._files = self._files.with_row_moved(row, to)
        return self

    def rename(self, output: str, before: Any, after: Any) -> TableEdit:
        """Give a class another name in all rows; return the edit. What else names it, `left` says.

        Raises
        ------
        BookError
            If there is no such output, or no row gives the class.
        """
        table = self._files.table
        names = [output.name for output in table.outputs]
        if output not in names:
            raise BookError(
                f"table {table.name} has no output {output!r}",
                expected=f"one of: {listed(names)}",
                fix=did_you_mean(output, names),
            )
        rows = _rows_of_class(table, names.index(output), before)
        if not rows:
            classes = [write_value(one) for one in table.classes(table.outputs[names.index(output)])]
            raise BookError(
                f"no row of table {table.name} gives {output} = {before}",
                expected=f"one of: {listed(classes)}",
                fix=did_you_mean(str(before), classes),
            )
        self.left = (*self.left, *_left_behind(self._book, table, output, str(before)))
        cells = self._files.known({output: after})
        self._files = self._files.with_edits({number: RowEdit(cells) for number in rows})
        return self

    def save(self, *, with_errors: bool = False) -> str:
        """Write the file, atomically, and return what changed in it; nothing is written where nothing changed.

        Parameters
        ----------
        with_errors : bool
            Whether it is written although the table has errors then that it had not before.

        Raises
        ------
        TableError
            With the errors that the edits would bring.
        BookError, OutputError
            If something else changed the file since it was read, or it cannot be written.
        """
        difference = self.difference
        if not difference:
            return ""
        if not with_errors and (errors := new_errors(self._files.table, self._first.table)):
            raise TableError(
                [self._files.placed(error) for error in errors],
                where=f"the edited table {self._files.table.name}, which was not written",
            )
        with locked(self._folder, self._files.file):
            self._files.write()
        self._files = self._first = TableFiles.read(self._files.path)
        return difference


def _left_behind(book: OpenBook, table: Table, output: str, label: str) -> list[str]:
    """Return what names a class of a table besides its rows."""
    about = table.output(output)
    said = []
    if label in about.order and about.ordered_by is None:
        said.append(f"order of {output} in {table.name}")
    if label in about.meaning:
        said.append(f"meaning of {output} in {table.name}")
    numbers = [
        number
        for number, example in enumerate(table.examples, 1)
        if str(example.expected.get(output)) == label
    ]
    said += [f"example {listed(numbers)} of {table.name}"] if numbers else []
    ends = [word for word in ("otherwise", "missing") if str(getattr(table, word).get(output)) == label]
    said += [f"{word} of {table.name}" for word in ends]
    for name, other in book.tables.items():
        inputs = [place for place, input_ in enumerate(other.inputs) if input_.name == output]
        rows = [
            row.number
            for row in other.rows
            if any(label in _texts_of(row.conditions[place]) for place in inputs) or f"'{label}'" in row.when
        ]
        said += [f"{'row' if len(rows) == 1 else 'rows'} {listed(rows, 6)} of table {name}"] if rows else []
    quoted = "'" + label.replace("'", "''") + "'"
    said += [f"formula {name}" for name, one in book.formulas.items() if quoted in one.text]
    said += [
        f"where of dataset {name}"
        for name, one in book.datasets.items()
        if one.where and quoted in one.where.text
    ]
    return said


def _texts_of(condition: Condition) -> set[str]:
    if isinstance(condition, Equals):
        return {str(condition.value)}
    if isinstance(condition, (AnyOf, AllOf)):
        return {text for part in condition.parts for text in _texts_of(part)}
    return _texts_of(condition.part) if isinstance(condition, Negation) else set()


def _rows_of_class(table: Table, position: int, label: Any) -> list[int]:
    if table.lookup is not None:
        values = table.lookup.results[position].to_pylist()
        return [
            number for number, value in enumerate(values, 1) if value is not None and str(value) == str(label)
        ]
    return [
        row.number
        for row in table.rows
        if row.results[position] is not UNFINISHED and str(row.results[position]) == str(label)
    ]
