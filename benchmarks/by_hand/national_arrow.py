"""What a pipeline of bounded memory cannot leave out, with Arrow alone: fields read, those that tables look at converted, all written
with three columns of texts more: python national_arrow.py SOURCE TARGET
"""

from __future__ import annotations

import sys
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as arrow_csv

_NAMES = ("station", "day", "flow", "nitrate", "method")


def with_texts(batch: pa.RecordBatch) -> pa.RecordBatch:
    """Return a batch with a text by flow, one by month, and one for each method."""
    flow = pc.replace_substring(batch["flow"], ",", ".").cast(pa.float64())
    pc.replace_substring(batch["nitrate"], ",", ".").cast(pa.float64())
    days = batch["day"].dictionary_encode()
    month = pc.month(pc.strptime(days.dictionary, "%d.%m.%Y", "s")).take(days.indices)
    batch = batch.append_column("flow_class", pc.if_else(pc.less(flow, 5), "low", "normal"))
    batch = batch.append_column("method_group", batch["method"])
    return batch.append_column("season", pc.if_else(pc.less(month, 4), "winter", "summer"))


def main(source: Path, target: Path) -> None:
    """Read, and write."""
    rows = map(
        with_texts,
        arrow_csv.open_csv(
            source,
            parse_options=arrow_csv.ParseOptions(delimiter=";"),
            convert_options=arrow_csv.ConvertOptions(column_types=dict.fromkeys(_NAMES, pa.string())),
        ),
    )
    first = next(rows)
    options = arrow_csv.WriteOptions(delimiter=";", quoting_style="none")
    with arrow_csv.CSVWriter(target, first.schema, write_options=options) as writer:
        writer.write_batch(first)
        for batch in rows:
            writer.write_batch(batch)


if __name__ == "__main__":
    main(*map(Path, sys.argv[1:]))
