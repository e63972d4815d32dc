"""CSV as another country writes it: semicolons, decimal commas, days like 03.04.2026; read, three columns added, written.

Whole processes, beside scripts with polars and pandas; and how long it takes to recognise the file.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as arrow_csv

from benchmarks.lines import Line
from benchmarks.processes import cost_of, in_turn
from benchmarks.runner import timed
from kivvet.io.recognise import recognise

N_ROWS = 2_000_000
ROUNDS = 3
_BOOK = """
[datasets.readings]
source = "readings.csv"
target = "kivvet.csv"
delimiter = ";"
decimal = ","
types = { station = "text", flow = "number", nitrate = "number", day = { type = "date", pattern = "%d.%m.%Y" } }
written_as = { delimiter = ";", decimal = ",", dates = "%d.%m.%Y" }
columns = ["flow_class", "method_group", "season"]
"""
_TABLES = {
    "flow_class": 'inputs.flow = { type = "number", domain = ">= 0" }\noutputs.flow_class = "text"\nrows = [["< 5", "low"], ["5 to <40", "normal"], [">= 40", "flood"]]\n',
    "method_group": 'inputs.method = "text"\noutputs.method_group = "text"\nrows = "../method.csv"\n',
    "season": 'inputs.month = "integer"\noutputs.season = "text"\nrows = [["4 to 9", "summer"], ["1 to 3 | 10 to 12", "winter"]]\n',
}


def figures() -> Iterator[Line]:
    """Yield what each took."""
    with TemporaryDirectory() as name:
        folder = Path(name)
        source = folder / "readings.csv"
        cost_of([sys.executable, "-m", "benchmarks.national", str(source)])
        (folder / "tables").mkdir()
        for table, text in _TABLES.items():
            (folder / "tables" / f"{table}.toml").write_text(text)
        (folder / "formulas.toml").write_text(
            'month = { formula = "EXTRACT(MONTH FROM day)", type = "integer" }\n'
        )
        methods = [f"M{number:03d},group {number % 7}" for number in range(400)]
        (folder / "method.csv").write_text("\n".join(["method,method_group", *methods, ""]))
        (folder / "book.toml").write_text(_BOOK)
        by_hand = Path(__file__).parent / "by_hand"
        contenders = {
            "kivvet": [sys.executable, "-m", "kivvet", "apply", "--book", str(folder / "book.toml")],
            **{
                one: [
                    sys.executable,
                    str(by_hand / f"national_{one}.py"),
                    str(source),
                    str(folder / f"{one}.csv"),
                ]
                for one in ("polars", "pandas")
            },
        }
        for one, command in contenders.items():
            cost_of(command)
            _compare(folder / "kivvet.csv", folder / f"{one}.csv")
        floor = [sys.executable, str(by_hand / "national_arrow.py"), str(source), str(folder / "arrow.csv")]
        costs = in_turn({**contenders, "floor": floor}, ROUNDS)
        best = min(("polars", "pandas"), key=lambda name: costs[name].wall)
        ours, other = costs["kivvet"], costs[best]
        work = f"semicolons, decimal commas, days like 03.04.2026: {N_ROWS:,} rows, three additions"
        in_stream, how = (
            costs["floor"],
            "Arrow alone, in a stream: read, converted, and written with three texts more",
        )
        yield Line(f"{work}: wall", ours.wall, "s", best, other.wall, 0.8, in_stream.wall, how)
        yield Line("the same: CPU", ours.cpu, "s", best, other.cpu, 1.0, in_stream.cpu, how)
        yield Line("the same: memory", ours.peak, "MB", best, other.peak, 1.0)
        seconds, found = timed(lambda: recognise(source))
        assert (found.options.delimiter, found.options.decimal) == (";", ",")
        yield Line("recognising how it is written", seconds, target=0.15)


def _compare(ours: Path, other: Path) -> None:
    """Raise unless two files hold the same values in the same rows; numbers may be written otherwise."""
    left, right = (
        arrow_csv.read_csv(
            path,
            parse_options=arrow_csv.ParseOptions(delimiter=";"),
            convert_options=arrow_csv.ConvertOptions(
                decimal_point=",", column_types={"station": pa.string(), "day": pa.string()}
            ),
        )
        for path in (ours, other)
    )
    for name in left.column_names:
        one, two = left[name].combine_chunks(), right[name].combine_chunks()
        if not (one.equals(two) or pc.all(pc.equal(pc.fill_null(one, -1), pc.fill_null(two, -1))).as_py()):
            raise AssertionError(f"{other.name}: {name} differs")


def _write(path: Path) -> None:
    rng = np.random.default_rng(5)
    days = rng.integers(16_436, 20_088, N_ROWS).astype(np.int32)
    texts = pa.array(days).view(pa.date32()).dictionary_encode()
    written = pa.array([one.strftime("%d.%m.%Y") for one in texts.dictionary.to_pylist()]).take(texts.indices)

    def numbers(values: np.ndarray) -> pa.Array:  # type: ignore[type-arg]
        return pc.replace_substring(pa.array(values).cast(pa.string()), ".", ",")

    table = pa.table(
        {
            "station": [f"{number:05d}" for number in rng.integers(0, 5_000, N_ROWS)],
            "day": written,
            "flow": numbers(np.round(rng.gamma(2, 20, N_ROWS), 2) + 0.01),
            "nitrate": numbers(np.round(rng.gamma(2, 10, N_ROWS), 2) + 0.01),
            "method": pa.array([f"M{number:03d}" for number in range(410)]).take(
                pa.array(rng.integers(0, 410, N_ROWS))
            ),
        }
    )
    options = arrow_csv.WriteOptions(delimiter=";", quoting_style="none")
    arrow_csv.write_csv(table, path, options)


if __name__ == "__main__":
    _write(Path(sys.argv[1]))
