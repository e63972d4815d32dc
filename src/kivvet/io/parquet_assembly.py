"""A Parquet file of which some columns are taken over from another as they are encoded there, and the others written.

The format keeps each column of a row group as one run of bytes, and says in the footer where it stands. So a column
that does not change is neither decoded nor encoded again: its bytes are copied, and the footer says their new place.
"""

from __future__ import annotations

import base64
from collections.abc import Collection, Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

import pyarrow as pa
import xxhash

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import count, shown_path
from kivvet.io.parquet_encoding import EncodedGroup, GroupEncoder
from kivvet.io.parquet_footer import (
    KEY_VALUES,
    MAGIC,
    N_ROWS,
    ODD_FORMS,
    ROW_GROUPS,
    SCHEMA,
    Fields,
    binary,
    footer_start,
    integer,
    listed_in,
    read_footer,
    structures,
)
from kivvet.io.parquet_seal import sealed_footer
from kivvet.io.source_and_target import Encoded, Seal, Target

_BYTES_AT_ONCE = 1 << 20
_MOST_CHUNKS = 50_000  # whose places are worked out in the footer
_MOST_ROWS_A_GROUP = 1 << 22  # of new columns are held until they are written

# Numbers of fields, as parquet.thrift gives them.
_COLUMN_ORDERS, _ENCRYPTION = 7, 8
GROUP_COLUMNS, _GROUP_BYTES, GROUP_ROWS, _GROUP_OFFSET, _GROUP_COMPRESSED, _GROUP_ORDINAL = 1, 2, 3, 5, 6, 7
_CHUNK_PATH, _CHUNK_OFFSET, _CHUNK_META, _CHUNK_CRYPTO = 1, 2, 3, 8
_CHUNK_INDEXES = (4, 5, 6, 7)  # places of page indexes, which are not taken over
_UNCOMPRESSED, _COMPRESSED, _DATA_AT, _INDEX_AT, _DICTIONARY_AT = 6, 7, 9, 10, 11
_BLOOM_FILTER = (14, 15)
_KIND, _N_VALUES, _STATISTICS = 1, 5, 12
_N_MISSING, _LEAST = 3, 6
_BYTES = 6  # the type of values that are bytes of any length
_BYTES_OF_LENGTH = 4  # with which each text begins that is held plainly
_ELEMENT_NAME, _ELEMENT_CHILDREN = 4, 5


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
        self.elements, self.leaves = _columns_of(footer)

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
        n_leaves = sum(len(range(*span)) for span in self.leaves.values())
        return (
            len(listed_in(self.footer, _COLUMN_ORDERS)) == n_leaves
            and 0 < len(chunks) == n_leaves * len(self.groups) <= _MOST_CHUNKS
            and all(0 < rows <= _MOST_ROWS_A_GROUP for rows in self.n_rows)
            and not any(
                _CHUNK_PATH in chunk or _CHUNK_CRYPTO in chunk or _CHUNK_META not in chunk for chunk in chunks
            )
            and all(len(MAGIC) <= begin <= until <= end for begin, until in map(span_of, chunks))
        )

    def begin(self, path: Path, schema: pa.Schema, taken_over: Collection[str]) -> AssembledTarget:
        return AssembledTarget(path, schema, self, taken_over)

    def chunks(self, group: int, name: str) -> list[Fields]:
        """Return what the footer says of the chunks of a column in a row group: of several, where it is nested."""
        return listed_in(self.groups[group], GROUP_COLUMNS)[slice(*self.leaves[name])]

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
                meta.get(_DICTIONARY_AT, (0, 0))[1]
                and meta[_UNCOMPRESSED][1] <= _BYTES_OF_LENGTH * meta[_N_VALUES][1]
                for meta in self._metas(name)
            )
        except ODD_FORMS:
            return False

    def _metas(self, name: str) -> Iterator[Fields]:
        for group in range(len(self.groups)):
            for chunk in self.chunks(group, name):
                yield chunk[_CHUNK_META][1]

    def orders(self, name: str) -> list[Any]:
        """Return the orders that the statistics of a column stand for."""
        return listed_in(self.footer, _COLUMN_ORDERS)[slice(*self.leaves[name])]


class AssembledTarget(Target):
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
        self.schema = schema
        self.encoded = encoded
        self.taken_over = frozenset(taken_over)
        self.new_schema = pa.schema([field for field in schema if field.name not in self.taken_over])
        self.encoder = GroupEncoder()
        self.n_begun = 0  # row groups of which all rows have come
        self.made_groups: list[Fields] = []
        self.footer_of_new: Fields = {}
        self.waiting: list[pa.RecordBatch] = []
        self.n_waiting = 0
        self.digest = xxhash.xxh3_128()
        self.at = 0
        self.file = path.open("wb")
        self.read_from = encoded.path.open("rb")
        self._put(MAGIC)

    # Of a table without columns Arrow knows no rows: where all are taken over, the groups are put at the end.

    def write(self, columns: Sequence[pa.Array]) -> None:
        """Write one batch of the columns that are not taken over."""
        batch = pa.RecordBatch.from_arrays(list(columns), schema=self.new_schema)
        while batch.num_rows:
            left = self.encoded.n_rows[self.n_begun] - self.n_waiting
            part = batch.slice(0, left)
            self.waiting.append(part)
            self.n_waiting += part.num_rows
            batch = batch.slice(part.num_rows)
            if part.num_rows == left:
                self._write_group()

    def _write_group(self) -> None:
        """Begin to write the row group of which all rows have come."""
        new = pa.Table.from_batches(self.waiting, self.new_schema)
        self.waiting, self.n_waiting = [], 0
        self.n_begun += 1
        self._put_encoded(self.encoder.add(new))

    def _put_encoded(self, groups: Iterator[EncodedGroup]) -> None:
        for one in groups:
            self.footer_of_new = one.footer
            self._put_group(one.content, iter(listed_in(one.group, GROUP_COLUMNS)))

    def _put_group(self, content: memoryview, new_chunks: Iterator[Fields]) -> None:
        """Write a row group: of each column in order the chunk, copied or just encoded."""
        number, begin = len(self.made_groups), self.at
        chunks: list[Fields] = []
        _, leaves = _columns_of(self.footer_of_new)
        for name in self.schema.names:
            if name in self.taken_over:
                chunks += [self._copied(chunk) for chunk in self.encoded.chunks(number, name)]
            else:
                chunks += [self._placed(content, next(new_chunks)) for _ in range(*leaves[name])]
        self.made_groups.append(group_of(chunks, self.encoded.n_rows[number], begin, self.at))

    def _copied(self, chunk: Fields) -> Fields:
        """Copy the bytes of a chunk; return what the footer is to say of it."""
        begin, end = span_of(chunk)
        place = self.at
        self.read_from.seek(begin)
        left = end - begin
        while left:
            content = self.read_from.read(min(left, _BYTES_AT_ONCE))
            if not content:
                raise DataError(
                    "is damaged: a column is cut short", place=Place(shown_path(self.encoded.path))
                )
            self._put(content)
            left -= len(content)
        return placed(chunk, place - begin)

    def _placed(self, content: memoryview, chunk: Fields) -> Fields:
        """Write the bytes of a chunk that was just encoded; return what the footer is to say of it."""
        begin, end = span_of(chunk)
        place = self.at
        self._put(content[begin:end])
        return placed(chunk, place - begin)

    def _put(self, content: bytes | memoryview) -> None:
        self.file.write(content)
        self.digest.update(content)
        self.at += len(content)

    def commit(self, seal: Seal) -> None:
        """Write the rest, and the footer with the record."""
        try:
            self._finish(seal)
        finally:
            self.abandon()

    def _finish(self, seal: Seal) -> None:
        self._put_encoded(self.encoder.rest())
        if not self.new_schema.names:
            self.footer_of_new = self.encoded.footer
            while len(self.made_groups) < len(self.encoded.n_rows):
                self._put_group(memoryview(b""), iter(()))
        if len(self.made_groups) < len(self.encoded.n_rows):
            raise DataError(
                "is damaged: it holds fewer rows than it says",
                place=Place(shown_path(self.encoded.path)),
                expected=count(sum(self.encoded.n_rows), "row"),
                fix="fetch or write the file anew; the target is as it was",
            )
        elements, orders = [], []
        new_elements, new_leaves = _columns_of(self.footer_of_new)
        for name in self.schema.names:
            if name in self.taken_over:
                elements += self.encoded.elements[name]
                orders += self.encoded.orders(name)
            else:
                elements += new_elements[name]
                orders += listed_in(self.footer_of_new, _COLUMN_ORDERS)[slice(*new_leaves[name])]
        root = dict(listed_in(self.footer_of_new, SCHEMA)[0])
        root[_ELEMENT_CHILDREN] = (root[_ELEMENT_CHILDREN][0], len(self.schema))
        metadata = dict(self.schema.metadata or {})
        metadata[b"ARROW:schema"] = base64.b64encode(self.schema.serialize())
        footer = dict(self.footer_of_new)
        footer[SCHEMA] = structures([root, *elements])
        footer[N_ROWS] = integer(sum(self.encoded.n_rows))
        footer[ROW_GROUPS] = structures(self.made_groups)
        footer[KEY_VALUES] = structures(
            [{1: binary(key), 2: binary(value)} for key, value in metadata.items()]
        )
        footer[_COLUMN_ORDERS] = structures(orders)
        self.file.write(sealed_footer(self.digest, footer, seal))

    def abandon(self) -> None:
        self.waiting = []
        self.encoder.abandon()
        with suppress(OSError):
            self.read_from.close()
        self.file.close()


def _columns_of(footer: Fields) -> tuple[dict[str, list[Fields]], dict[str, tuple[int, int]]]:
    """Return by column the elements of the schema that describe it, and where its leaves begin and end."""
    root, *rest = listed_in(footer, SCHEMA)
    elements: dict[str, list[Fields]] = {}
    leaves: dict[str, tuple[int, int]] = {}
    at = n_leaves = 0
    for _ in range(root[_ELEMENT_CHILDREN][1]):
        begin, first_leaf, open_children = at, n_leaves, 1
        while open_children:
            children = rest[at].get(_ELEMENT_CHILDREN, (0, 0))[1]
            open_children += children - 1
            n_leaves += not children
            at += 1
        name = rest[begin][_ELEMENT_NAME][1].decode()
        elements[name] = rest[begin:at]
        leaves[name] = first_leaf, n_leaves
    return elements, leaves


def _says_no_empty_text(meta: Fields) -> bool:
    known = meta.get(_STATISTICS, (0, {}))[1]
    is_missing = known.get(_N_MISSING, (0, -1))[1] == meta[_N_VALUES][1]
    return bool(meta[_KIND][1] == _BYTES and (known.get(_LEAST, (0, b""))[1] or is_missing))


def span_of(chunk: Fields) -> tuple[int, int]:
    """Return where the bytes of a chunk begin and end in its file."""
    meta = chunk[_CHUNK_META][1]
    begin = meta[_DATA_AT][1]
    dictionary = meta.get(_DICTIONARY_AT, (0, 0))[1]
    begin = min(begin, dictionary) if dictionary else begin
    return begin, begin + meta[_COMPRESSED][1]


def group_of(chunks: list[Fields], n_rows: int, begin: int, end: int) -> Fields:
    """Return what a footer says of a row group whose chunks stand between two places."""
    metas = [chunk[_CHUNK_META][1] for chunk in chunks]
    return {
        GROUP_COLUMNS: structures(chunks),
        _GROUP_BYTES: integer(sum(meta[_UNCOMPRESSED][1] for meta in metas)),
        GROUP_ROWS: integer(n_rows),
        _GROUP_OFFSET: integer(begin),
        _GROUP_COMPRESSED: integer(end - begin),
    }


def placed(chunk: Fields, by: int) -> Fields:
    """Return what a footer says of a chunk that stands elsewhere: its places, without those of indexes and filters."""
    meta = {
        number: (kind, value + by) if number in (_DATA_AT, _DICTIONARY_AT) and value else (kind, value)
        for number, (kind, value) in chunk[_CHUNK_META][1].items()
        if number not in _BLOOM_FILTER and number != _INDEX_AT
    }
    return {
        **{number: value for number, value in chunk.items() if number not in _CHUNK_INDEXES},
        _CHUNK_OFFSET: integer(0),
        _CHUNK_META: (chunk[_CHUNK_META][0], meta),
    }
