"""Sheets of a workbook as a source: a table is found on each, its columns keep the types of their cells."""

from __future__ import annotations

import copy
import datetime as dt
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.field_form import field_of
from kivvet.core.read.fields_read import AS_IT_STANDS, FieldsRead
from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place, cell_name
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import count, listed
from kivvet.io.headings import names_of_headings
from kivvet.io.left_out import Sieve, told
from kivvet.io.sheet_table import SheetTable, table_on
from kivvet.io.source_and_target import AS_IT_SAYS, ReadOptions, Source, SourceNote
from kivvet.io.workbook_cells import CellRange, Workbook, cell_text

_ROWS_A_BATCH = 1 << 17
_WHOLE = 1 << 53  # up to which every whole number is a float of its own
_EPOCH, _EPOCH_OF_1904 = dt.datetime(1899, 12, 30), dt.datetime(1904, 1, 1)
_LAST_SERIAL = 2_958_465  # the last day of the year 9999
_KINDS = {str: "text", float: "number", int: "number", bool: "boolean", dt.date: "date", dt.datetime: "date"}
_SAID = {"text": "text", "number": "a number", "boolean": "true or false", "date": "a date", "time": "a time"}
_MOST_TOLD = 4


class WorkbookSource(Source):
    """Sheets of a workbook, one below the other; columns have the types of their cells.

    A column of texts is text, whatever they look like; one of numbers alone is of numbers, whole ones where all are. Where
    cells of several kinds stand in one column they are texts as Kivvet writes values, which is noted.

    Parameters
    ----------
    path : Path
    options : ReadOptions

    Raises
    ------
    DataError
        If it cannot be read, there is more than one sheet to choose from, or the headings are not usable.
    """

    def __init__(self, path: Path, options: ReadOptions = AS_IT_SAYS) -> None:
        self.path, self.options = path, options
        self.fields: FieldsRead = AS_IT_STANDS
        self.workbook = Workbook(path)
        self.sieve = Sieve(options.leave_out)
        self._told: list[SourceNote] = []
        self.tables = [self._table(sheet, within) for sheet, within in self._sheets()]
        own = list(dict.fromkeys(name for table in self.tables for name in table.names))
        self._tell_uneven(own)
        if options.sheet_column is not None and options.sheet_column in own:
            raise DataError(
                f"a column is named {options.sheet_column!r} already",
                place=self.workbook.place(),
                fix="give the column of the sheet another name",
            )
        self._all = {name: self._values_of(name) for name in own}
        self._tell()
        self._make()

    # What is read.

    def _sheets(self) -> list[tuple[str, CellRange | None]]:
        """Return the sheets that are read, each with the range within it."""
        book, options = self.workbook, self.options
        sheet, within = book.range_of(options.cells) if options.cells else (None, None)
        if options.sheet:
            chosen = book.chosen(options.sheet)
            if sheet is not None and chosen != [sheet]:
                raise DataError(
                    f"cells = {options.cells!r} is on sheet {sheet!r}, and sheet names {listed(map(repr, chosen))}",
                    place=book.place(),
                    fix="leave one of them out",
                )
            return [(one, within) for one in chosen]
        if sheet is not None:
            return [(book.chosen([sheet])[0], within)]
        filled = list(book.visible or book.sheets)
        if len(filled) > 1:
            filled = [name for name in filled if book.cells(name).rows] or filled
        if len(filled) > 1:
            raise DataError(
                f"has {count(len(filled), 'sheet')}, and it is not said which is read",
                place=book.place(),
                expected=f"one or some of: {listed(map(repr, book.sheets), 20)}",
                fix=f'say it: sheet = "{filled[0]}", or a list or a pattern of them',
            )
        if not filled:
            raise DataError("has no sheet of cells", place=book.place())
        return [(filled[0], within)]

    def _table(self, sheet: str, within: CellRange | None) -> SheetTable:
        cells = self.workbook.cells(sheet, within)
        table = table_on(cells, self.options, self.workbook)
        table.names, notes = names_of_headings(
            table.headings, self.workbook.place(sheet, table.line), table.line
        )
        self._told += notes
        self.sieve.check(table.names, self.workbook.place(sheet, table.line))
        if self.sieve and table.rows:
            texts = {
                name: pa.array([cell_text(value) for value in table.values(name)], pa.string())
                for name in self.sieve.reads
            }
            batch = pa.RecordBatch.from_arrays(list(texts.values()), names=list(texts))
            stays, table.left_out = self.sieve.split(batch, table.names)
            table.rows = [row for row, one in zip(table.rows, stays, strict=True) if one]
            table.numbers = [row for row, one in zip(table.numbers, stays, strict=True) if one]
        return table

    def _values_of(self, name: str) -> list[Any]:
        if len(self.tables) == 1:
            return self.tables[0].values(name)
        return [value for table in self.tables for value in table.values(name)]

    # What is told of it.

    def _note(self, message: str, place: Place, fix: str = "", kind: str = "sheet") -> None:
        self._told.append(SourceNote(message, place, fix, kind))

    def _tell_uneven(self, own: Sequence[str]) -> None:
        for table in self.tables:
            if lacking := [name for name in own if name not in table.names]:
                self._note(
                    f"sheet {table.cells.name!r} has no column {listed(lacking)}, which other sheets have: missing in its rows",
                    self.workbook.place(table.cells.name),
                    "name the columns alike on all sheets, or leave the sheet out",
                    "uneven",
                )

    def _tell(self) -> None:
        book = self.workbook
        for table in self.tables:
            place = book.place(table.cells.name)
            traps = table.cells.traps
            if traps.hidden_rows or traps.hidden_columns:
                said = [
                    count(number, what)
                    for number, what in ((traps.hidden_rows, "row"), (traps.hidden_columns, "column"))
                    if number
                ]
                is_one = traps.hidden_rows + traps.hidden_columns == 1
                self._note(
                    f"{' and '.join(said)} of sheet {table.cells.name!r} {'is' if is_one else 'are'} hidden, and read like the others",
                    place,
                    "take out what is no data, or say so: leave_out",
                )
            if merged := [one for one, row in table.cells.filled.items() if row >= table.line]:
                cells = listed(merged, 4)
                self._note(f"merged cells are filled with the value of the first: {cells}", place)
            if table.cells.name in book.hidden:
                self._note(f"sheet {table.cells.name!r} is hidden, and read", place)
            self._tell_shown(table)
        if book.traps.has_macros:
            self._note("the workbook holds programs (macros), which are not run", book.place())
        if book.traps.has_links:
            self._note(
                "the workbook takes values from other files: they are read as it was last saved", book.place()
            )
        if not book.traps.is_complete:
            self._note(
                f"errors, and formulas without values, are blank cells in {self.path.suffix}",
                book.place(),
                "save it as .xlsx or .ods, where they are told",
            )

    def _tell_shown(self, table: SheetTable) -> None:
        """Tell how numbers of columns are shown, where that is not as they are."""
        for name, column in zip(table.names, table.columns, strict=True):
            shown = table.cells.traps.shown.get(table.cells.left + column, Counter())
            if not shown:
                continue
            (how, digits), _ = shown.most_common(1)[0]
            at = column
            first = next((row[at] for row in table.rows if isinstance(row[at], (int, float))), None)
            if not how or first is None:
                continue
            place = self.workbook.place(table.cells.name)
            what = f"column {name!r} ({table.letters(name)})"
            if how == "percent":
                self._note(
                    f"{what} is shown in percent: {cell_text(round(first * 100, 10))} % is read as {cell_text(first)}",
                    place,
                )
            elif how == "currency":
                self._note(
                    f"{what} is shown as money: numbers are read, such as {cell_text(first)}, and no currency",
                    place,
                )
            else:
                code = cell_text(first).zfill(digits)
                self._note(
                    f"{what} holds numbers that are shown with {digits} digits: {code} is {cell_text(first)}",
                    place,
                    f'to read codes: types = {{ {name} = "text" }}',
                )

    def _mixed(self, name: str) -> list[SourceNote]:
        """Return what is to be told of cells of another kind than the most of their column."""
        if len({_kind_of(one) for one in self._kinds[name]}) < 2:
            return []
        counts = Counter(_kind_of(type(value)) for value in self._values[name] if value is not None)
        usual = counts.most_common(1)[0][0]
        odd = [
            (row, value)
            for row, value in enumerate(self._values[name])
            if value is not None and _kind_of(type(value)) != usual
        ]
        row, value = odd[0]
        place = self._place(row, name)
        shown = repr(value) if isinstance(value, str) else cell_text(value)
        number = counts[usual]
        fix = (
            "write them as text in the sheet too: as numbers they lost their leading zeros"
            if usual == "text"
            else f'correct them, or say what the column is: types = {{ {name} = "{usual}" }}, and words for missing in missing_words'
        )
        message = (
            f"column {name!r} holds {_SAID.get(usual, usual)} in {count(number, 'cell')}, and something else in "
            f"{len(odd):,}, such as {shown} in {cell_name(place.line or 1, place.column)}: all are read as text"
        )
        return [SourceNote(message, place, fix, "mixed-cells")]

    # Columns of types.

    def _make(self) -> None:
        """Make the columns, as the cells and what is said of them have it."""
        self._values = {
            name: _without_words(values, self.fields.words_of(name)) for name, values in self._all.items()
        }
        self._kinds = {name: set(map(type, values)) - {type(None)} for name, values in self._values.items()}
        self.notes = [*self._told, *(note for name in self._kinds for note in self._mixed(name))]
        arrays = {name: self._array(name) for name in self._values}
        if self.options.sheet_column is not None:
            names = [table.cells.name for table in self.tables for _ in table.rows]
            arrays[self.options.sheet_column] = pa.array(names, pa.string())
        self._rows = pa.table(arrays)
        self.stored_schema: pa.Schema = self._rows.schema
        self.schema = dict(zip(self.stored_schema.names, self.stored_schema.types, strict=True))
        self.untyped = frozenset(name for name, kinds in self._kinds.items() if not kinds)
        self.may_be_floating = frozenset(name for name, kinds in self._kinds.items() if kinds <= {int, float})

    def _array(self, name: str) -> pa.Array:
        values, kinds = self._values[name], self._kinds[name]
        said = self.fields.types.get(name)
        if not kinds:
            return pa.nulls(len(values), pa.string())
        if said == "text" and kinds <= {int, float, bool}:
            return self._codes(name)
        if said in ("date", "datetime") and kinds <= {int, float}:
            return self._moments(name, said)
        if kinds == {str}:
            return pa.array(values, pa.string())
        if kinds == {bool}:
            return pa.array(values, pa.bool_())
        if kinds <= {int, float}:
            array = pa.array(values, pa.float64())
            is_whole = pc.and_(pc.equal(pc.trunc(array), array), pc.less_equal(pc.abs(array), _WHOLE))
            are_whole = pc.all(is_whole).as_py() and said not in ("number", "decimal")
            return array.cast(pa.int64()) if are_whole else array
        if kinds == {dt.date} and said != "datetime":
            return pa.array(values, pa.date32())
        if kinds <= {dt.date, dt.datetime}:
            moments = [
                value
                if value is None or isinstance(value, dt.datetime)
                else dt.datetime(value.year, value.month, value.day)
                for value in values
            ]
            return pa.array(moments, pa.timestamp("us"))
        form = self.fields.form_of(name)
        return pa.array(
            [None if value is None else _written(value, said, form) for value in values], pa.string()
        )

    def _codes(self, name: str) -> pa.Array:
        """Return numbers as the texts that a column of codes shows: with the zeros that its format puts before them."""
        digits = 0
        for table in self.tables:
            if name in table.names:
                column = table.cells.left + table.columns[table.names.index(name)]
                shown = table.cells.traps.shown.get(column, Counter())
                how, width = shown.most_common(1)[0][0] if shown else ("", 0)
                digits = max(digits, width if how == "zeros" else 0)
        return pa.array(
            [None if one is None else cell_text(one).zfill(digits) for one in self._values[name]], pa.string()
        )

    def _moments(self, name: str, kind: ValueType) -> pa.Array:
        """Return serial numbers of days as the days or times that they stand for."""
        odd = next(
            (
                row
                for row, one in enumerate(self._values[name])
                if one is not None and not 1 <= one <= _LAST_SERIAL
            ),
            None,
        )
        if odd is not None:
            raise DataError(
                f"{cell_text(self._values[name][odd])} is no number of a day",
                place=self._place(odd, name),
                expected=f"1 to {_LAST_SERIAL:,}, as sheets count days",
                fix=f"correct it, or leave {name} out of types",
            )
        epoch = _EPOCH_OF_1904 if self.workbook.traps.is_of_1904 else _EPOCH
        moments = [
            None if one is None else epoch + dt.timedelta(milliseconds=round(one * 86_400_000))
            for one in self._values[name]
        ]
        if kind == "date":
            return pa.array([None if moment is None else moment.date() for moment in moments], pa.date32())
        return pa.array(moments, pa.timestamp("us"))

    def as_said(self, fields: FieldsRead) -> WorkbookSource:
        """Return the source, its columns as their types say: numbers as codes, serial numbers as dates."""
        if not any(name in self._all for name in fields.types) and not any(map(fields.words_of, self._all)):
            return self
        made = copy.copy(self)
        made.fields = fields
        made._make()
        return made

    # What a source gives.

    @property
    def headings(self) -> Sequence[str]:
        of_first = dict(zip(self.tables[0].names, self.tables[0].headings, strict=True))
        return [of_first.get(name, name) for name in self.names]

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        wanted = self.names if names is None else list(names)
        rows = self._rows.select(wanted).combine_chunks()
        yield from rows.to_batches(_ROWS_A_BATCH)

    def with_types(self, kinds: Mapping[str, pa.DataType]) -> WorkbookSource:
        for name, kind in kinds.items():
            if name in self._rows.column_names and self._rows.schema.field(name).type != kind:
                at = self._rows.column_names.index(name)
                column = self._rows.column(name)
                made = pa.nulls(len(column), kind) if name in self.untyped else column.cast(kind)
                self._rows = self._rows.set_column(at, name, made)
        self.stored_schema = self._rows.schema
        self.schema = dict(zip(self.stored_schema.names, self.stored_schema.types, strict=True))
        return self

    def n_rows(self) -> int:
        return int(self._rows.num_rows)

    def rows_left_out(self) -> Mapping[str, int]:
        found: Counter[str] = Counter()
        for table in self.tables:
            found.update(table.left_out)
        return told(found)

    def place_of_row(self, row: int) -> Place:
        return self._place(row - 1)

    def _place(self, at: int, name: str | None = None) -> Place:
        for table in self.tables:
            if at < len(table.rows):
                column = None
                if name is not None and name in table.names:
                    column = table.cells.left + table.columns[table.names.index(name)]
                return self.workbook.place(table.cells.name, table.numbers[at], column)
            at -= len(table.rows)
        return self.workbook.place()

    def line_of_row(self, row: int) -> int | None:
        return self.place_of_row(row).line


def _without_words(values: list[Any], words: Sequence[str]) -> list[Any]:
    """Return values of cells, words that mean missing as blank cells."""
    if not words:
        return values
    known = set(words)
    return [None if isinstance(value, str) and value.strip() in known else value for value in values]


def _kind_of(one: type) -> str:
    return _KINDS.get(one, "time")


def _written(value: Any, kind: ValueType | None, form: Any) -> str:
    """Return a cell of a column of several kinds as a field of the type that is said, which is read as its value."""
    if isinstance(value, str):
        return value
    if kind in ("date", "datetime") and isinstance(value, dt.date):
        return field_of(value, form)
    if (
        kind in ("number", "integer", "decimal")
        and isinstance(value, (int, float))
        and not isinstance(value, bool)
    ):
        return cell_text(value).replace(".", form.decimal)
    return cell_text(value)
