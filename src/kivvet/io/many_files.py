"""Many files as one source: a pattern, a list, or a folder of Parquet files."""

from __future__ import annotations

import copy
import glob
import os
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path

import pyarrow as pa
import xxhash

from kivvet.core.words.errors import DataError, UnopenableError
from kivvet.core.words.places import Place
from kivvet.core.words.values import fold_text
from kivvet.core.words.wording import count, listed, shown_path
from kivvet.io.files import FileMarks, FileState, state_of
from kivvet.io.source_and_target import GrownFrom, PartState, Source, SourceNote

_WILD = frozenset("*?[")


def is_pattern(text: str) -> bool:
    """Whether a path stands for many files: it has a sign for others, or ends as a folder does."""
    return bool(_WILD & set(text)) or text.endswith("/")


def files_of(folder: Path, text: str) -> list[Path]:
    """Return the files that a path of a book stands for, in order of their names; a folder for its Parquet files."""
    if text.endswith("/"):
        return sorted((folder / text).rglob("*.parquet"), key=str)
    if not is_pattern(text):
        return [folder / text]
    found = glob.glob(text, root_dir=folder, recursive=True)  # noqa: PTH207 - it may be a whole path
    return sorted((folder / one for one in found if (folder / one).is_file()), key=str)


class ManyFiles(Source):
    """Files read one after the other as one source, their columns put together by name.

    Parameters
    ----------
    shown : str
        What they are called together.
    folder : Path
        From which the names of files are told.
    files : sequence of Path
    open_one : callable
        Opens one of them.
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
        folder: Path,
        files: Sequence[Path],
        open_one: Callable[[Path], Source],
        file_column: str | None = None,
        *,
        with_folders: bool = False,
    ) -> None:
        if not files:
            raise UnopenableError(
                "there is no such file", place=Place(shown), fix="correct the path or the pattern"
            )
        self.shown, self.path = shown, files[0]
        self.file_column = file_column
        self.files = list(files)
        self.names_of_files = [Path(os.path.relpath(one, folder)).as_posix() for one in files]
        self.parts = _spelled_alike([open_one(one) for one in files])
        self.fixed = [self._of_folders(name) if with_folders else {} for name in self.names_of_files]
        self.rows: list[int | None] = [None] * len(files)
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
        pairs = [part.split("=", 1) for part in Path(name).parts[:-1] if "=" in part]
        return {key: value for key, value in pairs if key}

    def _refuse_strange(self) -> None:
        """Raise where a file shares half of its columns with the first, or less: it holds something else."""
        first = self.parts[0].names
        for path, part in zip(self.files[1:], self.parts[1:], strict=True):
            shared = [name for name in part.names if name in first]
            if 2 * len(shared) <= max(len(first), len(part.names)):
                raise DataError(
                    f"has {listed(shared, 6) if shared else 'no column'} in common with {self.names_of_files[0]}, of "
                    f"{count(len(part.names), 'column')}",
                    place=Place(shown_path(path)),
                    expected=listed(first, 12),
                    found=listed(part.names, 12),
                    fix=part.options_that_fit("delimiter", "encoding", "headings_on_line")
                    or "name the columns alike, or leave the file out of the source",
                )

    def _tell_uneven(self, own: Sequence[str]) -> None:
        """Note the files that lack columns which others have."""
        for path, part in zip(self.files, self.parts, strict=True):
            lacking = [name for name in own if name not in part.schema]
            if lacking:
                self.notes.append(
                    SourceNote(
                        f"{shown_path(path)} has no column {listed(lacking)}, which other files have: missing in its rows",
                        Place(shown_path(path)),
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
        if not 0 < n_then < len(self.files) or self.names_of_files[:n_then] != [
            one.name for one in then.parts
        ]:
            return None
        if any(state_of(path).hash != one.hash for path, one in zip(self.files, then.parts, strict=False)):
            return None
        if not self.is_text and any(
            kind is not None and _plain(kind) != self.schema[name]
            for part in self.parts
            for name, kind in part.schema.items()
        ):
            return None  # new files may give a column another type
        rest = copy.copy(self)
        rest.first_part = n_then
        rest.rows = [one.rows for one in then.parts] + [None] * (len(self.files) - n_then)
        return rest

    def _array(self, name: str, number: int, batch: pa.RecordBatch) -> pa.Array:
        if name in batch.schema.names:
            array, kind = batch.column(name), self.schema[name]
            if kind is None or array.type == kind:
                return array
            return array.dictionary_decode() if pa.types.is_dictionary(array.type) else array.cast(kind)
        text = self.names_of_files[number] if name == self.file_column else self.fixed[number].get(name)
        if text is not None:
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
        return self.of_states([state_of(path) for path in self.files])

    def in_parts(self) -> list[Source] | None:
        made: list[Source] = []
        for number, part in enumerate(self.parts):
            if part.in_parts() is None:
                return None
            one = copy.copy(self)
            one.path, one.files, one.parts = self.files[number], [self.files[number]], [part]
            one.names_of_files, one.fixed = [self.names_of_files[number]], [self.fixed[number]]
            one.rows, one._hashes, one.notes = [None], [], []
            made.append(one)
        return made

    def state_of_part(self) -> FileState:
        return state_of(self.files[0])

    def of_states(self, states: Sequence[FileState]) -> FileState:
        self._hashes = [state.hash for state in states]
        return FileState(
            _together(self.names_of_files, self._hashes),
            self._marks_of([state.marks for state in states]),
            max(state.looked_at for state in states),
        )

    def part_states(self) -> list[PartState]:
        hashes = self._hashes or [state_of(path).hash for path in self.files]
        return [
            PartState(name, hash_, self._rows_of(number))
            for number, (name, hash_) in enumerate(zip(self.names_of_files, hashes, strict=True))
        ]

    def marks(self) -> FileMarks | None:
        found = [FileMarks.of(path) for path in self.files]
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
        note = SourceNote(said, Place(shown_path(self.path)), "write the headings alike in all files")
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


def marks_of_many(names: Sequence[str], marks: Sequence[FileMarks]) -> FileMarks:
    """Return marks that change when one of some files does, or another comes or goes."""
    together = xxhash.xxh3_64_intdigest(repr([names, marks]).encode()) >> 1
    return FileMarks(
        sum(one.size for one in marks),
        max(one.modified_ns for one in marks),
        together,
        max(one.changed_ns for one in marks),
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
