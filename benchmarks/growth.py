"""How costs grow with the size of each kind of table and file: the exponent over four sizes, 1 being in
proportion.

CPU seconds of this process are measured, since they depend less on what else a machine does; the figure of
each size is the least of a few runs.
"""

from __future__ import annotations

import math
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa

import kivvet
from benchmarks.lines import Line

MOST_EXPONENT = 1.15
_RUNS = 2
_NOISE = 0.02  # seconds below which growth says nothing

Work = Callable[[int, Path], Callable[[], Any]]


def _table(name: str, inputs: Any, outputs: Any, rows: Any = None, **more: Any) -> kivvet.RuleTable:
    return kivvet.RuleTable(name, inputs, outputs, rows, **more)


def _checked_and_applied(make: Callable[[], kivvet.RuleTable], frame: Any) -> Callable[[], Any]:
    def work() -> None:
        table = make()
        report = table.check()
        if not report.has_errors:
            table.apply(frame)

    return work


def mapping_rows(n: int, _: Path) -> Callable[[], Any]:
    rows = [[f"k{i}", f"c{i % 7}"] for i in range(n)]
    return _checked_and_applied(
        lambda: _table("t", {"x": "text"}, {"y": "text"}, rows), pa.table({"x": ["k1"]})
    )


def bins_rows(n: int, _: Path) -> Callable[[], Any]:
    rows = [["< 0", "a"], *([f"{i} to <{i + 1}", f"c{i % 7}"] for i in range(n)), [f">= {n}", "z"]]
    return _checked_and_applied(
        lambda: _table("t", {"x": "number"}, {"y": "text"}, rows), pa.table({"x": [1.5]})
    )


def codes_rows(n: int, _: Path) -> Callable[[], Any]:
    rows = [[f"A{i:07}*", f"c{i % 7}"] for i in range(n)]
    inputs = {"x": {"type": "text", "domain": "A*"}}
    more = {"otherwise": {"y": "rest"}}
    return _checked_and_applied(
        lambda: _table("t", inputs, {"y": "text"}, rows, **more), pa.table({"x": ["A0000001"]})
    )


def list_in_a_cell(n: int, _: Path) -> Callable[[], Any]:
    cell = " | ".join(f"k{i}" for i in range(n))
    rows = [[cell, "a"], ["z", "b"]]
    return _checked_and_applied(
        lambda: _table("t", {"x": "text"}, {"y": "text"}, rows), pa.table({"x": ["k1"]})
    )


def first_match_rows(n: int, _: Path) -> Callable[[], Any]:
    rows = [[f"< {i}", f"c{i % 7}"] for i in range(n)]
    more = {"match": "first", "otherwise": {"y": "rest"}}
    return _checked_and_applied(
        lambda: _table("t", {"x": "number"}, {"y": "text"}, rows, **more), pa.table({"x": [1.5]})
    )


def lookup_keys(n: int, _: Path) -> Callable[[], Any]:
    frame = pa.table({"k": [f"k{i}" for i in range(n)], "v": pa.array(range(n))})
    data = pa.table({"k": ["k1", "k2"]})
    return _checked_and_applied(lambda: _table("t", {"k": "text"}, {"v": "integer"}, lookup=frame), data)


def lookup_repeated(n: int, _: Path) -> Callable[[], Any]:
    frame = pa.table({"k": [f"k{i // 2}" for i in range(n)], "v": pa.array(range(n))})
    return lambda: _table("t", {"k": "text"}, {"v": "integer"}, lookup=frame).check()


def lookup_ranges(n: int, _: Path) -> Callable[[], Any]:
    inputs = {"x": {"type": "number", "from": "a", "to": "b", "ends": "[)"}}
    starts = np.arange(n, dtype=float)
    frame = pa.table({"a": starts, "b": starts + 1, "v": np.arange(n)})
    return _checked_and_applied(
        lambda: _table("t", inputs, {"v": "integer"}, lookup=frame), pa.table({"x": [1.5]})
    )


def lookup_ranges_that_meet(n: int, _: Path) -> Callable[[], Any]:
    inputs = {"x": {"type": "number", "from": "a", "to": "b", "ends": "[)"}}
    starts = np.arange(n, dtype=float)
    ends = starts + 1
    ends[n // 2] += 0.5
    frame = pa.table({"a": starts, "b": ends, "v": np.arange(n)})
    more = {"severity": {"overlap": "warning"}}
    return _checked_and_applied(
        lambda: _table("t", inputs, {"v": "integer"}, lookup=frame, **more), pa.table({"x": [1.5]})
    )


def lookup_periods(n: int, _: Path) -> Callable[[], Any]:
    inputs = {"k": "text", "d": {"type": "date", "from": "a", "to": "b", "ends": "[)"}}
    days = np.arange(n) % 50 * 30
    frame = pa.table(
        {
            "k": [f"k{i // 50}" for i in range(n)],
            "a": pa.array(days.astype(np.int32)).cast(pa.date32()),
            "b": pa.array((days + 30).astype(np.int32)).cast(pa.date32()),
            "v": np.arange(n),
        }
    )
    data = pa.table({"k": ["k1"], "d": pa.array([5], pa.int32()).cast(pa.date32())})
    return _checked_and_applied(lambda: _table("t", inputs, {"v": "integer"}, lookup=frame), data)


def _write_book(folder: Path, files: dict[str, str]) -> Path:
    for name, text in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    return folder


def inline_rows(n: int, folder: Path) -> Callable[[], Any]:
    rows = "".join(f'  ["k{i}", "c{i % 7}"],\n' for i in range(n))
    text = f'inputs.x = "text"\noutputs.y = "text"\nrows = [\n{rows}]\n'
    book = _write_book(folder, {"book.toml": "", "tables/t.toml": text})
    return lambda: kivvet.open_book(book).check()


def csv_rows(n: int, folder: Path) -> Callable[[], Any]:
    rows = "x,y\n" + "".join(f"k{i},c{i % 7}\n" for i in range(n))
    files = {"book.toml": "", "tables/t.toml": 'inputs.x = "text"\noutputs.y = "text"\nrows = "t.csv"\n'}
    book = _write_book(folder, {**files, "tables/t.csv": rows})
    return lambda: kivvet.open_book(book).check()


def domain_of_keys(n: int, folder: Path) -> Callable[[], Any]:
    keys = "k,v\n" + "".join(f"k{i},{i}\n" for i in range(n))
    book = _write_book(
        folder,
        {
            "book.toml": "",
            "tables/keys.toml": 'inputs.k = "text"\noutputs.v = "integer"\nlookup = "keys.csv"\n',
            "tables/keys.csv": keys,
            "tables/t.toml": 'inputs.x = { type = "text", domain = "keys.k" }\noutputs.y = "text"\n'
            'otherwise = { y = "rest" }\nrows = [["k1", "a"]]\n',
        },
    )
    return lambda: kivvet.open_book(book).check()


def _data_book(folder: Path, data: str) -> Path:
    return _write_book(
        folder,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "out.csv"\ncolumns = ["t"]\n',
            "d.csv": data,
            "tables/t.toml": 'inputs.c0 = "integer"\noutputs.y = "text"\nrows = [["< 5", "a"], [">= 5", "b"]]\n',
        },
    )


def csv_columns(n: int, folder: Path) -> Callable[[], Any]:
    names = ",".join(f"c{i}" for i in range(n))
    fields = ",".join(str(i % 10) for i in range(n))
    book = _data_book(folder, f"{names}\n{fields}\n{fields}\n")
    return lambda: kivvet.open_book(book).apply_dataset("d")


def csv_data(n: int, folder: Path) -> Callable[[], Any]:
    book = _data_book(folder, "c0,c1\n" + "".join(f"{i % 10},x{i}\n" for i in range(n)))
    return lambda: kivvet.open_book(book).apply_dataset("d")


def unmatched_values(n: int, folder: Path) -> Callable[[], Any]:
    book = _write_book(
        folder,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "out.csv"\ncolumns = ["t"]\n',
            "d.csv": "x\n" + "".join(f"v{i}\n" for i in range(n)),
            "tables/t.toml": 'inputs.x = "text"\noutputs.y = "text"\nrows = [["a", "b"]]\n',
        },
    )
    return lambda: kivvet.open_book(book).check()


def drafted(n: int, _: Path) -> Callable[[], Any]:
    frame = pd.DataFrame({"x": [f"v{i}" for i in range(n)]})
    return lambda: str(kivvet.draft(frame, "x"))


def several_inputs(n: int, _: Path) -> Callable[[], Any]:
    rows = [["a", "b", "y"], *([f"{i} to <{i + 1}", "", f"c{i % 7}"] for i in range(n))]
    return lambda: _table(
        "t", {"a": "number", "b": "number"}, {"y": "text"}, rows, otherwise={"y": "rest"}
    ).check()


#: By name what is made and done at each size, and the four sizes.
GROWING: dict[str, tuple[Work, tuple[int, int, int, int]]] = {
    "mapping, rows": (mapping_rows, (4_000, 8_000, 16_000, 32_000)),
    "bins, rows": (bins_rows, (4_000, 8_000, 16_000, 32_000)),
    "codes, rows": (codes_rows, (2_000, 4_000, 8_000, 16_000)),
    "first match, rows": (first_match_rows, (2_000, 4_000, 8_000, 16_000)),
    "a list in a cell": (list_in_a_cell, (4_000, 8_000, 16_000, 32_000)),
    "lookup, keys": (lookup_keys, (125_000, 250_000, 500_000, 1_000_000)),
    "lookup, keys twice": (lookup_repeated, (8_000, 16_000, 32_000, 64_000)),
    "lookup, ranges": (lookup_ranges, (31_250, 62_500, 125_000, 250_000)),
    "lookup, ranges that meet": (lookup_ranges_that_meet, (31_250, 62_500, 125_000, 250_000)),
    "lookup, periods": (lookup_periods, (31_250, 62_500, 125_000, 250_000)),
    "rows in the table's file": (inline_rows, (4_000, 8_000, 16_000, 32_000)),
    "rows in CSV": (csv_rows, (4_000, 8_000, 16_000, 32_000)),
    "domain from a table": (domain_of_keys, (4_000, 8_000, 16_000, 32_000)),
    "CSV, columns": (csv_columns, (1_250, 2_500, 5_000, 10_000)),
    "CSV, rows": (csv_data, (125_000, 250_000, 500_000, 1_000_000)),
    "unmatched values": (unmatched_values, (25_000, 50_000, 100_000, 200_000)),
    "draft, values": (drafted, (12_500, 25_000, 50_000, 100_000)),
}
#: What is as hard as any covering question: its growth is stated, and has no bound.
STATED: dict[str, tuple[Work, tuple[int, int, int, int]]] = {
    "several inputs, rows": (several_inputs, (250, 500, 1_000, 2_000)),
}


def exponent(sizes: tuple[int, ...], seconds: list[float]) -> float:
    """Return the slope of the line of least squares through the logarithms."""
    x, y = np.log(sizes), np.log(np.maximum(seconds, 1e-6))
    return float(np.polyfit(x, y, 1)[0])


def figures() -> Iterator[Line]:
    """Yield the exponent by which CPU time grows with the size, over four sizes."""
    for title, (make, sizes) in {**GROWING, **STATED}.items():
        seconds = [_measured(make, size) for size in sizes]
        has_target = title not in STATED and seconds[-1] >= _NOISE
        work = f"{title}: {sizes[-1]:,} in {seconds[-1]:.2f} s"
        yield Line(work, exponent(sizes, seconds), "n^", target=MOST_EXPONENT if has_target else None)


def _measured(make: Work, size: int) -> float:
    best = math.inf
    for _ in range(_RUNS):
        with tempfile.TemporaryDirectory() as folder:
            work = make(size, Path(folder))
            start = time.process_time()
            work()
            best = min(best, time.process_time() - start)
    return best
