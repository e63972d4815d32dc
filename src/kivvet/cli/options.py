"""Options that several commands share."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from kivvet.book.book import Book

book_option = click.option(
    "--book", "book_folder", metavar="FOLDER", type=click.Path(path_type=Path),
    help="The book's folder; without it, the nearest one upward that holds book.toml.",
)  # fmt: skip
json_option = click.option("--json", "as_json", is_flag=True, help="Print JSON, for programs.")


def opened_book(folder: Path | None) -> Book:
    """Return the book in `folder`, or the nearest one upward from here."""
    from kivvet.book.book import BOOK_FILE, open_book

    if folder is None:
        here = Path.cwd()
        folder = next((one for one in (here, *here.parents) if (one / BOOK_FILE).is_file()), here)
    return open_book(folder)


def nearby_book(folder: Path | None) -> Book | None:
    """Return the book named or the nearest one upward; None where none is named and there is none."""
    from kivvet.book.book import BOOK_FILE

    here = Path.cwd()
    if folder is None and not any((one / BOOK_FILE).is_file() for one in (here, *here.parents)):
        return None
    return opened_book(folder)


def print_json(values: Any) -> None:
    """Print plain values as JSON."""
    import json

    click.echo(json.dumps(values, indent=2, ensure_ascii=False))
