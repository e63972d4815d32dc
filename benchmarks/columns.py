"""A column for each of 12 classes over 10 million rows; one mapping over 100 columns of a million rows."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from tempfile import mkdtemp
from typing import Any

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc

import kivvet
from benchmarks.by_hand.exact_totals import in_two
from benchmarks.runner import Comparison

N_ROWS, N_CLASSES = 10_000_000, 12
N_OVER_ROWS, N_COLUMNS = 1_000_000, 100
CLASSES = [f"class {number:02d}" for number in range(N_CLASSES)]


def comparisons() -> Iterator[Comparison]:
    folder = Path(mkdtemp())
    (folder / "book.toml").write_text("title = 'Columns'\n")
    (folder / "tables").mkdir()
    rows = "".join(f'  ["{number}", "{label}"],\n' for number, label in enumerate(CLASSES))
    (folder / "tables/group.toml").write_text(
        f'inputs.code = "integer"\noutputs.group = "text"\nrows = [\n{rows}]\nseverity = {{ gap = "note" }}\n'
    )
    words = "".join(f'  ["w{number}", "{CLASSES[number % 3]}"],\n' for number in range(20))
    (folder / "tables/answer.toml").write_text(
        f'inputs.word = "text"\noutputs.label = "text"\nrows = [\n{words}]\n'
    )
    book = kivvet.open_book(folder)
    yield from _by_class(book)
    yield from _over(book)


def _by_class(book: kivvet.Book) -> Iterator[Comparison]:
    rng = np.random.default_rng(8)
    codes = rng.integers(0, N_CLASSES, N_ROWS)
    frame = pa.table(
        {
            "group": pa.DictionaryArray.from_arrays(pa.array(codes.astype(np.int8)), pa.array(CLASSES)),
            "load": rng.random(N_ROWS),
        }
    )
    polars_frame = pl.DataFrame(frame).with_columns(pl.col("group").cast(pl.Enum(CLASSES)))
    pandas_frame = frame.to_pandas()
    load = frame["load"].to_numpy()

    def right(name: str, expected: Any) -> Any:
        return lambda made: bool((np.asarray(made[name]) == expected).all())

    def indicators_by_pandas() -> pd.DataFrame:
        return pandas_frame.join(pd.get_dummies(pandas_frame["group"], prefix="is", dtype="int8"))

    def indicators_by_polars() -> pl.DataFrame:
        return polars_frame.with_columns(
            (pl.col("group") == one).cast(pl.Int8).alias(f"is_{one}") for one in CLASSES
        )

    classes = {"classes": CLASSES}
    yield Comparison(
        f"indicators: {N_ROWS:,} rows, {N_CLASSES} classes",
        lambda: book.apply(frame, [{"indicators": "group", "name": "is_{number}", **classes}]),
        {"polars ==": indicators_by_polars, "pandas.get_dummies": indicators_by_pandas},
        lambda made: right("is_4" if "is_4" in _names(made) else "is_class 03", codes == 3)(made),
        0.5,
    )

    def amounts_by_polars() -> pl.DataFrame:
        return polars_frame.with_columns(
            pl.when(pl.col("group") == one).then(pl.col("load")).otherwise(0.0).alias(f"load_{one}")
            for one in CLASSES
        )

    def amounts_by_numpy() -> pd.DataFrame:
        held = pandas_frame["group"].cat.codes.to_numpy()
        return pandas_frame.assign(
            **{f"load_{one}": np.where(held == code, load, 0.0) for code, one in enumerate(CLASSES)}
        )

    held = codes.astype(np.int8)

    def amounts_in_threads() -> Any:
        made = [np.empty(N_ROWS) for _ in CLASSES]

        def share(first: int, end: int) -> Any:
            for start in range(first, end, 65_536):
                rows = slice(start, min(start + 65_536, end))
                for code, one in enumerate(made):
                    one[rows] = np.where(held[rows] == code, load[rows], 0.0)

        in_two(share, N_ROWS)
        return made

    yield Comparison(
        f"amounts: {N_ROWS:,} rows, {N_CLASSES} classes",
        lambda: book.apply(
            frame, [{"indicators": "group", "amount": "load", "name": "load_{number}", **classes}]
        ),
        {"polars when": amounts_by_polars, "numpy.where in pandas": amounts_by_numpy},
        lambda made: right(
            "load_4" if "load_4" in _names(made) else "load_class 03", np.where(codes == 3, load, 0.0)
        )(made),
        0.5,
        amounts_in_threads,
        "NumPy in chunks in two threads",
    )


def _names(made: Any) -> list[str]:
    return list(made.column_names if isinstance(made, pa.Table) else made.columns)


def _over(book: kivvet.Book) -> Iterator[Comparison]:
    rng = np.random.default_rng(9)
    words = pa.array([f"w{number}" for number in range(20)])
    labels = pa.array([CLASSES[number % 3] for number in range(20)])
    codes = [rng.integers(0, 20, N_OVER_ROWS) for _ in range(N_COLUMNS)]
    frame = pa.table({f"q{number}": words.take(pa.array(one)) for number, one in enumerate(codes)})
    polars_frame = pl.DataFrame(frame)
    table = book.table("answer")
    mapping = dict(zip(words.to_pylist(), labels.to_pylist(), strict=True))

    def by_polars() -> pl.DataFrame:
        return polars_frame.with_columns(pl.all().replace_strict(mapping, default=None).name.suffix("_label"))

    def one_by_one() -> dict[str, Any]:
        made = {}
        for name in frame.column_names:
            made[f"{name}_label"] = table.apply(frame.select([name]).rename_columns(["word"]))["label"]
        return made

    def found_by_arrow() -> Any:
        with ThreadPoolExecutor(2) as pool:
            return list(pool.map(lambda column: pc.index_in(column, words), frame.columns))

    last = labels.take(pa.array(codes[-1])).to_numpy(zero_copy_only=False)
    yield Comparison(
        f"over: one mapping of text over {N_COLUMNS} columns of {N_OVER_ROWS:,} rows",
        lambda: book.apply(frame, [{"table": "answer", "over": "q*"}]),
        {"polars replace_strict": by_polars, "100 single applications": one_by_one},
        lambda made: bool((np.asarray(made[f"q{N_COLUMNS - 1}_label"]) == last).all()),
        0.3,
        found_by_arrow,
        "finding each text by Arrow, two columns at once",
    )
