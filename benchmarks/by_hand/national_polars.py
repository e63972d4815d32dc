"""Semicolons, decimal commas and days like 03.04.2026, three columns added, with polars: SOURCE TARGET"""

from __future__ import annotations

import sys
from pathlib import Path

import polars as pl


def main(source: Path, target: Path) -> None:
    frame = pl.scan_csv(
        source, separator=";", decimal_comma=True, schema_overrides={"station": pl.String, "day": pl.String}
    ).with_columns(pl.col("day").str.to_date("%d.%m.%Y"))
    methods = {f"M{number:03d}": f"group {number % 7}" for number in range(400)}
    made = frame.with_columns(
        flow_class=pl.when(pl.col("flow") < 5)
        .then(pl.lit("low"))
        .when(pl.col("flow") < 40)
        .then(pl.lit("normal"))
        .otherwise(pl.lit("flood")),
        method_group=pl.col("method").replace_strict(methods, default=None),
        season=pl.when(pl.col("day").dt.month().is_between(4, 9))
        .then(pl.lit("summer"))
        .otherwise(pl.lit("winter")),
    )
    made.with_columns(pl.col("day").dt.strftime("%d.%m.%Y")).sink_csv(
        target, separator=";", decimal_comma=True
    )


if __name__ == "__main__":
    main(*map(Path, sys.argv[1:]))
