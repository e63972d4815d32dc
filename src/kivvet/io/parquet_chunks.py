"""What the footer of a Parquet file says of its columns and of their chunks, put together anew for a file that holds chunks of others.

The format keeps each column of a row group as one run of bytes, a chunk, and says in the footer where it stands: chunks may be copied, and stand
anywhere, so long as the footer says their place.
"""

from __future__ import annotations

import base64
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import pyarrow as pa

from kivvet.io.parquet_footer import (
    KEY_VALUES,
    N_ROWS,
    ROW_GROUPS,
    SCHEMA,
    Fields,
    binary,
    integer,
    listed_in,
    structures,
)

# Numbers of fields, as parquet.thrift gives them.
COLUMN_ORDERS = 7
GROUP_COLUMNS, _GROUP_BYTES, GROUP_ROWS, _GROUP_OFFSET, _GROUP_COMPRESSED = 1, 2, 3, 5, 6
_CHUNK_OFFSET, CHUNK_META = 2, 3
_CHUNK_INDEXES = (4, 5, 6, 7)  # places of page indexes, which are not taken over
_UNCOMPRESSED, _COMPRESSED, _DATA_AT, _INDEX_AT, DICTIONARY_AT = 6, 7, 9, 10, 11
_BLOOM_FILTER = (14, 15)
_ELEMENT_NAME, _ELEMENT_CHILDREN = 4, 5


@dataclass(frozen=True, slots=True)
class Described:
    """What a footer says of a column: the elements of the schema, where its leaves stand among all, and their orders.

    A column that is nested has several leaves, each of which is a chunk of its own in a row group.
    """

    elements: list[Fields]
    leaves: slice
    orders: list[Any]


def described_in(footer: Fields) -> dict[str, Described]:
    """Return what a footer says of each column, by name."""
    root, *rest = listed_in(footer, SCHEMA)
    orders = listed_in(footer, COLUMN_ORDERS)
    found: dict[str, Described] = {}
    at = n_leaves = 0
    for _ in range(root[_ELEMENT_CHILDREN][1]):
        begin, first_leaf, open_children = at, n_leaves, 1
        while open_children:
            children = rest[at].get(_ELEMENT_CHILDREN, (0, 0))[1]
            open_children += children - 1
            n_leaves += not children
            at += 1
        leaves = slice(first_leaf, n_leaves)
        found[rest[begin][_ELEMENT_NAME][1].decode()] = Described(rest[begin:at], leaves, orders[leaves])
    return found


def joined_footer(
    schema: pa.Schema, described: Mapping[str, Described], base: Fields, groups: list[Fields]
) -> Fields:
    """Return the footer of a file whose columns are described in those of several.

    Parameters
    ----------
    schema : pyarrow.Schema
        Of all columns, in order.
    described : mapping of str to Described
        By column.
    base : Fields
        One of the footers: what is said besides.
    groups : list of Fields
        What is to be said of the row groups.
    """
    of_columns = [described[name] for name in schema.names]
    root = dict(listed_in(base, SCHEMA)[0])
    root[_ELEMENT_CHILDREN] = (root[_ELEMENT_CHILDREN][0], len(schema))
    metadata = dict(schema.metadata or {})
    metadata[b"ARROW:schema"] = base64.b64encode(schema.serialize())
    return {
        **base,
        SCHEMA: structures([root, *(element for column in of_columns for element in column.elements)]),
        N_ROWS: integer(sum(group[GROUP_ROWS][1] for group in groups)),
        ROW_GROUPS: structures(groups),
        KEY_VALUES: structures([{1: binary(key), 2: binary(value)} for key, value in metadata.items()]),
        COLUMN_ORDERS: structures([order for column in of_columns for order in column.orders]),
    }


def span_of(chunk: Fields) -> tuple[int, int]:
    """Return where the bytes of a chunk begin and end in its file."""
    meta = chunk[CHUNK_META][1]
    begin = meta[_DATA_AT][1]
    dictionary = meta.get(DICTIONARY_AT, (0, 0))[1]
    begin = min(begin, dictionary) if dictionary else begin
    return begin, begin + meta[_COMPRESSED][1]


def group_of(chunks: list[Fields], n_rows: int) -> Fields:
    """Return what a footer says of a row group with these chunks."""
    metas = [chunk[CHUNK_META][1] for chunk in chunks]
    return {
        GROUP_COLUMNS: structures(chunks),
        _GROUP_BYTES: integer(sum(meta[_UNCOMPRESSED][1] for meta in metas)),
        GROUP_ROWS: integer(n_rows),
        _GROUP_OFFSET: integer(min(span_of(chunk)[0] for chunk in chunks)),
        _GROUP_COMPRESSED: integer(sum(meta[_COMPRESSED][1] for meta in metas)),
    }


def placed(chunk: Fields, by: int) -> Fields:
    """Return what a footer says of a chunk that stands elsewhere: its places, without those of indexes and filters."""
    meta = {
        number: (kind, value + by) if number in (_DATA_AT, DICTIONARY_AT) and value else (kind, value)
        for number, (kind, value) in chunk[CHUNK_META][1].items()
        if number not in _BLOOM_FILTER and number != _INDEX_AT
    }
    return {
        **{number: value for number, value in chunk.items() if number not in _CHUNK_INDEXES},
        _CHUNK_OFFSET: integer(0),
        CHUNK_META: (chunk[CHUNK_META][0], meta),
    }
