"""CSV and TSV written: the source's own fields as they were, and the record of the target beside it."""

from __future__ import annotations

import csv
import io
import json
import math
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.convert import bytes_of_texts
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import write_plain
from kivvet.io.files import hash_bytes_of, replacing
from kivvet.io.source_and_target import Seal, Target

_NEEDS_QUOTES = '[",\r\n]'


class CsvTarget(Target):
    """Writes a CSV or TSV file; missing is an empty field, and quotes stand only where they are needed."""

    def __init__(self, path: Path, target: Path, names: Sequence[str], delimiter: str = ",") -> None:
        self.path = path
        self.target = target
        self.file = path.open("wb")
        self.delimiter = delimiter
        buffer = io.StringIO()
        csv.writer(buffer, delimiter=delimiter, lineterminator="\n").writerow(names)
        self.file.write(buffer.getvalue().encode())
        self.is_single = len(names) == 1

    def write(self, columns: Sequence[pa.Array]) -> None:
        texts = [
            self._quoted(as_text(column))
            if _may_need_quotes(column.type)
            else pc.fill_null(as_text(column), "")
            for column in columns
        ]
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

    def commit(self, seal: Seal) -> None:
        self.close()
        write_record_beside(self.target, seal(hash_bytes_of(self.path)))

    def close(self) -> None:
        """Finish the file, without a record."""
        self.file.close()

    def abandon(self) -> None:
        self.file.close()


def _may_need_quotes(type_: pa.DataType) -> bool:
    """Whether a column can hold a delimiter, a quote or a line end: numbers, dates, times and booleans cannot."""
    return not (
        pa.types.is_integer(type_)
        or pa.types.is_floating(type_)
        or pa.types.is_decimal(type_)
        or pa.types.is_boolean(type_)
        or pa.types.is_temporal(type_)
    )


def begin(delimiter: str) -> Callable[[Path, Path, pa.Schema], CsvTarget]:
    """Return what begins a target with some delimiter."""
    return lambda path, target, schema: CsvTarget(path, target, schema.names, delimiter)


def record_file(target: Path) -> Path:
    """Return the file beside a target that holds its record."""
    return target.with_name(target.name + ".kivvet.json")


def kept_records(target: Path) -> tuple[list[Any], str]:
    """Return the records kept beside a target, the newest first, and the hash of what the target holds."""
    try:
        values = json.loads(record_file(target).read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError):
        values = None
    given = values.get("records", []) if isinstance(values, dict) else []
    return given if isinstance(given, list) else [], hash_bytes_of(target)


def write_record_beside(target: Path, record: Mapping[str, Any]) -> None:
    """Write the record of a target that is about to be replaced, keeping the one that fits what is there now.

    The one whose hash fits the target counts, so that a crash between the two writes leaves a true record.
    """
    records = [record]
    if target.is_file():
        kept, actual = kept_records(target)
        records += [one for one in kept if isinstance(one, dict) and one.get("target_hash") == actual][:1]
    with replacing(record_file(target)) as path:
        path.write_text(json.dumps({"records": records}, indent=1, ensure_ascii=False), encoding="utf-8")


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
    if pa.types.is_floating(type_):
        encoded = pc.dictionary_encode(column)
        return _written_floats(encoded.dictionary.cast(pa.float64())).take(encoded.indices)
    if pa.types.is_timestamp(type_) or pa.types.is_decimal(type_):
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
    return None if value is None else write_plain(value)


def _written_floats(values: pa.Array) -> pa.Array:
    """Return floats as the shortest text that reads back as them; NaN is missing.

    Arrow writes those of common size as Python does; of the others it chooses another form.
    """
    numbers = values.to_numpy(zero_copy_only=False)
    size = np.abs(numbers)
    is_odd = ~((size >= 1e-4) & (size < 1e9) | (size == 0))
    texts = values.cast(pa.string())
    if not is_odd.any():
        return texts
    odd = [None if math.isnan(number) else write_plain(number) for number in numbers[is_odd].tolist()]
    return pc.replace_with_mask(texts, pa.array(is_odd), pa.array(odd, pa.string()))
