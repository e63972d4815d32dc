"""Arrow and JSON lines: the rows of a lookup, whole."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa

from kivvet.io.source_and_target import AS_IT_SAYS, ReadOptions


def read_arrow(path: Path, _: ReadOptions = AS_IT_SAYS) -> pa.Table:
    """Return all rows of a file of Arrow, with or without its index."""
    with pa.memory_map(str(path)) as file:
        try:
            return pa.ipc.open_file(file).read_all()
        except pa.ArrowInvalid:
            file.seek(0)
            return pa.ipc.open_stream(file).read_all()


def read_json_lines(path: Path, _: ReadOptions = AS_IT_SAYS) -> pa.Table:
    """Return JSON lines, texts left as texts: what looks like a date is one only where the table declares it."""
    import pyarrow.json as arrow_json

    read = arrow_json.read_json(path)
    times = [field.name for field in read.schema if pa.types.is_timestamp(field.type)]
    if not times:
        return read
    schema = pa.schema([(name, pa.string()) for name in times])
    return arrow_json.read_json(path, parse_options=arrow_json.ParseOptions(explicit_schema=schema))
