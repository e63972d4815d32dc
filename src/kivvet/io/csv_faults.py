"""How a CSV file begins, and where it is broken, in words: its line, and the options that would fit."""

from __future__ import annotations

import gzip
import json
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any, Literal, NoReturn, overload

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import count, shown_path
from kivvet.io.csv_lines import delimiter_by_name
from kivvet.io.csv_records import (
    LONGEST_ROW,
    BrokenRecordError,
    CsvForm,
    LongRowError,
    encoding_by_mark,
    separator_said,
)
from kivvet.io.files import unreadable
from kivvet.io.recognise import recognise
from kivvet.io.source_and_target import ReadOptions, Source


class CsvExplained(Source):
    """A CSV file that can say where it is broken; what it holds is read by those that rest on this."""

    path: Path
    options: ReadOptions
    encoding: str
    delimiter: str
    is_compressed: bool
    form: CsvForm

    def _begins_with(self) -> tuple[str, str | None]:
        """Return the encoding, by the mark of the file if it has one, and the delimiter that its first line says."""
        opener: Any = gzip.open if self.is_compressed else open
        try:
            if not stat.S_ISREG(self.path.stat().st_mode):
                self._refuse_special()
            with opener(self.path, "rb") as file:
                head = file.read(64)
        except (OSError, EOFError) as error:
            raise unreadable(self.path, error) from error
        encoding = self.options.encoding
        if (marked := encoding_by_mark(head)) is not None and marked != "utf-8":
            encoding = marked
        text = head[: len(head) // 4 * 4].decode(encoding, "ignore")
        return encoding, separator_said(text.split("\n")[0] + "\n")

    def _records(self, file: IO[str], *, is_strict: bool = False) -> Iterator[tuple[int, list[str]]]:
        """Return the records of the file, opened below the lines that stand above the headings."""
        return self.form.records(file, is_strict=is_strict)

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
                for line, record in self._records(file, is_strict=True):
                    if record and self.schema and len(record) != len(self.schema):
                        ragged.append((line, len(record)))
        except UnicodeDecodeError as fault:
            if fault.reason in ("truncated data", "unexpected end of data") and self.encoding.startswith(
                "utf-"
            ):
                raise DataError(
                    "ends within a character: it seems to be cut off",
                    place=Place(name),
                    expected=f"text in {self.encoding}",
                    fix="fetch or copy the file again",
                ) from None
            raise DataError(
                f"byte 0x{fault.object[fault.start]:02x} is not {self.encoding}",
                place=self._place_of_bad_byte(),
                expected=f"text in {self.encoding}",
                fix=self.options_that_fit("encoding")
                or 'save the file as UTF-8, or say which encoding it has, such as encoding = "cp1252"',
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
                fix=self.options_that_fit("delimiter", "headings_on_line")
                or f"a field that holds {self.delimiter!r} stands in quotes",
            )
        if must_fail:
            if "straddling" in str(error):
                raise self._long_row(None)
            raise DataError(f"cannot be read as CSV: {error}", place=Place(name))

    def options_that_fit(self, *deciding: str) -> str:
        """Return the options with which the file could be read, where one of those that decide differs; else nothing."""
        try:
            found = recognise(self.path).options
        except (OSError, EOFError):
            return ""
        by_default = self._begins_with()[1] or delimiter_by_name(self.path)
        now = {**self.options.said(), "delimiter": self.delimiter, "encoding": self.encoding}
        said = {
            **found.said(),
            "delimiter": found.delimiter or by_default,
            "encoding": self.encoding
            if found.encoding == "utf-8" != self.options.encoding
            else found.encoding,
        }
        differing = {word: value for word, value in said.items() if now.get(word) != value}
        if not set(deciding) & set(differing):
            return ""
        lines = ", ".join(
            f"{word} = {json.dumps(value, ensure_ascii=False)}" for word, value in differing.items()
        )
        return f"the file seems to be written so: {lines}"

    def _place_of_bad_byte(self) -> Place:
        opener: Any = gzip.open if self.is_compressed else open
        with opener(self.path, "rb") as file:
            for number, line in enumerate(file, 1):
                try:
                    line.decode(self.encoding)
                except UnicodeDecodeError as fault:
                    return Place(shown_path(self.path), number, fault.start + 1)
        return Place(shown_path(self.path))
