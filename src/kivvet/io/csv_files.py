"""CSV and TSV: read as text in batches, written with the source's own fields as they were."""

from __future__ import annotations

import codecs
import csv
import gzip
import io
import itertools
import math
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import IO, Any, Literal, NoReturn, overload

import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.convert import bytes_of_texts
from kivvet.core.values import write_value
from kivvet.errors import DataError, Place, count, shown_path
from kivvet.io.files import unreadable

_BLOCK_BYTES = 4 << 20
_LINES_LOOKED_AT = 20  # for headings that do not stand in the first line
_NEEDS_QUOTES = '[",\r\n]'


class CsvSource:
    """A CSV or TSV file, perhaps compressed with gzip; every field is text until it is converted.

    Parameters
    ----------
    path : Path
    encoding : str
    delimiter : str or None
        None: a tab for .tsv, else a comma.
    headings_on_line : int
        The line of the headings, counted from 1; what stands above is left out.

    Raises
    ------
    DataError
        If it cannot be read, is empty, or its headings are not usable.
    """

    is_text = True

    def __init__(
        self, path: Path, encoding: str = "utf-8", delimiter: str | None = None, headings_on_line: int = 1
    ) -> None:
        self.path = path
        self.encoding = encoding
        self.lines_above = headings_on_line - 1
        try:
            codecs.lookup(encoding)
        except LookupError as error:
            raise DataError(
                f"{encoding!r} is no encoding",
                place=Place(shown_path(path)),
                fix='for example "utf-8" or "cp1252"',
            ) from error
        suffixes = [one.lower() for one in path.suffixes]
        self.is_compressed = suffixes[-1:] == [".gz"]
        self.delimiter = delimiter or ("\t" if ".tsv" in suffixes else ",")
        self.names = self._headings()

    def _headings(self) -> list[str]:
        try:
            with self._open_text() as file:
                reader = csv.reader(file, delimiter=self.delimiter)
                record = next(reader, None)
                below = list(itertools.islice(reader, _LINES_LOOKED_AT))
        except (OSError, EOFError) as error:
            raise unreadable(self.path, error) from error
        except UnicodeDecodeError:
            self._explain()
        except csv.Error as error:
            raise DataError(f"not valid CSV: {error}", place=Place(shown_path(self.path), 1)) from error
        place = Place(shown_path(self.path), self.lines_above + 1)
        if not record and not below:
            raise DataError(
                "the file is empty", place=place, expected="a line of headings, then one line a row"
            )
        names = [name.strip() for name in record or [""]]
        elsewhere = (
            self._headings_below(names, below) if 2 * names.count("") >= len(names) or len(names) == 1 else ""
        )
        twice = sorted({name for name in names if names.count(name) > 1})
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
                f"the first line is {names[0]!r}, and more fields follow below", place=place,
                expected="a line of headings, then one line a row", fix=elsewhere,
            )  # fmt: skip
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

    def _open_text(self) -> IO[str]:
        encoding = (
            "utf-8-sig" if self.encoding.lower().replace("_", "-") in ("utf-8", "utf8") else self.encoding
        )
        file: IO[str] = (
            gzip.open(self.path, "rt", encoding=encoding, newline="")  # noqa: SIM115 - the caller closes it
            if self.is_compressed else self.path.open(encoding=encoding, newline="")
        )  # fmt: skip
        for _ in range(self.lines_above):
            file.readline()
        return file

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        """Yield the rows in order as batches of text columns; those of `names`, or all.

        Raises
        ------
        DataError
            With the line, where a row has too few or too many fields or a byte is not of the encoding.
        """
        import pyarrow.csv as arrow_csv

        wanted = self.names if names is None else list(names)
        n_quotes = self._count_quotes()
        if n_quotes % 2:  # one may not be closed, and would swallow all that follows
            self._explain(must_fail=False)
        try:
            stream = pa.input_stream(str(self.path), compression="gzip" if self.is_compressed else None)
            reader = arrow_csv.open_csv(
                stream,
                read_options=arrow_csv.ReadOptions(
                    column_names=self.names, skip_rows_after_names=0, block_size=block_bytes or _BLOCK_BYTES, encoding=self.encoding,
                    skip_rows=self._heading_lines(),
                ),
                parse_options=arrow_csv.ParseOptions(delimiter=self.delimiter, newlines_in_values=n_quotes > 0),
                convert_options=arrow_csv.ConvertOptions(
                    column_types={name: pa.string() for name in self.names}, include_columns=wanted,
                    strings_can_be_null=False, null_values=[],
                ),
            )  # fmt: skip
            yield from reader
        except pa.ArrowInvalid as error:
            if "Empty CSV file" in str(error):
                return
            self._explain(error)
        except (OSError, EOFError) as error:
            raise unreadable(self.path, error) from error
        except UnicodeDecodeError:
            self._explain()

    def read_all(self, names: Sequence[str] | None = None) -> pa.Table:
        """Return all rows as one table of text columns."""
        wanted = self.names if names is None else list(names)
        schema = pa.schema([(name, pa.string()) for name in wanted])
        return pa.Table.from_batches(list(self.batches(wanted)), schema)

    def _heading_lines(self) -> int:
        with self._open_text() as file:
            reader = csv.reader(file, delimiter=self.delimiter)
            next(reader)
            return self.lines_above + reader.line_num

    def _count_quotes(self) -> int:
        """Return how many quotes stand in the file: only with quotes may a field hold a line end."""
        opener: Any = gzip.open if self.is_compressed else open
        try:
            with opener(self.path, "rb") as file:
                return sum(chunk.count(b'"') for chunk in iter(lambda: file.read(_BLOCK_BYTES), b""))
        except (OSError, EOFError) as error:
            raise unreadable(self.path, error) from error

    def line_of_row(self, row: int) -> int | None:
        """Return the line on which a row (from 1, headings left out) begins; for messages."""
        with self._open_text() as file:
            reader = csv.reader(file, delimiter=self.delimiter)
            line, number = 1, -1
            for record in reader:
                if record:
                    number += 1
                    if number == row:
                        return self.lines_above + line
                line = reader.line_num + 1
        return None

    @overload
    def _explain(self, error: Exception | None = None, *, must_fail: Literal[True] = True) -> NoReturn: ...
    @overload
    def _explain(self, error: Exception | None = None, *, must_fail: Literal[False]) -> None: ...
    def _explain(self, error: Exception | None = None, *, must_fail: bool = True) -> None:
        """Raise the error that says where the file is broken, having walked it once more."""
        name = shown_path(self.path)
        try:
            with self._open_text() as file:
                reader = csv.reader(file, delimiter=self.delimiter, strict=True)
                line, ragged = 1, []
                for record in reader:
                    if record and len(record) != len(self.names):
                        ragged.append((self.lines_above + line, len(record)))
                    line = reader.line_num + 1
        except UnicodeDecodeError as fault:
            raise DataError(
                f"byte 0x{fault.object[fault.start]:02x} is not {self.encoding}", place=self._place_of_bad_byte(),
                expected=f"text in {self.encoding}", fix='save the file as UTF-8, or say which encoding it has, such as encoding = "cp1252"',
            ) from None  # fmt: skip
        except csv.Error as fault:
            if "unexpected end" in str(fault):
                raise DataError(
                    "a quote is not closed", place=Place(name, self.lines_above + line), found="the end of the file within a field",
                    fix='close the quote; a quote within a quoted field is doubled: ""',
                ) from None  # fmt: skip
            raise DataError(
                f"not valid CSV: {fault}",
                place=Place(name, self.lines_above + reader.line_num),
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


class CsvTarget:
    """Writes a CSV or TSV file; missing is an empty field, and quotes stand only where they are needed."""

    def __init__(self, path: Path, names: Sequence[str], delimiter: str = ",") -> None:
        self.file = path.open("wb")
        self.delimiter = delimiter
        buffer = io.StringIO()
        csv.writer(buffer, delimiter=delimiter, lineterminator="\n").writerow(names)
        self.file.write(buffer.getvalue().encode())
        self.is_single = len(names) == 1

    def write(self, columns: Sequence[pa.Array]) -> None:
        """Write one batch, a column an array."""
        texts = [self._quoted(as_text(column)) for column in columns]
        if not len(texts[0]):
            return
        if self.is_single:  # an empty line would be no row
            texts = [pc.if_else(pc.equal(texts[0], ""), '""', texts[0])]
        large = [one.cast(pa.large_string()) for one in texts]
        delimiter, line_end, nothing = (
            pa.scalar(text, pa.large_string()) for text in (self.delimiter, "\n", "")
        )
        lines = pc.binary_join_element_wise(pc.binary_join_element_wise(*large, delimiter), line_end, nothing)
        self.file.write(bytes_of_texts(lines))

    def _quoted(self, texts: pa.Array) -> pa.Array:
        texts = pc.fill_null(texts, "")
        pattern = _NEEDS_QUOTES.replace(",", self.delimiter)
        odd = pc.match_substring_regex(texts, pattern)
        if not pc.any(odd).as_py():
            return texts
        doubled = pc.replace_substring(texts, '"', '""')
        return pc.if_else(odd, pc.binary_join_element_wise('"', doubled, '"', ""), texts)

    def close(self) -> None:
        self.file.close()

    def abandon(self) -> None:
        """Close the file as it is; it will not be used."""
        self.file.close()


#: What stands between the values of a list in one CSV field.
LIST_SEPARATOR = "; "


def list_as_text(column: pa.Array) -> pa.Array:
    """Return a column of lists as text, for files that have no lists; other columns as they are."""
    if not pa.types.is_list(column.type):
        return column
    return pc.binary_join(column.cast(pa.list_(pa.string())), LIST_SEPARATOR)


def as_text(column: pa.Array) -> pa.Array:
    """Return a column as it is written in CSV: dates and times in ISO form, booleans as true and false."""
    type_ = column.type
    if pa.types.is_dictionary(type_):
        return as_text(column.dictionary).take(column.indices)
    if pa.types.is_string(type_):
        return column
    if pa.types.is_timestamp(type_) or pa.types.is_decimal(type_) or pa.types.is_floating(type_):
        encoded = pc.dictionary_encode(column)
        texts = [_written(value) for value in encoded.dictionary.to_pylist()]
        return pa.array(texts, pa.string()).take(encoded.indices)
    try:
        return column.cast(pa.string())
    except (pa.ArrowNotImplementedError, pa.ArrowInvalid) as error:
        raise DataError(
            f"a column of type {type_} cannot be written as CSV",
            fix="write to .parquet, or leave it out of the source",
        ) from error


def _written(value: Any) -> str | None:
    if value is None:
        return None
    if isinstance(value, float):
        if math.isnan(value):
            return None
        text = repr(value)
        return text.removesuffix(".0")
    return write_value(value)
