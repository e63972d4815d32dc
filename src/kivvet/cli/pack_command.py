"""kivvet pack"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, json_option, opened_book, print_json, say


@click.command("pack", cls=Command, short_help="Write the rules of a book into one file, to be handed on.")
@click.argument("target", metavar="FILE")
@book_option
@json_option
def command(target: str, book_folder: Path | None, as_json: bool) -> None:
    """Write the rules of a book, its tables, their rows, formulas and book.toml, into a ZIP file: the same bytes for the
    same rules. Another book uses it as it uses a folder: [uses]  common = "common.zip"

    \b
    Examples:
      kivvet pack rules-2026.zip
    """
    names = opened_book(book_folder).pack(target)
    if as_json:
        print_json({"version": 1, "target": target, "files": list(names)})
    else:
        say(f"{target}  {len(names)} files")
