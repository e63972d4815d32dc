"""CSV and TSV written: the source's own fields as they were, and the record of the target beside it."""

from __future__ import annotations

import codecs
import csv
import io
import json
import math
import shutil
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.arrays import in_threads
from kivvet.core.columns.convert import bytes_of_texts
from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.values import write_plain
from kivvet.core.words.wording import shown_path
from kivvet.io.files import hash_bytes_of, replacing
from kivvet.io.hashed_file import HashedFile
from kivvet.io.kept_records import KeptRecords
from kivvet.io.source_and_target import AS_IT_IS_NAMED, Seal, Target, WriteOptions

_QUOTE = '"'
_BYTES_AT_ONCE = 1 << 20
_ROWS_A_PART = 1 << 13
_ROWS_FOR_THREADS = 1 << 15
_STRUCTURAL = b'"\r\n'  # and the delimiter: a field that holds one of them stands in quotes
#: Bytes that stand for structural ones within fields while a batch is made into lines; texts hardly hold any.
_STANDING_IN = bytes([*range(1, 9), *range(14, 32)])


class CsvTarget(Target):
    """Writes a CSV or TSV file; missing is an empty field, and quotes stand only where they are needed."""

    def __init__(
        self,
        path: Path,
        target: Path,
        names: Sequence[str],
        delimiter: str = ",",
        options: WriteOptions = AS_IT_IS_NAMED,
        grown: Path | None = None,
    ) -> None:
        self.path = path
        self.target = target
        self.delimiter = options.delimiter or delimiter
        self.options = options
        is_plain = codecs.lookup(options.encoding).name == "utf-8"
        # It writes the mark of an encoding that has one, once.
        self.encoder = None if is_plain else codecs.getincrementalencoder(options.encoding)()
        buffer = io.StringIO()
        csv.writer(buffer, delimiter=self.delimiter, lineterminator="\n").writerow(names)
        self.file = HashedFile(path)
        self.sink = pa.PythonFile(self.file, "w")
        if grown is None:
            self._put(buffer.getvalue().encode())
        else:  # the rows of another file stand before
            with grown.open("rb") as held:
                shutil.copyfileobj(held, self.file, _BYTES_AT_ONCE)
        self.is_single = len(names) == 1

    def _put(self, lines: bytes | pa.Buffer) -> None:
        """Write lines of UTF-8, in the encoding that is asked for."""
        if self.encoder is None:
            self.file.write(lines)
            return
        text = bytes(lines).decode()
        try:
            self.file.write(self.encoder.encode(text))
        except UnicodeEncodeError as error:
            line = text[text.rfind("\n", 0, error.start) + 1 :].split("\n")[0]
            raise DataError(
                f"{text[error.start]!r} cannot be written in {self.options.encoding}",
                place=Place(shown_path(self.target)),
                found=line[:100],
                fix='set the encoding of the target to "utf-8"',
            ) from error

    def write(self, columns: Sequence[pa.Array]) -> None:
        made: dict[int, tuple[list[pa.Array], bool]] = {}

        def work(start: int, end: int) -> None:
            if start < end:
                made[start] = self._fields([column.slice(start, end - start) for column in columns])

        in_threads(work, len(columns[0]), _ROWS_FOR_THREADS)
        for start in sorted(made):
            texts, is_quoted = made.pop(start)
            if is_quoted:
                self._put(self._lines_of_quoted(texts))
            elif self.encoder is None:
                self._join(texts, self.sink)
            else:
                self._put(self._lines(texts))

    def _fields(self, columns: Sequence[pa.Array]) -> tuple[list[pa.Array], bool]:
        """Return the fields of some rows as texts, and whether some stand in quotes."""
        texts = [as_text(column, self.options) for column in columns]
        is_odd = [self._holds_structure(text) for text in texts]
        if self.is_single and (texts[0].null_count or pc.any(pc.equal(texts[0], "")).as_py()):
            # An empty line would be no row.
            is_empty = pc.equal(pc.fill_null(texts[0], ""), "")
            return [pc.if_else(is_empty, _QUOTE * 2, self._quoted(texts[0]))], True
        if any(is_odd):
            return [self._quoted(one) if odd else one for one, odd in zip(texts, is_odd, strict=True)], True
        return texts, False

    def _lines(self, texts: Sequence[pa.Array]) -> pa.Buffer:
        """Return lines of fields without structural signs, as bytes."""
        sink = pa.BufferOutputStream()
        self._join(texts, sink)
        return sink.getvalue()

    def _join(self, texts: Sequence[pa.Array], sink: pa.NativeFile) -> None:
        """Write lines of fields without structural signs."""
        from pyarrow import csv as arrow_csv

        batch = pa.RecordBatch.from_arrays(texts, names=[str(number) for number in range(len(texts))])
        options = arrow_csv.WriteOptions(
            include_header=False, delimiter=self.delimiter, quoting_style="none", batch_size=_ROWS_A_PART
        )
        arrow_csv.write_csv(batch, sink, options)

    def _lines_of_quoted(self, texts: Sequence[pa.Array]) -> bytes:
        """Return lines of fields that are quoted already where they must be.

        Arrow joins fields without structural signs only, so that others stand in for these until the lines are made.
        """
        structural = _STRUCTURAL + self.delimiter.encode()
        held = set().union(*(_bytes_held(text, _STANDING_IN) for text in texts))
        free = bytes(byte for byte in _STANDING_IN if byte not in held)[: len(structural)]
        if len(free) < len(structural):
            return self._joined(texts)
        hide, show = bytes.maketrans(structural, free), bytes.maketrans(free, structural)
        lines = self._lines([_translated(text, hide) for text in texts])
        return bytes(lines).translate(show)

    def _joined(self, texts: Sequence[pa.Array]) -> bytes:
        """Return lines of any fields at all."""
        large = [pc.fill_null(text, "").cast(pa.large_string()) for text in texts]
        delimiter, line_end, nothing = (
            pa.scalar(text, pa.large_string()) for text in (self.delimiter, "\n", "")
        )
        lines = pc.binary_join_element_wise(pc.binary_join_element_wise(*large, delimiter), line_end, nothing)
        return bytes(bytes_of_texts(lines))

    def _holds_structure(self, texts: pa.Array) -> bool:
        return bool(_bytes_held(texts, _STRUCTURAL + self.delimiter.encode()))

    def _quoted(self, texts: pa.Array) -> pa.Array:
        pattern = f'["\r\n{self.delimiter}]'
        odd = pc.match_substring_regex(texts, pattern)
        doubled = pc.replace_substring(texts, _QUOTE, _QUOTE * 2)
        return pc.if_else(odd, pc.binary_join_element_wise(_QUOTE, doubled, _QUOTE, ""), texts)

    def commit(self, seal: Seal) -> None:
        self.close()
        write_record_beside(self.target, seal(self.file.digest.hexdigest()))

    def close(self) -> None:
        """Finish the file, without a record."""
        self.file.close()

    def abandon(self) -> None:
        self.file.close()


def _content(texts: pa.Array) -> npt.NDArray[np.uint8]:
    """Return the bytes of all fields of an array of texts, one after the other."""
    _, offsets, content = texts.buffers()
    if content is None or not len(texts):
        return np.zeros(0, np.uint8)
    ends = np.frombuffer(offsets, np.int32, len(texts) + 1, 4 * texts.offset)
    return np.frombuffer(content, np.uint8)[ends[0] : ends[-1]]


def _bytes_held(texts: pa.Array, wanted: bytes) -> set[int]:
    """Return those of some bytes that fields hold."""
    content = _content(texts)
    if not content.size or content.min() > max(wanted):
        return set()
    return {byte for byte in wanted if (content == byte).any()}


def _translated(texts: pa.Array, table: bytes) -> pa.Array:
    """Return texts with bytes exchanged for others."""
    valid, offsets, content = texts.buffers()
    if content is None or not len(texts):
        return texts
    ends = np.frombuffer(offsets, np.int32, texts.offset + len(texts) + 1)
    exchanged = _content(texts).tobytes().translate(table)
    buffers = [valid, pa.py_buffer(ends - ends[texts.offset]), pa.py_buffer(exchanged)]
    return pa.Array.from_buffers(texts.type, len(texts), buffers, texts.null_count, texts.offset)


def begin(delimiter: str) -> Callable[[Path, Path, pa.Schema, WriteOptions], CsvTarget]:
    """Return what begins a target with some delimiter, unless another is asked for."""
    return lambda path, target, schema, options: CsvTarget(path, target, schema.names, delimiter, options)


def extend(delimiter: str) -> Callable[[Path, Path, pa.Schema, WriteOptions], CsvTarget | None]:
    """Return what begins a target with all that it holds already; None where that cannot be done."""

    def begun(path: Path, target: Path, schema: pa.Schema, options: WriteOptions) -> CsvTarget | None:
        if codecs.lookup(options.encoding).name != "utf-8":
            return None
        with target.open("rb") as held:
            held.seek(-1, io.SEEK_END)
            if held.read(1) != b"\n":
                return None
        return CsvTarget(path, target, schema.names, delimiter, options, target)

    return begun


def record_file(target: Path) -> Path:
    """Return the file beside a target that holds its record."""
    return target.with_name(target.name + ".kivvet.json")


def kept_records(target: Path) -> KeptRecords:
    """Return the records kept beside a target, the newest first, and the hash of what the target holds."""
    try:
        values = json.loads(record_file(target).read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError):
        values = None
    given = values.get("records", []) if isinstance(values, dict) else []
    return KeptRecords(given if isinstance(given, list) else [], lambda: hash_bytes_of(target))


def write_record_beside(target: Path, record: Mapping[str, Any]) -> None:
    """Write the record of a target that is about to be replaced, keeping the one that fits what is there now.

    The one whose hash fits the target counts, so that a crash between the two writes leaves a true record.
    """
    records = [record]
    if target.is_file():
        kept = kept_records(target)
        known = [value for value in kept.values if isinstance(value, dict)]
        records += [one for one in known if one.get("target_hash") == kept.content_hash][:1]
    with replacing(record_file(target)) as path:
        path.write_text(json.dumps({"records": records}, indent=1, ensure_ascii=False), encoding="utf-8")


#: What stands between the values of a list in one CSV field.
LIST_SEPARATOR = "; "


def list_as_text(column: pa.Array) -> pa.Array:
    """Return a column of lists as text, for files that have no lists; other columns as they are."""
    if not pa.types.is_list(column.type):
        return column
    return pc.binary_join(column.cast(pa.list_(pa.string())), LIST_SEPARATOR)


def as_text(column: pa.Array, options: WriteOptions = AS_IT_IS_NAMED) -> pa.Array:
    """Return a column as it is written in CSV: without options dates and times in ISO form; booleans as true and
    false.
    """
    type_ = column.type
    if pa.types.is_dictionary(type_):
        return as_text(column.dictionary, options).take(column.indices)
    if options.decimal != "." and (pa.types.is_floating(type_) or pa.types.is_decimal(type_)):
        return pc.replace_substring(as_text(column), ".", options.decimal)
    pattern = (
        options.dates if pa.types.is_date(type_) else options.times if pa.types.is_timestamp(type_) else ""
    )
    if pattern:
        encoded = pc.dictionary_encode(column)
        texts = [
            None if value is None else value.strftime(pattern) for value in encoded.dictionary.to_pylist()
        ]
        return pa.array(texts, pa.string()).take(encoded.indices)
    if pa.types.is_string(type_):
        return column
    if pa.types.is_floating(type_):
        return _written_floats(column.cast(pa.float64()))
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
    is_odd &= values.is_valid().to_numpy(zero_copy_only=False)
    if not is_odd.any():
        return texts
    odd = [None if math.isnan(number) else write_plain(number) for number in numbers[is_odd].tolist()]
    return pc.replace_with_mask(texts, pa.array(is_odd), pa.array(odd, pa.string()))
