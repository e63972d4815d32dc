"""CSV and TSV read: text in batches, and where a file is broken."""

from __future__ import annotations

import copy
import csv
import gzip
import itertools
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import count, listed, shown_path
from kivvet.io.csv_faults import CsvExplained
from kivvet.io.csv_lines import LINES_LOOKED_AT, LinesAbove, count_of_sign, delimiter_by_name
from kivvet.io.csv_records import (
    LONGEST_ROW,
    BrokenRecordError,
    CsvForm,
    LongRowError,
    is_text_encoding,
)
from kivvet.io.files import hash_bytes_of, unreadable
from kivvet.io.headings import names_of_headings
from kivvet.io.left_out import Sieve, SievedRows, told
from kivvet.io.source_and_target import AS_IT_SAYS, GrownFrom, ReadOptions, Source, SourceNote

#: Of smaller blocks the first comes sooner, but each costs its share of what threads take turns for.
_BLOCK_BYTES = 4 << 20
_MOST_COLUMNS = 1_000_000


class CsvSource(CsvExplained):
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
        self.numbers: Mapping[
            str, pa.DataType
        ] = {}  # columns given as numbers, as long as every field is one
        self.start = 0  # the byte with which its rows begin, where only the last ones are read
        self._counted: dict[int, int] = {}  # the quotes from there on; of all copies of a source
        if not is_text_encoding(options.encoding):
            raise DataError(
                f"{options.encoding!r} is no encoding of text",
                place=Place(shown_path(path)),
                fix='for example "utf-8" or "cp1252"',
            )
        suffixes = [suffix.lower() for suffix in path.suffixes]
        self.is_compressed = suffixes[-1:] == [".gz"]
        self.options = options
        self.encoding, said = self._begins_with()
        self.delimiter = options.delimiter or said or delimiter_by_name(path)
        lines_above = max(options.lines_above, 0 if said is None else 1)
        below = options.skip_below_headings if options.has_heading_line else 0
        self.form = CsvForm(
            self.delimiter,
            self.encoding,
            self.is_compressed,
            lines_above,
            options.quote,
            below,
            options.skip_last,
        )
        self.sieve = Sieve(options.leave_out, options.skip_blank)
        self._left_out: list[dict[str, int]] = []  # of passes that came to their end
        self.notes: list[SourceNote] = []
        self.schema: Mapping[str, None] = {}  # as long as headings are read
        self._original = self._headings()
        self.schema = dict.fromkeys(self._names(self._original))
        self.sieve.check(self.names, Place(shown_path(path)))

    @property
    def lines_above(self) -> int:
        return self.form.lines_above

    @property
    def headings(self) -> Sequence[str]:
        return self._original

    def _headings(self) -> list[str]:
        """Return the headings as they stand in the file, or as they are given."""
        try:
            with self.form.open(self.path) as file:
                top = list(itertools.islice(self._records(file), 1 + LINES_LOOKED_AT))
        except (OSError, EOFError) as error:
            raise unreadable(self.path, error) from error
        except LongRowError as error:
            raise self._long_row(error.line) from error
        except UnicodeError:
            self._explain()
        except BrokenRecordError as error:
            place = Place(shown_path(self.path), error.line)
            raise DataError(f"not valid CSV: {error}", place=place) from error
        place = Place(shown_path(self.path), self.lines_above + 1)
        if not self.options.has_heading_line:
            self.has_rows = bool(top)
            return self._given_headings(top[0][1] if top else None, place)
        self.has_rows = len(top) > 1
        record = top[0][1] if top else None
        below = [fields for _, fields in top[1:]]
        if not record and not below:
            raise DataError(
                "the file is empty", place=place, expected="a line of headings, then one line a row"
            )
        if self.options.headings:
            return self._given_headings(record, place)
        record = self._with_ends_of_rows(record or [""], [fields for fields in below if fields])
        names = [name.strip() for name in record]
        is_odd = 2 * names.count("") >= len(names) or len(names) == 1
        elsewhere = self._headings_below(names, below) if is_odd else ""
        if elsewhere:
            what = (
                f"the first line is {names[0]!r}, and more fields follow below"
                if len(names) == 1
                else "most of its headings are blank"
            )
            raise DataError(
                what,
                place=place,
                expected="a heading for each column",
                fix=self.options_that_fit("delimiter") or elsewhere,
            )
        return record

    def _given_headings(self, record: list[str] | None, place: Place) -> list[str]:
        """Return the headings that are given; `DataError` where the file has another number of columns."""
        given = list(self.options.headings)
        if record is not None and len(record) != len(given):
            raise DataError(
                f"has {count(len(record), 'column')}, and {count(len(given), 'heading')} {'is' if len(given) == 1 else 'are'} given",
                place=place,
                found=listed(record, 6),
                fix="give one heading for each column",
            )
        return given

    def _with_ends_of_rows(self, record: list[str], below: list[list[str]]) -> list[str]:
        """Return the headings with as many columns as the rows have, where only a delimiter at the end of lines makes
        the difference.
        """
        widths = {len(fields) for fields in below}
        if widths == {len(record) + 1} and not any(fields[-1].strip() for fields in below):
            return [*record, ""]
        if widths == {len(record) - 1} and len(record) > 1 and not record[-1].strip():
            return record[:-1]
        return record

    def _names(self, headings: Sequence[str]) -> list[str]:
        """Return a name for each column, each once: the heading, or where that is blank or repeated a plain name."""
        if len(headings) > _MOST_COLUMNS:
            raise DataError(
                f"the line of headings has {len(headings):,} fields",
                place=Place(shown_path(self.path), self.lines_above + 1),
                expected=f"at most {_MOST_COLUMNS:,} columns",
                fix="was the file written without its line ends? Then write it again, one row a line",
            )
        line = self.lines_above + 1
        names, notes = names_of_headings(headings, Place(shown_path(self.path), line), line)
        self.notes += notes
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

    def in_parts(self) -> list[Source] | None:
        return [self]

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        wanted = self.names if names is None else list(names)
        if not self.sieve:
            yield from self._read(wanted, block_bytes)
            return
        rows = SievedRows(self.sieve, self.names)
        read = list(dict.fromkeys([*wanted, *self.sieve.columns(self.names)]))
        yield from rows.batches(self._read(read, block_bytes), wanted)
        self._left_out.append(rows.left_out)

    def rows_left_out(self) -> Mapping[str, int]:
        if self.sieve and not self._left_out:
            for _ in self.batches(self.sieve.columns(self.names)[:1]):
                pass
        return told(self._left_out[0]) if self._left_out else {}

    def _read(self, names: Sequence[str], block_bytes: int | None) -> Iterator[pa.RecordBatch]:
        """Yield all rows, those too that are no data."""
        import pyarrow.csv as arrow_csv

        n_given = 0
        if not self.has_rows:
            return
        if self._n_quotes % 2:  # one may not be closed, and would swallow all that follows
            self._explain(must_fail=False)
        try:
            stream = pa.input_stream(str(self.path), compression="gzip" if self.is_compressed else None)
            if self.start:
                stream = pa.OSFile(str(self.path))
                stream.seek(self.start)
            encoding = self.encoding
            if self.options.skip_last:
                encoding = encoding if "\n".encode(encoding) == b"\n" else "utf-8"
                stream = pa.PythonFile(LinesAbove(self.form, self.path, encoding), mode="r")
            reader = arrow_csv.open_csv(
                stream,
                read_options=arrow_csv.ReadOptions(
                    column_names=self.names,
                    skip_rows_after_names=0,
                    block_size=block_bytes or _BLOCK_BYTES,
                    encoding=encoding,
                    skip_rows=0 if self.start else self._heading_lines(),
                ),
                parse_options=arrow_csv.ParseOptions(
                    delimiter=self.delimiter,
                    quote_char=self.form.quote,
                    newlines_in_values=self._n_quotes > 0,
                    ignore_empty_lines=len(self.names)
                    > 1,  # of one column, a blank line is a row without a value
                ),
                convert_options=arrow_csv.ConvertOptions(
                    column_types={**dict.fromkeys(self.names, pa.string()), **self.numbers},
                    include_columns=list(names),
                    strings_can_be_null=False,
                    null_values=[""],
                ),
            )
            for batch in reader:
                n_given += batch.num_rows
                yield batch
        except pa.ArrowInvalid as error:
            if "Empty CSV file" in str(error):
                return
            if self.numbers and "conversion error" in str(error):
                yield from self._rest(self.with_numbers({}), names, n_given, block_bytes)
                return
            if "straddling" in str(error) and (block_bytes or _BLOCK_BYTES) < LONGEST_ROW:
                yield from self._rest(self, names, n_given, 2 * LONGEST_ROW)
                return
            self._explain(error)
        except (OSError, EOFError) as error:
            raise unreadable(self.path, error) from error
        except UnicodeDecodeError:
            self._explain()

    def rows_since(self, then: GrownFrom) -> CsvSource | None:
        if (
            self.sieve
            or self.options.skip_last
            or self.is_compressed
            or not 0 < then.size < self.path.stat().st_size
            or not then.rows
        ):
            return None
        if "\n".encode(self.encoding) != b"\n":
            return None
        with self.path.open("rb") as file:
            file.seek(then.size - 1)
            if file.read(1) != b"\n" or hash_bytes_of(self.path, then.size) != then.hash:
                return None
        rest = CsvSource(self.path, self.options)
        rest.start = then.size
        return rest

    def with_numbers(self, kinds: Mapping[str, pa.DataType]) -> CsvSource:
        made = copy.copy(self)
        made.numbers = {name: kind for name, kind in kinds.items() if name not in self.sieve.reads}
        return made

    @staticmethod
    def _rest(
        source: CsvSource, names: Sequence[str], n_given: int, block_bytes: int | None
    ) -> Iterator[pa.RecordBatch]:
        """Yield the rows after the first `n_given`, read anew in another way."""
        for batch in source._read(names, block_bytes):
            passed = min(n_given, batch.num_rows)
            n_given -= passed
            if passed < batch.num_rows:
                yield batch.slice(passed)

    def _heading_lines(self) -> int:
        with self.form.open(self.path) as file:
            if not self.options.has_heading_line:
                return self.lines_above
            reader = csv.reader(file, delimiter=self.delimiter, quotechar=self.form.quote)
            next(reader)
            return self.lines_above + reader.line_num + self.form.skip_below_headings

    @property
    def _n_quotes(self) -> int:
        """How many quotes stand in the file, counted once: only with quotes may a field hold a line end."""
        if self.start not in self._counted:
            opener: Any = gzip.open if self.is_compressed else open
            try:
                with opener(self.path, "rb") as file:
                    file.seek(self.start)
                    self._counted[self.start] = count_of_sign(file, self.form.quote.encode())
            except (OSError, EOFError) as error:
                raise unreadable(self.path, error) from error
        return self._counted[self.start]

    def line_of_row(self, row: int) -> int | None:
        if self.sieve:
            row = self._number_in_file(row)
        with self.form.open(self.path) as file:
            number = -1 if self.options.has_heading_line else 0
            for line, record in self._records(file):
                if record or len(self.names) == 1:
                    number += 1
                    if number == row:
                        return line
        return None

    def _number_in_file(self, row: int) -> int:
        """Return which row of the file a row of data is, both counted from 1; 0 where there is no such row."""
        before = data = 0
        for batch in self._read(self.sieve.columns(self.names), None):
            stays = np.flatnonzero(self.sieve.split(batch, self.names)[0])
            if data + len(stays) >= row:
                return before + int(stays[row - data - 1]) + 1
            before, data = before + batch.num_rows, data + len(stays)
        return 0


def read_all(path: Path, options: ReadOptions = AS_IT_SAYS) -> pa.Table:
    """Return all rows of a file as one table of text columns."""
    source = CsvSource(path, options)
    schema = pa.schema([(name, pa.string()) for name in source.names])
    return pa.Table.from_batches(list(source.batches()), schema)


def form_of(path: Path, options: ReadOptions = AS_IT_SAYS) -> CsvForm:
    """Return how a file is written."""
    return CsvSource(path, options).form
