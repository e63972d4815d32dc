"""A Parquet file that holds what another does: columns that are taken over as they are encoded there, or all its rows, below which others follow.

A column that does not change is neither decoded nor encoded again: its bytes are copied, and the footer says their new place.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from pathlib import Path

import pyarrow as pa

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import count, shown_path
from kivvet.io.parquet_chunks import (
    CHUNK_META,
    COLUMN_ORDERS,
    DICTIONARY_AT,
    GROUP_COLUMNS,
    GROUP_ROWS,
    Described,
    described_in,
    placed,
    span_of,
)
from kivvet.io.parquet_footer import (
    MAGIC,
    ODD_FORMS,
    ROW_GROUPS,
    Fields,
    footer_start,
    listed_in,
    read_footer,
)
from kivvet.io.parquet_target import ParquetTarget
from kivvet.io.source_and_target import Encoded, Target, WriteOptions

_BYTES_AT_ONCE = 1 << 20
_MOST_CHUNKS = 50_000  # whose places are worked out in the footer
_MOST_ROWS_A_GROUP = 1 << 22  # of new columns are held until they are written
_MOST_GROUPS = 1_000  # of them files that grow in small steps have ever more, which readers pay for

# Numbers of fields, as parquet.thrift gives them.
_ENCRYPTION = 8
_CHUNK_PATH, _CHUNK_CRYPTO = 1, 8
_UNCOMPRESSED = 6
_KIND, _N_VALUES, _STATISTICS = 1, 5, 12
_N_MISSING, _LEAST = 3, 6
_BYTES = 6  # the type of values that are bytes of any length
_BYTES_OF_LENGTH = 4  # with which each text begins that is held plainly


class EncodedColumns(Encoded):
    """The columns of a Parquet file as they are encoded: what can be taken over of it.

    Attributes
    ----------
    n_rows : list of int
        The rows of each row group.
    """

    def __init__(self, path: Path, footer: Fields) -> None:
        self.path = path
        self.footer = footer
        self.groups: list[Fields] = listed_in(footer, ROW_GROUPS)
        self.n_rows = [group[GROUP_ROWS][1] for group in self.groups]
        self.described = described_in(footer)

    @classmethod
    def read(cls, path: Path) -> EncodedColumns | None:
        """Return what the footer of a file says; None where it is of a form that is not known."""
        try:
            footer = read_footer(path)
            found = None if footer is None or _ENCRYPTION in footer else cls(path, footer)
        except (OSError, *ODD_FORMS):
            return None
        return found

    @classmethod
    def of(cls, path: Path) -> EncodedColumns | None:
        """Return those of a file; None where they cannot be taken over.

        That is so where it is encrypted, its columns stand in other files, row groups are too large or very many, or it
        was written so long ago that the order its statistics stand for is not said.
        """
        found, end = cls.read(path), footer_start(path)
        try:
            return found if found is not None and end is not None and found._is_plain(end) else None
        except ODD_FORMS:
            return None

    def _is_plain(self, end: int) -> bool:
        """Whether all columns stand in the file itself, before its footer, in groups that can be written again."""
        chunks = [chunk for group in self.groups for chunk in listed_in(group, GROUP_COLUMNS)]
        n_leaves = sum(one.leaves.stop - one.leaves.start for one in self.described.values())
        return (
            len(listed_in(self.footer, COLUMN_ORDERS)) == n_leaves
            and 0 < len(chunks) == n_leaves * len(self.groups) <= _MOST_CHUNKS
            and all(0 < rows <= _MOST_ROWS_A_GROUP for rows in self.n_rows)
            and not any(
                _CHUNK_PATH in chunk or _CHUNK_CRYPTO in chunk or CHUNK_META not in chunk for chunk in chunks
            )
            and all(len(MAGIC) <= begin <= until <= end for begin, until in map(span_of, chunks))
        )

    def begin(self, path: Path, schema: pa.Schema, taken_over: Collection[str]) -> AssembledTarget:
        return AssembledTarget(path, schema, self, taken_over)

    def chunks(self, group: int, name: str) -> list[Fields]:
        """Return what the footer says of the chunks of a column in a row group: of several, where it is nested."""
        return listed_in(self.groups[group], GROUP_COLUMNS)[self.described[name].leaves]

    def says_no_empty_text(self, name: str) -> bool:
        """Whether statistics say that no field of a column of text is without characters."""
        try:
            return all(map(_says_no_empty_text, self._metas(name)))
        except ODD_FORMS:
            return False

    def holds_codes(self, name: str) -> bool:
        """Whether a column of text is held as codes throughout: no text takes less room than its length alone does."""
        try:
            return all(
                meta.get(DICTIONARY_AT, (0, 0))[1]
                and meta[_UNCOMPRESSED][1] <= _BYTES_OF_LENGTH * meta[_N_VALUES][1]
                for meta in self._metas(name)
            )
        except ODD_FORMS:
            return False

    def _metas(self, name: str) -> Iterator[Fields]:
        for group in range(len(self.groups)):
            for chunk in self.chunks(group, name):
                yield chunk[CHUNK_META][1]


class AssembledTarget(ParquetTarget):
    """Writes a Parquet file in the row groups of another, from which it takes over some columns.

    Parameters
    ----------
    path : Path
    schema : pyarrow.Schema
        Of all columns, in order.
    encoded : EncodedColumns
    taken_over : collection of str
        The columns that are not written but taken over.
    """

    def __init__(
        self, path: Path, schema: pa.Schema, encoded: EncodedColumns, taken_over: Collection[str]
    ) -> None:
        self.encoded = encoded
        self.taken_over = [name for name in schema.names if name in taken_over]
        self.read_from = encoded.path.open("rb")
        now = pa.schema([field for field in schema if field.name not in taken_over])
        super().__init__(path, path, schema, now=now, sizes=encoded.n_rows)
        self.described = {name: encoded.described[name] for name in self.taken_over}

    def _open_group(self, n_rows: int) -> None:
        number = len(self.chunks)
        super()._open_group(n_rows)
        for name in self.taken_over:
            self.chunks[number][name] = [self._copied(chunk) for chunk in self.encoded.chunks(number, name)]

    def _copied(self, chunk: Fields) -> Fields:
        """Copy the bytes of a chunk; return what the footer is to say of it."""
        begin, end = span_of(chunk)
        place = self.file.at
        self.read_from.seek(begin)
        left = end - begin
        while left:
            content = self.read_from.read(min(left, _BYTES_AT_ONCE))
            if not content:
                raise DataError(
                    "is damaged: a column is cut short", place=Place(shown_path(self.encoded.path))
                )
            self.file.write(content)
            left -= len(content)
        return placed(chunk, place - begin)

    def _end_columns(self) -> None:
        super()._end_columns()
        if not self.now.names:
            self.base = self.encoded.footer
            for n_rows in self.encoded.n_rows[len(self.chunks) :]:
                self._open_group(n_rows)
        if len(self.chunks) < len(self.encoded.n_rows):
            raise DataError(
                "is damaged: it holds fewer rows than it says",
                place=Place(shown_path(self.encoded.path)),
                expected=count(sum(self.encoded.n_rows), "row"),
                fix="fetch or write the file anew; the target is as it was",
            )

    def abandon(self) -> None:
        self.read_from.close()
        super().abandon()


class GrownTarget(ParquetTarget):
    """Writes the file that another becomes with more rows at its end: all that stands before its footer is kept.

    Parameters
    ----------
    path : Path
    grown : EncodedColumns
        The file whose rows stand.
    start_of_footer : int
        The bytes that precede its footer.
    schema : pyarrow.Schema
        Of both.
    """

    def __init__(self, path: Path, grown: EncodedColumns, start_of_footer: int, schema: pa.Schema) -> None:
        self.grown, self.start_of_footer = grown, start_of_footer
        super().__init__(path, path, schema)
        self.base, self.described = grown.footer, dict(grown.described)

    def _begin(self) -> None:
        with self.grown.path.open("rb") as held:
            while self.file.at < self.start_of_footer:
                content = held.read(min(_BYTES_AT_ONCE, self.start_of_footer - self.file.at))
                if not content:
                    raise DataError("is cut short", place=Place(shown_path(self.grown.path)))
                self.file.write(content)

    def _describe(self, footer: Fields) -> dict[str, Described]:
        described = described_in(footer)
        if any(one.elements != self.described[name].elements for name, one in described.items()):
            raise DataError("is encoded otherwise than Arrow does", place=Place(shown_path(self.grown.path)))
        return described

    def _groups(self) -> list[Fields]:
        return [*self.grown.groups, *super()._groups()]


def extend(path: Path, target: Path, schema: pa.Schema, _: WriteOptions) -> Target | None:
    """Begin a target with all rows that it holds already; None where these cannot stand as they are."""
    from pyarrow import parquet

    grown, start_of_footer = EncodedColumns.of(target), footer_start(target)
    if grown is None or start_of_footer is None or len(grown.groups) >= _MOST_GROUPS:
        return None
    if not parquet.read_schema(target).equals(schema, check_metadata=False):
        return None
    return GrownTarget(path, grown, start_of_footer, schema)


def _says_no_empty_text(meta: Fields) -> bool:
    known = meta.get(_STATISTICS, (0, {}))[1]
    is_missing = known.get(_N_MISSING, (0, -1))[1] == meta[_N_VALUES][1]
    return bool(meta[_KIND][1] == _BYTES and (known.get(_LEAST, (0, b""))[1] or is_missing))
