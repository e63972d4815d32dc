"""Whole pipelines, each in a process of its own: what `kivvet apply` takes beside the scripts of `by_hand`.

Six additions to each row: bins, a mapping, a lookup by two keys with three outputs, rules of three inputs, a formula
and a share over groups. Targets are compared row by row before a time counts. Refresh, status, check and look follow.
"""

from __future__ import annotations

import statistics
import sys
from collections.abc import Iterator
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as arrow_csv
import pyarrow.parquet as pq

from benchmarks.lines import Line
from benchmarks.processes import cost_of, in_turn, loading

N_ROWS = {"Parquet": 10_000_000, "CSV": 2_000_000}
ROUNDS = 3
N_STATIONS, YEARS = 5_000, range(2015, 2025)
_FIRST_DAY, _DAYS = 16_436, 3_652  # 2015 to 2024
_CSV_COLUMNS = ["sample", "station", "year", "ph", "oxygen", "nitrate", "flow", "method"]
_MADE = ["ph_class", "method_group", "quality", "load", "river", "region", "altitude", "load_share"]
_BOOK = """
[datasets.samples]
source = "SOURCE"
target = "TARGET"
types = { sample = "integer", station = "text", year = "integer", ph = "number", oxygen = "number", nitrate = "number", flow = "number", method = "text" }
columns = [
  "ph_class", "method", "quality", "load",
  { table = "station", keep = ["river", "region", "altitude"] },
  "load_share",
]
"""
_TABLES = {
    "ph_class": """
inputs.ph = { type = "number", domain = "0 to 14" }
outputs.ph_class = "text"
rows = [
  ["< 5.5", "acid"],
  ["5.5 to <6.5", "slightly acid"],
  ["6.5 to <7.5", "neutral"],
  ["7.5 to <8.5", "slightly alkaline"],
  [">= 8.5", "alkaline"],
]
""",
    "method": 'inputs.method = "text"\noutputs.method_group = "text"\nrows = "../method.csv"\n',
    "station": """
inputs.station = "text"
inputs.year = "integer"
outputs = { river = "text", region = "text", altitude = "integer" }
lookup = "../station.csv"
""",
    "quality": """
match = "first"
inputs = { nitrate = "number", oxygen = "number", ph = "number" }
outputs.quality = "text"
rows = [
  ["nitrate", "oxygen", "ph", "quality"],
  ["< 10",  ">= 8", "",    "good"],
  ["< 25",  ">= 6", ">= 6", "fair"],
  [">= 50", "< 4",  "",    "bad"],
  ["",     "",    "",    "poor"],
]
""",
}
_FORMULAS = """
load = "flow * nitrate * 86.4"
load_share = "load / SUM(load) OVER (PARTITION BY station)"
"""


#: Of wall time and CPU to the best by hand.
_TARGETS = {"Parquet to Parquet": (0.6, 0.5), "CSV to Parquet": (0.95, 1.0), "CSV to CSV": (1.0, 1.2)}


_IN_STREAM = {
    ".parquet": "Arrow alone, in a stream: read, and written with two numbers more",
    ".csv": "Arrow alone, in a stream: read twice, as a share needs, and written with two numbers more",
}


def figures(scale: float = 1) -> Iterator[Line]:
    """Yield the lines of each pipeline."""
    for title, source_form, target_suffix in (
        ("Parquet to Parquet", "Parquet", ".parquet"),
        ("CSV to Parquet", "CSV", ".parquet"),
        ("CSV to CSV", "CSV", ".csv"),
    ):
        with TemporaryDirectory() as name:
            yield from _pipeline(
                Path(name), title, source_form, target_suffix, int(N_ROWS[source_form] * scale)
            )


def _pipeline(folder: Path, title: str, source_form: str, suffix: str, n_rows: int) -> Iterator[Line]:
    source = folder / f"samples.{source_form.lower()}"
    # In a process of its own, so that what the making of data leaves in memory does not count.
    cost_of([sys.executable, "-m", "benchmarks.pipelines", str(source), str(n_rows)])
    _write_book(folder, source, folder / f"kivvet{suffix}")
    scripts = Path(__file__).parent / "by_hand"
    targets = {name: folder / f"{name}{suffix}" for name in ("kivvet", "polars", "duckdb")}
    kivvet = [sys.executable, "-m", "kivvet"]
    book = ["--book", str(folder / "book.toml")]
    contenders = {
        "kivvet": [*kivvet, "apply", "samples", *book],
        **{
            name: [
                sys.executable,
                str(scripts / f"{name}_pipeline.py"),
                str(source),
                str(targets[name]),
                str(folder),
            ]
            for name in ("polars", "duckdb")
        },
    }
    for name, command in contenders.items():
        cost_of(command)
        if name != "kivvet":
            _compare(targets["kivvet"], targets[name])
    best_of = list(contenders)[1:]
    if source_form == "CSV":
        floor = [
            sys.executable,
            str(scripts / "arrow_stream.py"),
            str(source),
            str(folder / f"arrow{suffix}"),
        ]
        contenders["floor"] = floor
    costs = in_turn(contenders, ROUNDS)
    best = min(best_of, key=lambda name: costs[name].wall)
    ours, other = costs["kivvet"], costs[best]
    wall, cpu = _TARGETS[title]
    floor_is = _IN_STREAM[suffix] if "floor" in costs else ""
    floor_of = costs["floor"] if floor_is else None
    yield Line(
        f"{title}, {n_rows:,} rows: wall",
        ours.wall,
        "s",
        best,
        other.wall,
        wall,
        None if floor_of is None else floor_of.wall,
        floor_is,
    )
    yield Line(
        "the same: CPU",
        ours.cpu,
        "s",
        best,
        other.cpu,
        cpu,
        None if floor_of is None else floor_of.cpu,
        floor_is,
    )
    yield Line("the same: memory", ours.peak, "MB", best, other.peak, 0.6)
    sizes = [targets[name].stat().st_size / 1e6 for name in ("kivvet", best)]
    yield Line("the same: size of the target", sizes[0], "MB", best, sizes[1], 1.0)
    status = [*kivvet, "status", "samples", *book]
    asked = in_turn({"kivvet": status, "floor": loading(status)}, ROUNDS)
    yield Line(
        "status, nothing changed",
        asked["kivvet"].wall,
        target=0.5,
        floor=asked["floor"].wall,
        floor_is="loading its modules alone",
    )
    target_of_refresh = None if suffix == ".csv" else 0.3
    took = _took_by_turns(folder / "method.csv", [*kivvet, "refresh", "samples", *book])
    python, option, code = loading(status)
    copying = f"import os, shutil; shutil.copyfile({str(targets['kivvet'])!r}, {str(folder / 'copy')!r}); os.fsync(os.open({str(folder / 'copy')!r}, os.O_RDONLY))"
    yield Line(
        "refresh, one row of a mapping changed",
        took,
        "s",
        "apply",
        ours.wall,
        target_of_refresh,
        _took([python, option, f"{code}; {copying}"]),
        "loading the modules of a status, and a copy of the target on the disk",
    )
    (folder / "copy").unlink()
    counting = [
        sys.executable,
        str(scripts / "polars_pipeline.py"),
        str(source),
        str(folder / "x.counts"),
        str(folder),
    ]
    checks = in_turn({"kivvet": [*kivvet, "check", *book], "floor": counting}, ROUNDS, allowed=(0, 1))
    yield Line(
        "check, with its data",
        checks["kivvet"].wall,
        "s",
        "apply",
        ours.wall,
        0.6,
        checks["floor"].wall,
        "polars: the same columns made and counted",
    )
    yield Line("look", _took([*kivvet, "look", str(source)]), "s", "apply", ours.wall, 0.9)


def _took_by_turns(rows: Path, command: list[str]) -> float:
    """Return the median of what a command takes after a row of a mapping was changed, to and fro."""
    one, other = "group 1\n", "group one\n"
    took = []
    for _ in range(ROUNDS):
        rows.write_text(rows.read_text().replace(one, other, 1))
        took.append(_took(command, rounds=1))
        one, other = other, one
    return statistics.median(took)


def _took(command: list[str], rounds: int = ROUNDS) -> float:
    return in_turn({"kivvet": command}, rounds, allowed=(0, 1))["kivvet"].wall


def _write_book(folder: Path, source: Path, target: Path) -> None:
    (folder / "book.toml").write_text(
        _BOOK.replace("SOURCE", source.name).replace("TARGET", target.name), encoding="utf-8"
    )
    (folder / "formulas.toml").write_text(_FORMULAS, encoding="utf-8")
    (folder / "tables").mkdir()
    for name, text in _TABLES.items():
        (folder / "tables" / f"{name}.toml").write_text(text, encoding="utf-8")
    methods = [f"M{number:03d},group {number % 7}" for number in range(400)]
    (folder / "method.csv").write_text("\n".join(["method,method_group", *methods, ""]), encoding="utf-8")
    keys = [
        f"{number:05d},{year},river {number % 60},region {(number + year) % 9},{number % 800}"
        for number in range(N_STATIONS)
        for year in YEARS
        if (number + year) % 50
    ]
    text = "\n".join(["station,year,river,region,altitude", *keys, ""])
    (folder / "station.csv").write_text(text, encoding="utf-8")


def samples(n_rows: int) -> Iterator[pa.Table]:
    """Yield made-up samples in parts: numbers with missing values, codes with leading zeros, days."""
    rng = np.random.default_rng(11)
    stations = pa.array([f"{number:05d}" for number in range(N_STATIONS)])
    methods = pa.array([f"M{number:03d}" for number in range(410)])  # ten of them stand in no table
    labs = pa.array([f"laboratory {number}" for number in range(30)])
    for begin in range(0, n_rows, 1_000_000):
        n = min(1_000_000, n_rows - begin)
        days = rng.integers(_FIRST_DAY, _FIRST_DAY + _DAYS, n).astype(np.int32)

        def some_missing(values: np.ndarray) -> pa.Array:  # type: ignore[type-arg]
            return pa.array(values, mask=rng.random(len(values)) < 0.03)

        yield pa.table(
            {
                "sample": np.arange(begin, begin + n),
                "station": stations.take(pa.array(rng.integers(0, N_STATIONS, n))),
                "day": pa.array(days).view(pa.date32()),
                "year": rng.integers(YEARS[0], YEARS[-1] + 1, n),
                "ph": some_missing(np.clip(np.round(rng.normal(7, 1, n), 2), 0, 14)),
                "oxygen": some_missing(np.round(rng.gamma(8, 1, n), 1)),
                "nitrate": some_missing(np.round(rng.gamma(2, 10, n), 2)),
                "flow": some_missing(np.round(rng.gamma(2, 20, n), 3)),
                "method": methods.take(pa.array(rng.integers(0, 410, n))),
                "lab": labs.take(pa.array(rng.integers(0, 30, n))),
                "batch": rng.integers(0, 2**40, n),
                "checked": rng.random(n) < 0.8,
            }
        )


def _write_samples(path: Path, n_rows: int) -> None:
    if path.suffix == ".parquet":
        writer = None
        for part in samples(n_rows):
            writer = writer or pq.ParquetWriter(path, part.schema)
            writer.write_table(part)
        assert writer is not None
        writer.close()
        return
    with path.open("wb") as file:
        for number, part in enumerate(samples(n_rows)):
            options = arrow_csv.WriteOptions(include_header=number == 0, quoting_style="needed")
            arrow_csv.write_csv(part.select(_CSV_COLUMNS), file, options)


def _compare(ours: Path, other: Path) -> None:
    """Raise unless two targets hold the same rows in the same order; sums of floats may differ in the last digits."""
    left, right = _read(ours), _read(other)
    for name in left.column_names:
        one, two = left[name].combine_chunks(), right[name].combine_chunks().cast(left[name].type)
        if pa.types.is_floating(one.type):
            gap = pc.abs(pc.subtract(one, two))
            near = pc.less_equal(gap, pc.multiply(pc.abs(one), 1e-9))
            is_same = one.is_null().equals(two.is_null()) and pc.all(near).as_py()
        else:
            is_same = one.equals(two)
        if not is_same:
            raise AssertionError(f"{other.name}: {name} differs")


def _read(path: Path) -> pa.Table:
    if path.suffix == ".parquet":
        table = pq.read_table(path, columns=["sample", *_MADE])
    else:
        kinds = {
            **dict.fromkeys(_MADE, pa.string()),
            "load": pa.float64(),
            "load_share": pa.float64(),
            "altitude": pa.int64(),
        }
        options = arrow_csv.ConvertOptions(
            column_types=kinds, include_columns=["sample", *_MADE], strings_can_be_null=True
        )
        table = arrow_csv.read_csv(path, convert_options=options)
    fields = [
        column.cast(pa.string())
        if pa.types.is_dictionary(column.type) or pa.types.is_large_string(column.type)
        else column
        for column in table.columns
    ]
    return pa.table(fields, names=table.column_names)


if __name__ == "__main__":
    _write_samples(Path(sys.argv[1]), int(sys.argv[2]))
