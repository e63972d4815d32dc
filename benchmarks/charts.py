"""Charts and the report of 10 million rows in a Parquet file, beside scripts that a good engineer would write: polars for the
figures, Matplotlib for the picture. What both draw is compared before a time counts.
"""

from __future__ import annotations

import io
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
from matplotlib.figure import Figure

import kivvet
from benchmarks.lines import Line
from benchmarks.runner import timed

_ROWS = 10_000_000
_BOUNDS = (6.5, 8.5)
_CLASSES = ("acidic", "neutral", "alkaline")


def figures() -> Iterator[Line]:
    """Yield a line for each picture, beside a script by hand."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        _write(folder)
        book = kivvet.open_book(folder)
        rows = f"{_ROWS:,} rows"
        yield _told(
            f"histogram with bounds, {rows}",
            1.3,
            lambda: _our_histogram(book),
            lambda: _histogram_by_hand(folder),
        )
        yield _told(f"bars in parts, {rows}", 1.3, lambda: _our_bars(book), lambda: _bars_by_hand(folder))
        seconds, _ = timed(lambda: len(kivvet.open_book(folder).report().to_html()))
        checked, _ = timed(lambda: kivvet.open_book(folder).check())
        yield Line("report", seconds, beside="a check of the same book", other=checked)


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


def _told(name: str, target: float, ours: Callable[[], Any], by_hand: Callable[[], Any]) -> Line:
    assert ours() == by_hand(), name
    pairs = [(timed(ours)[0], timed(by_hand)[0]) for _ in range(3)]
    mine, theirs = (sorted(times)[1] for times in zip(*pairs, strict=True))
    return Line(name, mine, beside="polars and Matplotlib", other=theirs, target=target)
