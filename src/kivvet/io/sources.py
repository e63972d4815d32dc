"""Opening a source of data by the ending of its name."""

from __future__ import annotations

from pathlib import Path

from kivvet.core.words.errors import UnopenableError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.csv_files import CsvSource
from kivvet.io.parquet_files import ParquetSource

Source = CsvSource | ParquetSource

SOURCE_ENDINGS = (".csv", ".tsv", ".csv.gz", ".tsv.gz", ".parquet")
TARGET_ENDINGS = (".csv", ".tsv", ".parquet")


def open_source(
    path: Path, encoding: str = "utf-8", delimiter: str | None = None, headings_on_line: int = 1
) -> Source:
    """Return the source at `path`.

    Raises
    ------
    UnopenableError
        If there is no such file, or it is of a kind that is not read.
    """
    if is_parquet(path):
        return ParquetSource(path)
    if path.name.lower().endswith(SOURCE_ENDINGS):
        return CsvSource(path, encoding, delimiter, headings_on_line)
    raise UnopenableError(
        "is of a kind this version does not read",
        place=Place(shown_path(path)),
        expected=f"a file that ends in {', '.join(SOURCE_ENDINGS)}",
    )


def is_parquet(path: Path) -> bool:
    """Whether a file is Parquet, by its ending."""
    return path.suffix.lower() == ".parquet"
