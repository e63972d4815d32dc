"""kivvet new"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, option, say


@click.command("new", cls=Command, short_help="Start a book in a new folder.")
@click.argument("folder", type=click.Path(path_type=Path))
@option("--title", "The book's title; without it, the folder's name.")
def command(folder: Path, title: str | None) -> None:
    """Start a book: a folder with book.toml, and one small table to change.

    Nothing that exists is overwritten.

    \b
    Examples:
      kivvet new river-rules
      kivvet new river-rules --title "River survey rules"
    """
    from kivvet.book import new_book

    written = new_book(folder, title)
    for path in written:
        say(f"written  {path}")
    say("\nNext:")
    say(f"  kivvet check --book {folder}      prove its table complete")
    say(f"  edit {folder / 'book.toml'}       name your data and the columns to add")
    say(f"  kivvet apply --book {folder}      write them")
