"""A frame in memory read as a source: what is asked of a file can be asked of it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

import pyarrow as pa

from kivvet.io.files import FileMarks
from kivvet.io.other_files import without_views
from kivvet.io.source_and_target import Source

_ROWS_A_BATCH = 1 << 17
SHOWN = "the frame"


class FrameSource(Source):
    """The rows of a table of Arrow; columns have the types they are held in."""

    def __init__(self, table: pa.Table) -> None:
        schema = without_views(table.schema)
        self.path = Path(SHOWN)
        self._table = table if schema.equals(table.schema) else table.cast(schema)
        self.stored_schema: pa.Schema = schema
        self.schema = dict(zip(schema.names, schema.types, strict=True))

    @property
    def shown_name(self) -> str:
        return SHOWN

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        chosen = self._table.select(self.names if names is None else list(names)).unify_dictionaries()
        yield from chosen.to_batches(max_chunksize=_ROWS_A_BATCH)

    def marks(self) -> FileMarks | None:
        return None
