"""The files of one table as texts that can be edited, read again as a table, and written if nobody else changed them."""

from __future__ import annotations

import csv
import difflib
import io
import json
import re
import tomllib
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from kivvet.books.files.database_rows import refuse_edits, remember_origin
from kivvet.books.files.read_table import files_beside, read_table
from kivvet.books.files.readers import CsvRows, read_csv_rows, read_text, read_toml
from kivvet.books.files.row_edits import RowEdit, edited_rows
from kivvet.books.files.toml_places import TomlPlaces
from kivvet.books.files.toml_rows import with_row_added
from kivvet.core.tables.inputs import columns_of
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError
from kivvet.core.words.findings import Finding
from kivvet.core.words.places import Place
from kivvet.core.words.values import write_plain
from kivvet.core.words.wording import did_you_mean, listed, shown_path
from kivvet.io.files import replacing
from kivvet.io.formats import ROW_ENDINGS, delimiter_of
from kivvet.io.scratch import scratch_folder
from kivvet.io.stand_ins import stand_in

_END_OF_ROW = re.compile(r"[ \t]*,?[ \t]*(#[^\n]*)?\n")
_READ_OTHERWISE = ("delimiter", "quote", "headings", "encoding", "headings_on_line")


@dataclass(frozen=True)
class TableFiles:
    """A table, and the text of the file that holds its rows.

    Attributes
    ----------
    table : Table
    path : Path
        Its TOML file.
    file : Path
        The file that holds its rows: the same, or one beside it.
    text : str
        Of that file, with ``\\n`` at the end of lines.
    original : bytes
        What the file held when it was read.
    """

    table: Table
    path: Path
    file: Path
    text: str
    original: bytes

    @classmethod
    def read(cls, path: Path) -> TableFiles:
        """Return the files of a table; `BookError` where its rows stand in a way in which they cannot be edited."""
        table, _, faults = read_table(path)
        if table is None or not table.is_complete:
            first = faults[0] if faults else None
            raise BookError(
                f"table {path.stem} has faults" + (f": {first.message}" if first else ""),
                place=first.places[0] if first and first.places else Place(shown_path(path)),
                fix="mend them in an editor first",
            )
        refuse_edits(path)
        document, _ = read_toml(path)
        assert document is not None
        file = next(iter(files_beside(path, document.values, ("rows", "lookup"))), path)
        said = [word for word in _READ_OTHERWISE if word in document.values]
        if file != path and (not file.name.lower().endswith(ROW_ENDINGS) or said):
            why = f"says {listed(said)} of its rows" if said else "has its rows in a file of another kind"
            raise BookError(
                f"table {path.stem} {why}, so they are not edited here", place=Place(shown_path(file))
            )
        original = file.read_bytes()
        text, text_faults = read_text(file)
        if text_faults:
            raise BookError(text_faults[0].message, place=text_faults[0].places[0])
        return cls(table, path, file, text.replace("\r\n", "\n"), original)

    @property
    def rows_file(self) -> Path | None:
        return None if self.file == self.path else self.file

    @property
    def headings(self) -> list[str]:
        """What cells are named by: inputs, outputs, `when`, and other columns of the rows."""
        names = [column.name for column in columns_of(self.table.inputs, self.table.outputs)]
        if self.rows_file is None:
            return list(self.table.header) or names
        rows = self._csv_rows()
        own = {
            column.column or column.name: column.name
            for column in columns_of(self.table.inputs, self.table.outputs)
        }
        headings = [] if rows is None else [own.get(one.strip(), one.strip()) for one in rows.records[0]]
        return headings or names

    @property
    def records(self) -> list[list[str]]:
        """The cells of each row as texts, as they stand in the file, one for each heading."""
        if self.rows_file is not None:
            rows = self._csv_rows()
            return [] if rows is None else [list(record) for record in rows.records[1:]]
        given = tomllib.loads(self.text, parse_float=str).get("rows", [])
        width = len(self.headings)
        found = [list(map(_cell_text, row)) for row in given[1 if self.table.header else 0 :]]
        return [[*row, *[""] * (width - len(row))] for row in found]

    def _csv_rows(self) -> CsvRows | None:
        with self._as_files() as (_, file):
            return read_csv_rows(file, self.table.name)[0]

    def known(self, cells: Mapping[str, object]) -> dict[str, str]:
        """Return cells as texts by heading; `BookError` with the near name where there is no such heading."""
        headings = self.headings
        for name in cells:
            if name not in headings:
                raise BookError(
                    f"the rows of {self.table.name} have no column {name!r}",
                    expected=f"one of: {listed(headings)}",
                    fix=did_you_mean(name, headings),
                )
        return {name: "" if cell is None else str(cell) for name, cell in cells.items()}

    def need_row(self, number: int) -> None:
        if not 1 <= number <= self.table.n_rows:
            raise BookError(
                f"table {self.table.name} has no row {number}",
                expected=f"a row from 1 to {self.table.n_rows:,}",
            )

    # Each edit returns the files as they would be; nothing is written.

    def with_edits(self, edits: Mapping[int, RowEdit]) -> TableFiles:
        """Return them with rows taken out or changed in some cells."""
        with self._as_files() as (path, file):
            _, text = edited_rows(
                replace(self.table, has_rows_file=file != path), path, None if file == path else file, edits
            )
        return self.with_text(text)

    def with_row(self, cells: Mapping[str, str]) -> TableFiles:
        """Return them with a row more at the end."""
        return self.with_rows([[cells.get(name, "") for name in self.headings]])

    def with_rows(self, records: Sequence[Sequence[str]]) -> TableFiles:
        """Return them with rows more at the end, each a cell for each heading."""
        if not records:
            return self
        if self.rows_file is not None:
            end = "" if self.text.endswith("\n") or not self.text else "\n"
            lines = "".join(_csv_line(record, delimiter_of(self.file)) for record in records)
            return self.with_text(self.text + end + lines)
        line = "\n".join(
            f"  [{', '.join(json.dumps(cell, ensure_ascii=False) for cell in record)}]," for record in records
        )
        n_there = len(self.table.rows) + bool(self.table.header)
        if n_there:
            return self.with_text(with_row_added(self.text, self.path, "rows", n_there, line))
        closing = TomlPlaces(self.text, str(self.path)).end(("rows",))
        return self.with_text(f"{self.text[:closing].rstrip()}\n{line}\n{self.text[closing:]}")

    def with_row_moved(self, number: int, to: int) -> TableFiles:
        """Return them with a row at another place, its comment with it; the others keep their order."""
        order = list(range(1, self.table.n_rows + 1))
        order.insert(to - 1, order.pop(number - 1))
        return self.with_order(order)

    def with_order(self, numbers: Sequence[int]) -> TableFiles:
        """Return them with their rows in another order, each named by its number, its comment with it."""
        if list(numbers) == sorted(numbers):
            return self
        parts = self._parts()
        rows = [parts.rows[number - 1] for number in numbers]
        return self.with_text(parts.head + "".join(rows) + parts.tail)

    def _parts(self) -> _Parts:
        """Return the text before the rows, each row with its lines, and what follows."""
        if self.rows_file is not None:
            rows = self._csv_rows()
            assert rows is not None, "it was read before"
            lines = self.text.splitlines(keepends=True)
            starts = [line - 1 for line in rows.lines]
            ends = [*starts[1:], len(lines)]
            own = ["".join(lines[start:end]) for start, end in zip(starts, ends, strict=True)]
            own = [one if one.endswith("\n") else f"{one}\n" for one in own]
            return _Parts(own[0], own[1:], "")
        places = TomlPlaces(self.text, str(self.path))
        shift = bool(self.table.header)
        numbers = range(shift, len(self.table.rows) + shift)
        starts = [self.text.rfind("\n", 0, places.start(("rows", row))) + 1 for row in numbers]
        ends = [self.text.find("\n", places.end(("rows", row))) + 1 for row in numbers]
        is_alone = all(
            not self.text[start : places.start(("rows", row))].strip()
            and _END_OF_ROW.fullmatch(self.text[places.end(("rows", row)) : end])
            for start, end, row in zip(starts, ends, numbers, strict=True)
        )
        if not is_alone or not numbers:
            raise BookError("rows that share a line are not moved", place=Place(shown_path(self.path)))
        # A comment on lines of its own belongs to the row below it.
        rows_text = [self.text[start:end] for start, end in zip([starts[0], *ends[:-1]], ends, strict=True)]
        last, after = rows_text[-1], places.end(("rows", numbers[-1])) - len(self.text[: ends[-1]])
        if not last[after:].lstrip().startswith(","):
            rows_text[-1] = f"{last[:after]},{last[after:]}"
        return _Parts(self.text[: starts[0]], rows_text, self.text[ends[-1] :])

    def with_text(self, text: str) -> TableFiles:
        """Return them with another text, read again; `BookError` where it cannot be read."""
        changed = replace(self, text=text.replace("\r\n", "\n"))
        table, faults = changed.read_again()
        errors = [fault for fault in faults if fault.severity == "error"]
        if table is None or errors:
            first = self.placed(errors[0]) if errors else None
            raise BookError(
                f"table {self.table.name} could not be read then: {'' if first is None else first.message}",
                place=next(iter(first.places), None) if first is not None else None,
                fix=first.remedy or None if first is not None else None,
            )
        return replace(changed, table=table)

    def placed(self, found: Finding) -> Finding:
        """Return a finding about the texts with its places in the files of the book."""
        shown = {one.name: shown_path(one) for one in (self.file, self.path)}
        places = (replace(place, file=shown.get(Path(place.file).name, place.file)) for place in found.places)
        return replace(found, places=tuple(places))

    def read_again(self) -> tuple[Table | None, list[Finding]]:
        """Return the table that the texts describe, and the faults found."""
        with self._as_files() as (path, _):
            table, _, faults = read_table(path)
        return table, faults

    def _as_files(self) -> AbstractContextManager[tuple[Path, Path]]:
        return as_files(self.path, self.file, self.text)

    def difference(self, before: TableFiles, what: str) -> str:
        """Return what changes in the file, in the unified form; empty where nothing does."""
        name = shown_path(self.file)
        old, new = before.text.splitlines(), self.text.splitlines()
        return "\n".join(difflib.unified_diff(old, new, name, f"{name}, {what}", lineterm="", n=1))

    def write(self) -> None:
        """Write the file; `BookError` where something else changed it since it was read."""
        if self.file.read_bytes() != self.original:
            raise BookError(
                "was changed by something else since it was read, so nothing was written",
                place=Place(shown_path(self.file)),
                fix="open the book again, and edit it anew",
            )
        mark = b"\xef\xbb\xbf" if self.original.startswith(b"\xef\xbb\xbf") else b""
        line_end = "\r\n" if b"\r\n" in self.original else "\n"
        with replacing(self.file) as part:
            part.write_bytes(mark + self.text.replace("\n", line_end).encode())


@contextmanager
def as_files(path: Path, file: Path, text: str) -> Iterator[tuple[Path, Path]]:
    """Give the files of a table in a folder of their own, one of them with another text; nothing else is touched.

    Parameters
    ----------
    path : Path
        The table's TOML file.
    file : Path
        The one that holds `text` there: the same, or one that it names.

    Yields
    ------
    tuple of (Path, Path)
        The two there.
    """
    with scratch_folder() as folder:
        # Files beside the table may be named by a way up: they lie below the same place here.
        there = folder.joinpath(*["up"] * len(path.resolve().parent.parts), path.name)
        there.parent.mkdir(parents=True)
        remember_origin(folder, path.parent)
        toml = text if file == path else read_text(path)[0]
        there.write_text(toml, encoding="utf-8", newline="")
        document, _ = read_toml(there)
        found = there
        for own in () if document is None else files_beside(there, document.values):
            original = path.parent / own.relative_to(there.parent)
            own.parent.mkdir(parents=True, exist_ok=True)
            if original == file:
                own.write_text(text, encoding="utf-8", newline="")
                found = own
            elif original.is_file():
                own.write_bytes(stand_in(original).read_bytes())
        yield there, found


def _cell_text(cell: Any) -> str:
    return cell if isinstance(cell, str) else write_plain(cell)


@dataclass
class _Parts:
    head: str
    rows: list[str]
    tail: str


def _csv_line(record: Sequence[str], delimiter: str) -> str:
    buffer = io.StringIO()
    csv.writer(buffer, delimiter=delimiter, lineterminator="\n").writerow(record)
    return buffer.getvalue()
