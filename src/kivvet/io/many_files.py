"""Many files as one source: a pattern, a list, or a folder of Parquet files."""

from __future__ import annotations

import copy
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import PurePosixPath
from urllib.parse import unquote

import pyarrow as pa
import xxhash

from kivvet.core.words.errors import DataError, UnopenableError
from kivvet.core.words.places import Place
from kivvet.core.words.values import fold_text
from kivvet.core.words.wording import count, listed
from kivvet.io.files import FileMarks, FileState
from kivvet.io.source_and_target import GrownFrom, PartState, Source, SourceNote

#: How a folder is called whose rows have no value in the column that it is named by.
_NO_VALUE = "__HIVE_DEFAULT_PARTITION__"


class ManyFiles(Source):
    """Files read one after the other as one source, their columns put together by name.

    Parameters
    ----------
    shown : str
        What they are called together.
    names : sequence of str
        What each file is called.
    parts : sequence of Source
        The files, opened.
    file_column : str, optional
        A column that holds the name of the file.
    with_folders : bool
        Whether parts of folder names such as ``year=2026`` are columns.

    Raises
    ------
    DataError
        If there are no files, one cannot be read, or a column has types that do not go together.
    """

    def __init__(
        self,
        shown: str,
        names: Sequence[str],
        parts: Sequence[Source],
        file_column: str | None = None,
        *,
        with_folders: bool = False,
    ) -> None:
        if not parts:
            raise UnopenableError(
                "there is no such file", place=Place(shown), fix="correct the path or the pattern"
            )
        self.shown, self.path = shown, parts[0].path
        self.file_column = file_column
        self.names_of_files = list(names)
        self.parts = _spelled_alike(list(parts))
        self.fixed = [self._of_folders(name) if with_folders else {} for name in self.names_of_files]
        self.rows: list[int | None] = [None] * len(parts)
        self._hashes: list[str] = []
        self.first_part = 0  # with which its rows begin, where only the last files are read
        self.notes: list[SourceNote] = [note for part in self.parts for note in part.notes]
        is_text = [part.is_text for part in self.parts]
        if len(set(is_text)) > 1:
            odd = self.names_of_files[is_text.index(not is_text[0])]
            raise DataError(
                f"{odd} has types, and others are text", place=Place(shown), fix="read them apart"
            )
        own = list(dict.fromkeys(name for part in self.parts for name in part.names))
        self._refuse_strange()
        self._tell_uneven(own)
        more = list(dict.fromkeys(name for fixed in self.fixed for name in fixed))
        more += [] if file_column is None else [file_column]
        for name in more:
            if name in own:
                raise DataError(
                    f"a column is named {name!r} already",
                    place=Place(shown),
                    fix="give the column of the file another name"
                    if name == file_column
                    else "rename the folder or the column",
                )
        self._own = own
        if is_text[0]:
            self.schema: Mapping[str, pa.DataType | None] = dict.fromkeys([*own, *more])
        else:
            types = {name: self._type(name) for name in own}
            self.parts = [
                part.with_types({name: types[name] for name in part.untyped}) for part in self.parts
            ]
            self.schema = {**types, **dict.fromkeys(more, pa.string())}
            fields = [self._field(name).with_type(types[name]) for name in own]
            self.stored_schema = pa.schema([*fields, *(pa.field(name, pa.string()) for name in more)])

    @property
    def is_text(self) -> bool:
        return self.parts[0].is_text

    def rows_left_out(self) -> Mapping[str, int]:
        found: dict[str, int] = {}
        for part in self.parts:
            for why, number in part.rows_left_out().items():
                found[why] = found.get(why, 0) + number
        return found

    @property
    def shown_name(self) -> str:
        return self.shown

    @property
    def headings(self) -> Sequence[str]:
        of_first = dict(zip(self.parts[0].names, self.parts[0].headings, strict=True))
        return [of_first.get(name, name) for name in self.names]

    def _of_folders(self, name: str) -> dict[str, str]:
        pairs = [part.split("=", 1) for part in PurePosixPath(name).parts[:-1] if "=" in part]
        return {unquote(key): "" if value == _NO_VALUE else unquote(value) for key, value in pairs if key}

    def _refuse_strange(self) -> None:
        """Raise where a file shares half of its columns with the first, or less: it holds something else."""
        first = self.parts[0].names
        for part in self.parts[1:]:
            shared = [name for name in part.names if name in first]
            if 2 * len(shared) <= max(len(first), len(part.names)):
                raise DataError(
                    f"has {listed(shared, 6) if shared else 'no column'} in common with {self.names_of_files[0]}, of "
                    f"{count(len(part.names), 'column')}",
                    place=Place(part.shown_name),
                    expected=listed(first, 12),
                    found=listed(part.names, 12),
                    fix=part.options_that_fit("delimiter", "encoding", "headings_on_line")
                    or "name the columns alike, or leave the file out of the source",
                )

    def _tell_uneven(self, own: Sequence[str]) -> None:
        """Note the files that lack columns which others have."""
        for part in self.parts:
            lacking = [name for name in own if name not in part.schema]
            if lacking:
                self.notes.append(
                    SourceNote(
                        f"{part.shown_name} has no column {listed(lacking)}, which other files have: missing in its rows",
                        Place(part.shown_name),
                        "name the columns alike in all files, or leave the file out",
                        "uneven",
                    )
                )

    def _type(self, name: str) -> pa.DataType:
        """Return the one type that a column has in all files, or that all of its types go into exactly."""
        found: dict[pa.DataType, str] = {}
        for file, part in zip(self.names_of_files, self.parts, strict=True):
            kind = part.schema.get(name)
            if kind is not None:
                found.setdefault(pa.null() if name in part.untyped else _plain(kind), file)
        kinds = [kind for kind in found if not pa.types.is_null(kind)] or [pa.string()]
        together = _common(kinds)
        if together is None and set(kinds) == {pa.int64(), pa.float64()}:
            whole = [part for part in self.parts if part.schema.get(name) == pa.int64()]
            together = pa.float64() if all(name in part.may_be_floating for part in whole) else None
        if together is None:
            said = " and ".join(f"{kind} in {found[kind]}" for kind in kinds[:2])
            raise DataError(
                f"column {name!r} is {said}",
                place=Place(self.shown),
                expected="one type in all files",
                fix="write the files with one type, or read them as datasets of their own",
            )
        return together

    def _field(self, name: str) -> pa.Field:
        part = next(part for part in self.parts if name in part.schema)
        assert part.stored_schema is not None
        return part.stored_schema.field(name)

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        wanted = self.names if names is None else list(names)
        for number, part in enumerate(self.parts):
            if number < self.first_part:
                continue
            here = [name for name in wanted if name in part.schema]
            n_rows = 0
            for batch in part.batches(here or part.names[:1], block_bytes):
                n_rows += batch.num_rows
                arrays = [self._array(name, number, batch) for name in wanted]
                yield pa.RecordBatch.from_arrays(arrays, names=wanted)
            self.rows[number] = n_rows

    def with_numbers(self, kinds: Mapping[str, pa.DataType]) -> ManyFiles:
        made = copy.copy(self)
        made.parts = [
            part.with_numbers({name: kind for name, kind in kinds.items() if name in part.schema})
            for part in self.parts
        ]
        return made

    def rows_since(self, then: GrownFrom) -> ManyFiles | None:
        n_then = len(then.parts)
        if not 0 < n_then < len(self.parts) or self.names_of_files[:n_then] != [
            part.name for part in then.parts
        ]:
            return None
        if any(part.identity().hash != one.hash for part, one in zip(self.parts, then.parts, strict=False)):
            return None
        if not self.is_text and any(
            kind is not None and _plain(kind) != self.schema[name]
            for part in self.parts
            for name, kind in part.schema.items()
        ):
            return None  # new files may give a column another type
        rest = copy.copy(self)
        rest.first_part = n_then
        rest.rows = [part.rows for part in then.parts] + [None] * (len(self.parts) - n_then)
        return rest

    def _array(self, name: str, number: int, batch: pa.RecordBatch) -> pa.Array:
        if name in batch.schema.names:
            array, kind = batch.column(name), self.schema[name]
            if kind is None or array.type == kind:
                return array
            return array.dictionary_decode() if pa.types.is_dictionary(array.type) else array.cast(kind)
        text = self.names_of_files[number] if name == self.file_column else self.fixed[number].get(name)
        if text or (text is not None and self.is_text):
            return pa.array([text]).take(pa.nulls(batch.num_rows, pa.int8()).fill_null(0))
        if self.is_text:
            return pa.array([""]).take(pa.nulls(batch.num_rows, pa.int8()).fill_null(0))
        return pa.nulls(batch.num_rows, self.schema[name])

    def place_of_row(self, row: int) -> Place:
        before = 0
        for number, part in enumerate(self.parts):
            n_rows = self._rows_of(number)
            if row <= before + n_rows:
                return part.place_of_row(row - before)
            before += n_rows
        return Place(self.shown)

    def _rows_of(self, number: int) -> int:
        known = self.rows[number]
        if known is None:
            known = self.rows[number] = self.parts[number].n_rows()
        return known

    def identity(self) -> FileState:
        return self.of_states([part.identity() for part in self.parts])

    def in_parts(self) -> list[Source] | None:
        made: list[Source] = []
        for number, part in enumerate(self.parts):
            if part.in_parts() is None:
                return None
            one = copy.copy(self)
            one.path, one.parts = part.path, [part]
            one.names_of_files, one.fixed = [self.names_of_files[number]], [self.fixed[number]]
            one.rows, one._hashes, one.notes = [None], [], []
            made.append(one)
        return made

    def state_of_part(self) -> FileState:
        return self.parts[0].identity()

    def of_states(self, states: Sequence[FileState]) -> FileState:
        self._hashes = [state.hash for state in states]
        return FileState(
            _together(self.names_of_files, self._hashes),
            self._marks_of([state.marks for state in states]),
            max(state.looked_at for state in states),
        )

    def part_states(self) -> list[PartState]:
        hashes = self._hashes or [part.identity().hash for part in self.parts]
        return [
            PartState(name, hash_, self._rows_of(number))
            for number, (name, hash_) in enumerate(zip(self.names_of_files, hashes, strict=True))
        ]

    def marks(self) -> FileMarks | None:
        found = [part.marks() for part in self.parts]
        return None if None in found else self._marks_of([one for one in found if one is not None])

    def _marks_of(self, marks: Sequence[FileMarks]) -> FileMarks:
        return marks_of_many(self.names_of_files, marks)


def _spelled_alike(parts: list[Source]) -> list[Source]:
    """Return sources whose columns are called as in the first, where headings differ by case, blanks or signs between words."""
    first = parts[0].names
    known = {_folded(name): name for name in first}
    if len(known) < len(first):
        return parts
    made = parts[:1]
    for part in parts[1:]:
        others = {
            name: known[_folded(name)]
            for name in part.names
            if name not in first and _folded(name) in known and known[_folded(name)] not in part.names
        }
        is_certain = len(set(others.values())) == len(others)
        made.append(_Renamed(part, others) if others and is_certain else part)
    return made


def _folded(name: str) -> str:
    return re.sub(r"[\s_.-]+", " ", fold_text(name, ("case", "space", "unicode"))).strip()


class _Renamed(Source):
    """A source some of whose columns are called otherwise."""

    def __init__(self, source: Source, others: Mapping[str, str]) -> None:
        self._source, self._others = source, others
        self._own = {called: name for name, called in others.items()}
        self.path = source.path
        self.schema = {others.get(name, name): kind for name, kind in source.schema.items()}
        if source.stored_schema is not None:
            fields = [field.with_name(others.get(field.name, field.name)) for field in source.stored_schema]
            self.stored_schema = pa.schema(fields)
        said = listed([f"{name!r} is read as {called!r}" for name, called in others.items()], 4)
        note = SourceNote(said, Place(source.shown_name), "write the headings alike in all files")
        self.notes = [*source.notes, note]
        self.untyped = frozenset(others.get(name, name) for name in source.untyped)

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        wanted = self.names if names is None else list(names)
        for batch in self._source.batches([self._own.get(name, name) for name in wanted], block_bytes):
            yield batch.rename_columns(wanted)

    def _again(self, source: Source) -> _Renamed:
        return _Renamed(source, self._others)

    def with_numbers(self, kinds: Mapping[str, pa.DataType]) -> Source:
        return self._again(self._source.with_numbers(self._mine(kinds)))

    def with_types(self, kinds: Mapping[str, pa.DataType]) -> Source:
        return self._again(self._source.with_types(self._mine(kinds)))

    def _mine(self, kinds: Mapping[str, pa.DataType]) -> dict[str, pa.DataType]:
        return {self._own.get(name, name): kind for name, kind in kinds.items()}

    def rows_left_out(self) -> Mapping[str, int]:
        return self._source.rows_left_out()

    def line_of_row(self, row: int) -> int | None:
        return self._source.line_of_row(row)

    def identity(self) -> FileState:
        return self._source.identity()

    def marks(self) -> FileMarks | None:
        return self._source.marks()

    @property
    def shown_name(self) -> str:
        return self._source.shown_name


def marks_of_many(names: Sequence[str], marks: Sequence[FileMarks]) -> FileMarks:
    """Return marks that change when one of some files does, or another comes or goes."""
    together = xxhash.xxh3_64_intdigest(repr([names, marks]).encode()) >> 1
    return FileMarks(
        sum(mark.size for mark in marks),
        max(mark.modified_ns for mark in marks),
        together,
        max(mark.changed_ns for mark in marks),
    )


def _together(names: Sequence[str], hashes: Sequence[str]) -> str:
    return xxhash.xxh3_128_hexdigest(repr(list(zip(names, hashes, strict=True))).encode())


def _plain(kind: pa.DataType) -> pa.DataType:
    """Return the type of the values of a type: of texts, however they are held, one."""
    if pa.types.is_dictionary(kind):
        kind = kind.value_type
    return pa.string() if pa.types.is_large_string(kind) or pa.types.is_string_view(kind) else kind


def _common(kinds: Sequence[pa.DataType]) -> pa.DataType | None:
    """Return the type into which values of all types go as they are; None where there is none."""
    if len(kinds) == 1:
        return kinds[0]
    if all(pa.types.is_signed_integer(kind) for kind in kinds):
        return max(kinds, key=lambda kind: int(kind.bit_width))
    if all(pa.types.is_floating(kind) for kind in kinds):
        return pa.float64()
    if all(pa.types.is_timestamp(kind) for kind in kinds) and len({kind.tz for kind in kinds}) == 1:
        order = ("s", "ms", "us", "ns")
        return max(kinds, key=lambda kind: order.index(kind.unit))
    return None
