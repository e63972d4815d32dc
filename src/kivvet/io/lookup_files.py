"""The rows of a lookup from a file, whole: CSV and TSV as text, Parquet, Arrow and JSON lines with their types."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.csv_files import CsvSource
from kivvet.io.csv_records import CsvForm, LinesOfRows


def read_frame(path: Path, headings_on_line: int = 1) -> pa.Table:
    """Return the rows of a file; `headings_on_line` is for CSV and TSV.

    Raises
    ------
    DataError
        If it cannot be read, or is not what its name says.
    """
    if path.suffix in (".csv", ".tsv"):
        return CsvSource(path, headings_on_line=headings_on_line).read_all()
    try:
        return _READERS[path.suffix](path)
    except (pa.ArrowInvalid, pa.ArrowTypeError, OSError) as error:
        said = str(error).strip().split("\n")[0]
        raise DataError(
            f"cannot be read as {path.suffix[1:]}: {said}",
            place=Place(shown_path(path)),
            fix="write the file again, or name it as what it is",
        ) from error


def _parquet(path: Path) -> pa.Table:
    import pyarrow.parquet as pq

    return pq.read_table(path)


def _arrow(path: Path) -> pa.Table:
    with pa.memory_map(str(path)) as file:
        try:
            return pa.ipc.open_file(file).read_all()
        except pa.ArrowInvalid:
            file.seek(0)
            return pa.ipc.open_stream(file).read_all()


def _json_lines(path: Path) -> pa.Table:
    """Return JSON lines, texts left as texts: what looks like a date is one only where the table declares it."""
    import pyarrow.json as arrow_json

    read = arrow_json.read_json(path)
    times = [field.name for field in read.schema if pa.types.is_timestamp(field.type)]
    if not times:
        return read
    schema = pa.schema([(name, pa.string()) for name in times])
    return arrow_json.read_json(path, parse_options=arrow_json.ParseOptions(explicit_schema=schema))


def lines_of_rows(path: Path, headings_on_line: int = 1) -> LinesOfRows | None:
    """Return what gives the places of the rows of a file; None where rows stand on no lines."""
    if path.suffix not in (".csv", ".tsv"):
        return None
    form = CsvForm("\t" if path.suffix == ".tsv" else ",", lines_above=headings_on_line - 1)
    return LinesOfRows(path, shown_path(path), form)


_READERS = {".parquet": _parquet, ".arrow": _arrow, ".jsonl": _json_lines}
