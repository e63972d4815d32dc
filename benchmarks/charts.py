"""Charts and the report of 10 million rows in a Parquet file, beside scripts that a good engineer would write: polars for the
figures, Matplotlib for the picture. What both draw is compared before a time counts.
"""

from __future__ import annotations

import io
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
from matplotlib.figure import Figure

import kivvet

_ROWS = 10_000_000
_BOUNDS = (6.5, 8.5)
_CLASSES = ("acidic", "neutral", "alkaline")


def figures() -> None:
    """Print a line for each picture: seconds of ours, of the script, and the ratio."""
    print(f"\ncharts: {_ROWS:,} rows of Parquet; seconds of ours, of a script by hand, and the ratio")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        _write(folder)
        book = kivvet.open_book(folder)
        _tell("histogram with bounds", lambda: _our_histogram(book), lambda: _histogram_by_hand(folder))
        _tell("bars in parts", lambda: _our_bars(book), lambda: _bars_by_hand(folder))
        seconds, _ = _timed(lambda: len(kivvet.open_book(folder).report().to_html()))
        checked, _ = _timed(lambda: kivvet.open_book(folder).check())
        print(
            f"  report, beside a check of the same book       {seconds:6.2f} {checked:6.2f} {seconds / checked:6.2f}"
        )


def _write(folder: Path) -> None:
    generator = np.random.default_rng(20)
    frame = pa.table(
        {
            "ph": np.round(np.clip(generator.normal(7.3, 0.8, _ROWS), 5.2, 9.4), 1),
            "river": pa.DictionaryArray.from_arrays(
                pa.array(generator.integers(0, 12, _ROWS, np.int32)), [f"river {n}" for n in range(12)]
            ).cast(pa.string()),
        }
    )
    pq.write_table(frame, folder / "d.parquet")
    (folder / "tables").mkdir()
    (folder / "tables/ph_class.toml").write_text(
        'inputs.ph = { type = "number", step = 0.1 }\noutputs.ph_class = "text"\n'
        'rows = [["< 6.5", "acidic"], ["6.5 to <8.5", "neutral"], [">= 8.5", "alkaline"]]\n'
    )
    (folder / "book.toml").write_text('[datasets.d]\nsource = "d.parquet"\ncolumns = ["ph_class"]\n')


def _our_histogram(book: kivvet.Book) -> dict[str, int]:
    chart = book.chart("ph_class")
    chart.to_bytes()
    return {layer["label"]: sum(layer["counts"]) for layer in chart.as_dict()["layers"]}


def _histogram_by_hand(folder: Path) -> dict[str, int]:
    ph = pl.read_parquet(folder / "d.parquet", columns=["ph"])["ph"].to_numpy()
    edges = np.linspace(ph.min(), ph.max(), 49)
    class_of = np.searchsorted(_BOUNDS, ph, side="right")
    figure = Figure(figsize=(12.8, 8), dpi=100)
    axes = figure.add_subplot()
    ends = np.zeros(48)
    told = {}
    for number, name in enumerate(_CLASSES):
        counts, _ = np.histogram(ph[class_of == number], edges)
        axes.bar(edges[:-1], counts, np.diff(edges), ends, align="edge", label=name)
        ends += counts
        told[name] = int(counts.sum())
    for bound in _BOUNDS:
        axes.axvline(bound)
    axes.legend()
    figure.savefig(io.BytesIO(), format="png")
    return told


def _our_bars(book: kivvet.Book) -> dict[tuple[str, str], int]:
    chart = book.chart("d", by=["river"], across="ph_class")
    chart.to_bytes()
    drawn = chart.as_dict()
    return {
        (bar, part["label"]): int(value)
        for part in drawn["parts"]
        for bar, value in zip(drawn["bars"], part["values"], strict=True)
    }


def _bars_by_hand(folder: Path) -> dict[tuple[str, str], int]:
    ph = pl.col("ph")
    label = pl.when(ph < _BOUNDS[0]).then(pl.lit("acidic")).when(ph < _BOUNDS[1]).then(pl.lit("neutral"))
    counts = (
        pl.scan_parquet(folder / "d.parquet")
        .with_columns(label.otherwise(pl.lit("alkaline")).alias("ph_class"))
        .group_by("river", "ph_class")
        .len()
        .collect()
    )
    wide = counts.pivot("ph_class", index="river", values="len").sort("river")
    figure = Figure(figsize=(12.8, 8), dpi=100)
    axes = figure.add_subplot()
    ends = np.zeros(len(wide))
    for name in _CLASSES:
        axes.barh(wide["river"], wide[name], left=ends, label=name)
        ends += wide[name].to_numpy()
    axes.legend()
    figure.savefig(io.BytesIO(), format="png")
    return {(row["river"], name): row[name] for row in wide.iter_rows(named=True) for name in _CLASSES}


def _tell(name: str, ours: Callable[[], Any], by_hand: Callable[[], Any]) -> None:
    assert ours() == by_hand(), name
    pairs = [(_timed(ours)[0], _timed(by_hand)[0]) for _ in range(3)]
    mine, theirs = (sorted(times)[1] for times in zip(*pairs, strict=True))
    print(f"  {name:<45} {mine:6.2f} {theirs:6.2f} {mine / theirs:6.2f}")


def _timed(work: Callable[[], Any]) -> tuple[float, Any]:
    begun = time.perf_counter()
    made = work()
    return time.perf_counter() - begun, made
