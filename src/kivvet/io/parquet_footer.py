"""The footer of a Parquet file, read and written as plain values.

It is a structure of Thrift's compact protocol, as the Parquet format specifies (parquet.thrift). Fields are kept by
their numbers, known or not, so that what is not looked at stays as it was.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

MAGIC = b"PAR1"
#: What is raised where fields are asked for that are not there, or of another form than they should be.
ODD_FORMS = (KeyError, IndexError, TypeError, ValueError, AttributeError)
# Numbers of fields of the metadata, as parquet.thrift gives them.
SCHEMA, N_ROWS, ROW_GROUPS, KEY_VALUES = 2, 3, 4, 5
#: A structure: by the number of a field, its type and its value.
Fields = dict[int, tuple[int, Any]]

_TRUE, _FALSE, _BYTE, _I16, _I32, _I64, _DOUBLE, _BINARY, _LIST, _SET, _MAP, _STRUCT = range(1, 13)
_FEW_BYTES = 1 << 20
_WHOLE = (_I16, _I32, _I64)


@dataclass(frozen=True)
class Sequenced:
    """A list: the type of its values, and these."""

    kind: int
    values: list[Any]


def integer(value: int) -> tuple[int, int]:
    """Return a field that holds a whole number of 64 bits."""
    return _I64, value


def binary(value: bytes) -> tuple[int, bytes]:
    """Return a field that holds bytes; a text's are UTF-8."""
    return _BINARY, value


def structures(values: list[Fields]) -> tuple[int, Sequenced]:
    """Return a field that holds a list of structures."""
    return _LIST, Sequenced(_STRUCT, values)


def listed_in(fields: Fields, number: int) -> list[Any]:
    """Return the values of a field that is a list; none where there is no such field."""
    return fields[number][1].values if number in fields else []


def read_footer(path: Path) -> Fields | None:
    """Return the metadata of a Parquet file; None where it is none, or its footer is of no form that is known."""
    start = footer_start(path)
    if start is None:
        return None
    with path.open("rb") as file:
        file.seek(start)
        return parsed(file.read()[:-8])


def footer_start(path: Path) -> int | None:
    """Return the number of bytes that precede the footer of a Parquet file; None if it is none."""
    size = path.stat().st_size
    with path.open("rb") as file:
        if size < 12 or file.read(4) != MAGIC:
            return None
        file.seek(size - 8)
        tail = file.read(8)
    start = size - 8 - int.from_bytes(tail[:4], "little")
    return start if tail[4:] == MAGIC and start >= 4 else None


def parsed(footer: bytes) -> Fields | None:
    """Return the structure that bytes hold, which is not to be changed; None where they hold none."""
    return _parsed_once(footer) if len(footer) <= _FEW_BYTES else _parsed(footer)


def _parsed(footer: bytes) -> Fields | None:
    try:
        reader = _Reader(footer)
        return reader.fields()
    except (IndexError, ValueError, RecursionError, MemoryError, struct.error):
        return None


#: A command reads the same footer several times.
_parsed_once = lru_cache(maxsize=2)(_parsed)


def footer_of(content: memoryview) -> Fields:
    """Return the metadata of a Parquet file in memory, which this program wrote."""
    length = int.from_bytes(content[-8:-4], "little")
    found = parsed(bytes(content[-8 - length : -8]))
    assert found is not None
    return found


def footer_bytes(fields: Fields) -> bytes:
    """Return the end of a Parquet file: its metadata, their length, and the mark of the format."""
    writer = _Writer()
    writer.fields(fields)
    content = bytes(writer.made)
    return content + len(content).to_bytes(4, "little") + MAGIC


class _Reader:
    def __init__(self, content: bytes) -> None:
        self.content = content
        self.at = 0

    def byte(self) -> int:
        self.at += 1
        return self.content[self.at - 1]

    def varint(self) -> int:
        value = shift = 0
        while True:
            byte = self.byte()
            value |= (byte & 0x7F) << shift
            if byte < 0x80:
                return value
            shift += 7
            if shift > 63:
                raise ValueError("a number too long")

    def whole(self) -> int:
        value = self.varint()
        return (value >> 1) ^ -(value & 1)

    def fields(self) -> Fields:
        found: Fields = {}
        number = 0
        while head := self.byte():
            number = number + (head >> 4) if head >> 4 else self.whole()
            kind = head & 0x0F
            found[number] = kind, self.value(kind)
        return found

    def value(self, kind: int, *, is_in_list: bool = False) -> Any:
        if kind in (_TRUE, _FALSE):
            return self.byte() == _TRUE if is_in_list else kind == _TRUE
        if kind == _BYTE:
            return self.byte()
        if kind in _WHOLE:
            return self.whole()
        if kind == _DOUBLE:
            return struct.unpack("<d", self.bytes(8))[0]
        if kind == _BINARY:
            return self.bytes(self.varint())
        if kind in (_LIST, _SET):
            head = self.byte()
            size = head >> 4 if head >> 4 < 15 else self.varint()
            of = head & 0x0F
            return Sequenced(of, [self.value(of, is_in_list=True) for _ in range(size)])
        if kind == _STRUCT:
            return self.fields()
        raise ValueError(f"a field of type {kind}")

    def bytes(self, length: int) -> bytes:
        if self.at + length > len(self.content):
            raise IndexError("cut short")
        self.at += length
        return self.content[self.at - length : self.at]


class _Writer:
    def __init__(self) -> None:
        self.made = bytearray()

    def varint(self, value: int) -> None:
        while value >= 0x80:
            self.made.append(value & 0x7F | 0x80)
            value >>= 7
        self.made.append(value)

    def whole(self, value: int) -> None:
        self.varint(value << 1 if value >= 0 else (-value << 1) - 1)

    def fields(self, fields: Fields) -> None:
        before = 0
        for number, (kind, value) in sorted(fields.items()):
            if 0 < number - before < 16:
                self.made.append((number - before) << 4 | kind)
            else:
                self.made.append(kind)
                self.whole(number)
            before = number
            self.value(kind, value)
        self.made.append(0)

    def value(self, kind: int, value: Any, *, is_in_list: bool = False) -> None:
        if kind in (_TRUE, _FALSE):
            if is_in_list:
                self.made.append(_TRUE if value else _FALSE)
        elif kind == _BYTE:
            self.made.append(value)
        elif kind in _WHOLE:
            self.whole(value)
        elif kind == _DOUBLE:
            self.made += struct.pack("<d", value)
        elif kind == _BINARY:
            self.varint(len(value))
            self.made += value
        elif kind in (_LIST, _SET):
            size = len(value.values)
            self.made.append(min(size, 15) << 4 | value.kind)
            if size >= 15:
                self.varint(size)
            for one in value.values:
                self.value(value.kind, one, is_in_list=True)
        else:
            self.fields(value)
