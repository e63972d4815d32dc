"""kivvet pack"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option, say
from kivvet.cli.telling import Form, forms


@click.command("pack", cls=Command, short_help="Write the rules of a book into one file, to be handed on.")
@option("--to", "The ZIP file; without it, the name of the book's folder.", metavar="FILE.zip")
@book_option
@forms("json")
def command(to: str | None, book: Path | None, form: Form) -> None:
    """Write the rules of a book, its tables, their rows, formulas and book.toml, into a ZIP file: the same bytes for the
    same rules. Another book uses it as it uses a folder: [uses]  common = "common.zip"

    \b
    Examples:
      kivvet pack --to rules-2026.zip
    """
    opened = opened_book(book)
    target = to if to is not None else f"{opened.folder.resolve().name}.zip"
    names = opened.pack(target)
    form.tell(
        names,
        lambda _: say(f"{target}  {len(names)} files"),
        values=lambda: {"version": 1, "target": target, "files": list(names)},
    )
