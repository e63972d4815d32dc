"""What a pipeline of bounded memory cannot leave out, with Arrow alone: all columns are read, and written with two numbers more; where lines
are written whole, the columns of a share are read before: python arrow_stream.py SOURCE TARGET
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as arrow_csv
import pyarrow.parquet as pq

_TYPES = {
    "sample": pa.int64(),
    "station": pa.string(),
    "year": pa.int64(),
    "ph": pa.float64(),
    "oxygen": pa.float64(),
    "nitrate": pa.float64(),
    "flow": pa.float64(),
    "method": pa.string(),
}


def batches(source: Path, names: list[str]) -> Iterator[pa.RecordBatch]:
    """Yield the rows of a file, some of its columns."""
    options = arrow_csv.ConvertOptions(column_types=_TYPES, include_columns=names)
    yield from arrow_csv.open_csv(source, convert_options=options)


def with_load(batch: pa.RecordBatch) -> pa.RecordBatch:
    """Return a batch with one number for each row that was made, and its share of a constant."""
    load = pc.multiply(pc.multiply(batch["flow"], batch["nitrate"]), 86.4)
    return batch.append_column("load", load).append_column("load_share", pc.divide(load, 1e9))


def main(source: Path, target: Path) -> None:
    """Read, and write."""
    total = 0.0
    for batch in batches(source, ["station", "flow", "nitrate"]) if target.suffix == ".csv" else ():
        total += pc.sum(pc.multiply(batch["flow"], batch["nitrate"])).as_py() or 0.0
    rows = map(with_load, batches(source, list(_TYPES)))
    first = next(rows)
    if target.suffix == ".csv":
        with arrow_csv.CSVWriter(target, first.schema) as to_csv:
            to_csv.write_batch(first)
            for batch in rows:
                to_csv.write_batch(batch)
    else:
        with pq.ParquetWriter(target, first.schema) as to_parquet:
            waiting = [first]
            for batch in rows:
                waiting.append(batch)
                if len(waiting) == 12:
                    to_parquet.write_table(pa.Table.from_batches(waiting))
                    waiting = []
            if waiting:
                to_parquet.write_table(pa.Table.from_batches(waiting))


if __name__ == "__main__":
    main(*map(Path, sys.argv[1:]))
