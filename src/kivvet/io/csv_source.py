"""CSV and TSV read: text in batches, and where a file is broken."""

from __future__ import annotations

import csv
import gzip
import itertools
import stat
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any, Literal, NoReturn, overload

import pyarrow as pa

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import count, repeated, shown_path
from kivvet.io.csv_records import (
    LONGEST_ROW,
    BrokenRecordError,
    CsvForm,
    LongRowError,
    is_text_encoding,
    records,
)
from kivvet.io.files import unreadable
from kivvet.io.source_and_target import AS_IT_SAYS, ReadOptions, Source

_BLOCK_BYTES = 4 << 20
_LINES_LOOKED_AT = 20  # for headings that do not stand in the first line


class CsvSource(Source):
    """A CSV or TSV file, perhaps compressed with gzip; every field is text until it is converted.

    Parameters
    ----------
    path : Path
    options : ReadOptions
        Without a delimiter: a tab for .tsv, else a comma.

    Raises
    ------
    DataError
        If it cannot be read, is empty, or its headings are not usable.
    """

    def __init__(self, path: Path, options: ReadOptions = AS_IT_SAYS) -> None:
        self.path = path
        self.encoding = options.encoding
        if not is_text_encoding(options.encoding):
            raise DataError(
                f"{options.encoding!r} is no encoding of text",
                place=Place(shown_path(path)),
                fix='for example "utf-8" or "cp1252"',
            )
        suffixes = [suffix.lower() for suffix in path.suffixes]
        self.is_compressed = suffixes[-1:] == [".gz"]
        self.delimiter = options.delimiter or ("\t" if ".tsv" in suffixes else ",")
        lines_above = options.headings_on_line - 1
        self.form = CsvForm(self.delimiter, options.encoding, self.is_compressed, lines_above)
        self.schema: Mapping[str, None] = dict.fromkeys(self._headings())

    @property
    def lines_above(self) -> int:
        return self.form.lines_above

    def _headings(self) -> list[str]:
        try:
            if not stat.S_ISREG(self.path.stat().st_mode):
                self._refuse_special()
            with self.form.open(self.path) as file:
                found = records(file, self.delimiter, first_line=self.lines_above + 1)
                top = list(itertools.islice(found, 1 + _LINES_LOOKED_AT))
        except (OSError, EOFError) as error:
            raise unreadable(self.path, error) from error
        except LongRowError as error:
            raise self._long_row(error.line) from error
        except UnicodeError:
            self._explain()
        except BrokenRecordError as error:
            place = Place(shown_path(self.path), error.line)
            raise DataError(f"not valid CSV: {error}", place=place) from error
        self.has_rows = len(top) > 1
        record = top[0][1] if top else None
        below = [fields for _, fields in top[1:]]
        place = Place(shown_path(self.path), self.lines_above + 1)
        if not record and not below:
            raise DataError(
                "the file is empty", place=place, expected="a line of headings, then one line a row"
            )
        names = [name.strip() for name in record or [""]]
        elsewhere = (
            self._headings_below(names, below) if 2 * names.count("") >= len(names) or len(names) == 1 else ""
        )
        twice = repeated(names)
        if twice:
            raise DataError(
                f"two columns are named {twice[0]!r}",
                place=place,
                expected="headings that differ",
                fix=elsewhere or "rename one of them",
            )
        if "" in names:
            raise DataError(
                f"column {names.index('') + 1} has no heading",
                place=place,
                expected="a heading for each column",
                fix=elsewhere or "name it, or take out the column",
            )
        if elsewhere and len(names) == 1:
            raise DataError(
                f"the first line is {names[0]!r}, and more fields follow below",
                place=place,
                expected="a line of headings, then one line a row",
                fix=elsewhere,
            )
        return names

    def _headings_below(self, names: Sequence[str], below: Sequence[Sequence[str]]) -> str:
        """Return how to point at the headings, where they seem to stand further down; else nothing."""
        widest = max((len(record) for record in below), default=0)
        if len(names) == widest and "" not in names:
            return ""
        for line, record in enumerate(below, self.lines_above + 2):
            fields = [one.strip() for one in record]
            if len(fields) == widest > 1 and all(fields) and len(set(fields)) == widest:
                return f"if the headings stand on line {line}, say so: headings_on_line = {line}"
        return ""

    def _refuse_special(self) -> NoReturn:
        place = Place(shown_path(self.path))
        if self.path.is_dir():
            raise unreadable(self.path, IsADirectoryError())
        raise DataError("is no regular file", place=place, fix="write what it gives to a file first")

    def _long_row(self, line: int | None) -> DataError:
        return DataError(
            f"a row is longer than {LONGEST_ROW:,} characters",
            place=Place(shown_path(self.path), line),
            fix="see that lines end, and that quotes are closed",
        )

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        import pyarrow.csv as arrow_csv

        wanted = self.names if names is None else list(names)
        n_given = 0
        if not self.has_rows:
            return
        if self._n_quotes % 2:  # one may not be closed, and would swallow all that follows
            self._explain(must_fail=False)
        try:
            stream = pa.input_stream(str(self.path), compression="gzip" if self.is_compressed else None)
            reader = arrow_csv.open_csv(
                stream,
                read_options=arrow_csv.ReadOptions(
                    column_names=self.names,
                    skip_rows_after_names=0,
                    block_size=block_bytes or _BLOCK_BYTES,
                    encoding=self.encoding,
                    skip_rows=self._heading_lines(),
                ),
                parse_options=arrow_csv.ParseOptions(
                    delimiter=self.delimiter,
                    newlines_in_values=self._n_quotes > 0,
                    ignore_empty_lines=len(self.names)
                    > 1,  # of one column, a blank line is a row without a value
                ),
                convert_options=arrow_csv.ConvertOptions(
                    column_types={name: pa.string() for name in self.names},
                    include_columns=wanted,
                    strings_can_be_null=False,
                    null_values=[],
                ),
            )
            for batch in reader:
                n_given += batch.num_rows
                yield batch
        except pa.ArrowInvalid as error:
            if "Empty CSV file" in str(error):
                return
            if "straddling" in str(error) and (block_bytes or _BLOCK_BYTES) < LONGEST_ROW:
                yield from self._rest(names, n_given)
                return
            self._explain(error)
        except (OSError, EOFError) as error:
            raise unreadable(self.path, error) from error
        except UnicodeDecodeError:
            self._explain()

    def _rest(self, names: Sequence[str] | None, n_given: int) -> Iterator[pa.RecordBatch]:
        """Yield the rows after the first `n_given`, in blocks in which the longest row fits."""
        for batch in self.batches(names, 2 * LONGEST_ROW):
            passed = min(n_given, batch.num_rows)
            n_given -= passed
            if passed < batch.num_rows:
                yield batch.slice(passed)

    def _heading_lines(self) -> int:
        with self.form.open(self.path) as file:
            reader = csv.reader(file, delimiter=self.delimiter)
            next(reader)
            return self.lines_above + reader.line_num

    @cached_property
    def _n_quotes(self) -> int:
        """How many quotes stand in the file, counted once: only with quotes may a field hold a line end."""
        opener: Any = gzip.open if self.is_compressed else open
        try:
            with opener(self.path, "rb") as file:
                return sum(chunk.count(b'"') for chunk in iter(lambda: file.read(_BLOCK_BYTES), b""))
        except (OSError, EOFError) as error:
            raise unreadable(self.path, error) from error

    def line_of_row(self, row: int) -> int | None:
        with self.form.open(self.path) as file:
            number = -1
            for line, record in records(file, self.delimiter, first_line=self.lines_above + 1):
                if record or len(self.names) == 1:
                    number += 1
                    if number == row:
                        return line
        return None

    @overload
    def _explain(self, error: Exception | None = None, *, must_fail: Literal[True] = True) -> NoReturn: ...
    @overload
    def _explain(self, error: Exception | None = None, *, must_fail: Literal[False]) -> None: ...
    def _explain(self, error: Exception | None = None, *, must_fail: bool = True) -> None:
        """Raise the error that says where the file is broken, having walked it once more."""
        name = shown_path(self.path)
        ragged = []
        try:
            with self.form.open(self.path) as file:
                for line, record in records(
                    file, self.delimiter, first_line=self.lines_above + 1, is_strict=True
                ):
                    if record and len(record) != len(self.names):
                        ragged.append((line, len(record)))
        except UnicodeDecodeError as fault:
            raise DataError(
                f"byte 0x{fault.object[fault.start]:02x} is not {self.encoding}",
                place=self._place_of_bad_byte(),
                expected=f"text in {self.encoding}",
                fix='save the file as UTF-8, or say which encoding it has, such as encoding = "cp1252"',
            ) from None
        except UnicodeError as fault:
            raise DataError(
                f"is not {self.encoding}: {fault}",
                place=Place(name),
                fix="say which encoding it has",
            ) from None
        except LongRowError as fault:
            raise self._long_row(fault.line) from None
        except BrokenRecordError as fault:
            if "unexpected end" in str(fault):
                raise DataError(
                    "a quote is not closed",
                    place=Place(name, fault.line),
                    found="the end of the file within a field",
                    fix='close the quote; a quote within a quoted field is doubled: ""',
                ) from None
            raise DataError(
                f"not valid CSV: {fault}",
                place=Place(name, fault.line),
                fix='a quote within a quoted field is doubled: ""',
            ) from None
        if ragged:
            first, found = ragged[0]
            others = (
                f" (so have {count(len(ragged) - 1, 'more line')}: {', '.join(str(at) for at, _ in ragged[1:6])}{', ...' if len(ragged) > 6 else ''})"
                if len(ragged) > 1
                else ""
            )
            raise DataError(
                f"a row has another number of fields than the headings{others}",
                place=Place(name, first),
                expected=count(len(self.names), "field"),
                found=count(found, "field"),
                fix=f"a field that holds {self.delimiter!r} stands in quotes",
            )
        if must_fail:
            if "straddling" in str(error):
                raise self._long_row(None)
            raise DataError(f"cannot be read as CSV: {error}", place=Place(name))

    def _place_of_bad_byte(self) -> Place:
        opener: Any = gzip.open if self.is_compressed else open
        with opener(self.path, "rb") as file:
            for number, line in enumerate(file, 1):
                try:
                    line.decode(self.encoding)
                except UnicodeDecodeError as fault:
                    return Place(shown_path(self.path), number, fault.start + 1)
        return Place(shown_path(self.path))


def read_all(path: Path, headings_on_line: int = 1) -> pa.Table:
    """Return all rows of a file as one table of text columns."""
    source = CsvSource(path, ReadOptions(headings_on_line=headings_on_line))
    schema = pa.schema([(name, pa.string()) for name in source.names])
    return pa.Table.from_batches(list(source.batches()), schema)
