"""What a source of data is, and a target, whatever their format."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any, Protocol

import pyarrow as pa

from kivvet.core.read.fields_read import FieldsRead
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.files import FileMarks, FileState, state_of


@dataclass(frozen=True, slots=True)
class ReadOptions:
    """How text is to be read; formats that are not text have no use for it.

    Attributes
    ----------
    encoding : str
        A file that begins with the mark of UTF-16 or UTF-32 is read as that.
    delimiter : str or None
        None: as the first line says (``sep=;``), else as the name of the file says.
    headings_on_line : int or None
        The line of the headings, counted from 1; what stands above is left out. None: the first, unless `headings`
        are given.
    headings : tuple of str
        The headings, where the file has none, or others than it has.
    quote : str
        What stands around fields that hold a delimiter.
    decimal, thousands : str
        What stands before the decimals of numbers, and between groups of three digits (empty: nothing).
    skip_below_headings, skip_last : int
        Lines that are no data: right below the headings, such as units, and the last ones, such as footnotes; blank lines
        do not count.
    skip_blank : bool
        Whether rows in which all fields are blank are left out.
    leave_out : str
        A condition over the fields as texts; rows of which it is true are left out: totals, repeated headings.
    sheet : tuple of str
        Of a workbook, the names or patterns of the sheets that are read, one below the other. None: the only one.
    cells : str
        Of a workbook, where the table lies: cells such as ``B3:H90``, columns such as ``B:H``, or the name of a range.
    sheet_column : str or None
        The column that holds the name of the sheet of each row.
    """

    encoding: str = "utf-8"
    delimiter: str | None = None
    headings_on_line: int | None = None
    headings: tuple[str, ...] = ()
    quote: str = '"'
    decimal: str = "."
    thousands: str = ""
    skip_below_headings: int = 0
    skip_last: int = 0
    skip_blank: bool = False
    leave_out: str = ""
    sheet: tuple[str, ...] = ()
    cells: str = ""
    sheet_column: str | None = None

    def said(self) -> dict[str, Any]:
        """Return what has to be said, as plain values: what is not as it is by default."""
        plain = type(self)()
        found = {one.name: getattr(self, one.name) for one in fields(self)}
        return {
            name: (value[0] if name == "sheet" and len(value) == 1 else list(value))
            if isinstance(value, tuple)
            else value
            for name, value in found.items()
            if value != getattr(plain, name)
        }

    @property
    def lines_above(self) -> int:
        """How many lines stand above the headings, or above the rows where the file has no headings."""
        return (self.headings_on_line or 1) - 1

    @property
    def has_heading_line(self) -> bool:
        """Whether a line of the file holds headings."""
        return not self.headings or self.headings_on_line is not None


#: A file read as its name says.
AS_IT_SAYS = ReadOptions()


@dataclass(frozen=True, slots=True)
class WriteOptions:
    """How text is to be written; formats that are not text have no use for it. Fields of a source's text stay as they
    were: it is what has a type that is written so.

    Attributes
    ----------
    delimiter : str or None
        None: as the name of the file says.
    encoding : str
    decimal : str
    dates, times : str
        Patterns in the notation of POSIX `strftime`; empty: ISO 8601.
    """

    delimiter: str | None = None
    encoding: str = "utf-8"
    decimal: str = "."
    dates: str = ""
    times: str = ""


#: A file written as its name says, and values as Kivvet writes them.
AS_IT_IS_NAMED = WriteOptions()


@dataclass(frozen=True, slots=True)
class PartState:
    """What one of the files of a source was when it was read: its name, its hash, and its rows."""

    name: str
    hash: str
    rows: int | None


@dataclass(frozen=True, slots=True)
class SourceNote:
    """Something about a file that was read all the same: what, where, what would set it right, and the kind of finding."""

    message: str
    place: Place
    fix: str
    kind: str = "headings"


@dataclass(frozen=True, slots=True)
class GrownFrom:
    """What a source was once.

    Attributes
    ----------
    hash : str
        Of its bytes.
    size, rows : int
        Its bytes, and its rows.
    parts : tuple of PartState
        Of a source of many files, what each was.
    """

    hash: str
    size: int
    rows: int
    parts: tuple[PartState, ...] = ()


class Origin(Protocol):
    """Where the file of a source was copied from, which tells whether it is still what it was."""

    def identity(self) -> FileState:
        """Return what tells its content from any other."""

    def marks(self) -> FileMarks | None:
        """Return the marks that change when the content does; None where it is not there any more."""


class Source(ABC):
    """A file of data, opened: its columns are known, its rows are read in batches as often as they are asked
    for.

    Attributes
    ----------
    path : Path
    schema : mapping of str to (pyarrow.DataType or None)
        The type of each column; None: text, whose type is still to be decided.
    stored_schema : pyarrow.Schema or None
        As the file itself holds it, for formats that have types.
    notes : sequence of SourceNote
    untyped : frozenset of str
        Columns that hold no value, by what was looked at, so that the file says no type of them.
    may_be_floating : frozenset of str
        Columns of whole numbers that the file holds as floating ones: they are whole by what stands in them alone.
    can_tell : bool
        Whether what tells its content from any other is known without reading all of it each time; if not, it may have
        changed at any time.
    origin : Origin or None
        Of a copy, where it comes from.
    """

    path: Path
    origin: Origin | None = None
    schema: Mapping[str, pa.DataType | None]
    stored_schema: pa.Schema | None = None
    notes: Sequence[SourceNote] = ()
    untyped: frozenset[str] = frozenset()
    may_be_floating: frozenset[str] = frozenset()
    can_tell: bool = True

    def rows_left_out(self) -> Mapping[str, int]:
        """Return the rows of the file that are no data, by why they are left out; they are read for it, unless all were."""
        return {}

    @property
    def headings(self) -> Sequence[str]:
        """The headings as they stand in the file; the names of columns may be plainer, and are each there once."""
        return self.names

    @property
    def names(self) -> list[str]:
        """The columns, in order."""
        return list(self.schema)

    @property
    def is_text(self) -> bool:
        """Whether the types of its columns are still to be decided."""
        return self.stored_schema is None

    @property
    def shown_name(self) -> str:
        """The source as messages name it."""
        return shown_path(self.path)

    @abstractmethod
    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        """Yield the rows in order as batches; the columns of `names`, or all.

        Raises
        ------
        DataError
            With the place, where rows cannot be read.
        """

    def place_of_row(self, row: int) -> Place:
        """Return the place of a row, counted from 1, the headings left out."""
        return Place(self.shown_name, self.line_of_row(row))

    def line_of_row(self, row: int) -> int | None:
        """Return the line on which a row begins; None where rows stand on no lines."""
        return None

    def identity(self) -> FileState:
        """Return what tells its content from any other; `UnopenableError` if it cannot be read."""
        return state_of(self.path) if self.origin is None else self.origin.identity()

    def n_rows(self) -> int:
        """Return how many rows there are; they are read for it."""
        return sum(batch.num_rows for batch in self.batches(self.names[:1]))

    def rows_since(self, then: GrownFrom) -> Source | None:
        """Return the rows that came at the end since, as a source of their own; None where it is not certain that all
        rows of then stand before them as they were.
        """
        return None

    def as_it_was(self, identity: str) -> Source | None:
        """Return what it held when it had an identity; None where that is not kept."""
        return None

    def in_parts(self) -> list[Source] | None:
        """Return what can be read apart, in order, each a source with the same columns that may be sent to another process;
        None where that is not possible.
        """
        return None

    def state_of_part(self) -> FileState:
        """Return of one of the parts what `of_states` takes."""
        return self.identity()

    def of_states(self, states: Sequence[FileState]) -> FileState:
        """Return the identity of what was read in parts, from those of the parts."""
        return states[0]

    def part_states(self) -> list[PartState]:
        """Return of a source of many files what each is; rows that were not read yet are counted."""
        return []

    def marks(self) -> FileMarks | None:
        """Return the marks that change when the content does; None where there is no such file any more."""
        return FileMarks.of(self.path) if self.origin is None else self.origin.marks()

    def as_said(self, fields: FieldsRead) -> Source:
        """Return the source, some columns of which are read as their types say, where it alone knows how: numbers of a
        sheet as the dates or codes that they stand for.
        """
        return self

    def options_that_fit(self, *deciding: str) -> str:
        """Return the options with which a text could be read, where one of those that decide differs; else nothing."""
        return ""

    def encoded(self) -> Encoded | None:
        """Return the columns as the file encodes them; None where a target cannot take them over."""
        return None

    def holds_no_empty_text(self, name: str) -> bool:
        """Whether it is certain, without reading it, that no field of a column of text is without characters."""
        return False

    def with_codes(self, names: Collection[str]) -> Source:
        """Return the source, texts of those of some columns that the file holds as codes into their different values as
        just that: they are read and looked up sooner.
        """
        return self

    def with_types(self, kinds: Mapping[str, pa.DataType]) -> Source:
        """Return the source, some columns of which the file says no type as those that others say."""
        return self

    def with_numbers(self, kinds: Mapping[str, pa.DataType]) -> Source:
        """Return the source, the fields of some columns of text as numbers from the start, which is sooner done; from a
        batch on in which one is none, they are texts.

        Parameters
        ----------
        kinds : mapping of str to DataType
            By column: 64 bits, whole or floating. A field without characters is null.
        """
        return self

    def empty_batch(self) -> pa.RecordBatch:
        """Return a batch without rows."""
        schema = self.stored_schema or pa.schema([(name, pa.string()) for name in self.names])
        return pa.RecordBatch.from_arrays([pa.nulls(0, field.type) for field in schema], schema=schema)


#: Under this key the metadata of a field tells the colours of its classes, as JSON, to targets that show them.
COLOURS = b"kivvet_colours"

#: Given the hash of what was written, returns the record to be kept with it, as plain values.
Seal = Callable[[str], Mapping[str, Any]]


class TellsSince(ABC):
    """A source that knows itself what became of it."""

    @abstractmethod
    def said_since(self, then: GrownFrom) -> str:
        """Return how it differs from what it was, in words."""


class Target(ABC):
    """A file that is being written beside the one that it will replace."""

    @abstractmethod
    def write(self, columns: Sequence[pa.Array]) -> None:
        """Write one batch, a column an array."""

    def begin_later(self, schema: pa.Schema) -> None:
        """Go on with columns that were not begun with, again from the first row; of formats that say they take them (`Format`).

        Parameters
        ----------
        schema : pyarrow.Schema
            Of all columns, in order.
        """
        raise NotImplementedError

    @abstractmethod
    def commit(self, seal: Seal) -> None:
        """Finish the file, and write the record of how it was made where the format keeps it."""

    @abstractmethod
    def abandon(self) -> None:
        """Let go of the file as it is; it will not be used."""


class Encoded(ABC):
    """The columns of a file as it encodes them."""

    @abstractmethod
    def begin(self, path: Path, schema: pa.Schema, taken_over: Collection[str]) -> Target:
        """Return a target of the same format that takes over some columns, so that only the others are written."""
