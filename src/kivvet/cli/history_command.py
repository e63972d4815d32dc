"""kivvet history"""

from __future__ import annotations

import re
from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, json_option, opened_book, print_json, say

_UNITS = {"": 1, "B": 1, "KB": 1_000, "MB": 1_000_000, "GB": 1_000_000_000}


@click.command("history", cls=Command, short_help="What was applied when, by whom, by which rules.")
@click.argument("names", nargs=-1, metavar="[DATASET|TABLE]...")
@click.option("--all", "is_all", is_flag=True, help="List every run, not the last 20 of each dataset.")
@click.option(
    "--shrink-to",
    metavar="SIZE",
    help='Forget the oldest runs of this machine until the journal is that small: "20 MB".',
)
@book_option
@json_option
def command(
    names: tuple[str, ...], is_all: bool, shrink_to: str | None, book_folder: Path | None, as_json: bool
) -> None:
    """List the runs of each dataset: when, by whom, which rules had changed, and how many rows went from class to class.
    Of a table or formula list its versions, and which runs used them.

    Any run can be done again: kivvet apply DATASET --as-of RUN --to FILE

    \b
    Examples:
      kivvet history
      kivvet history samples
      kivvet history quality       the versions of a table
    """
    from kivvet.show.history import print_history
    from kivvet.show.terminal import console

    book = opened_book(book_folder)
    if shrink_to is not None:
        say(book.shrink_history(_bytes(shrink_to)))
        return
    history = book.history(names)
    if as_json:
        print_json(history.as_dict())
    else:
        print_history(console(), history, **({"most": None} if is_all else {}))


def _bytes(text: str) -> int:
    match = re.fullmatch(r"\s*([0-9]+)\s*([KMG]?B)?\s*", text, re.IGNORECASE)
    if match is None:
        raise click.BadParameter(f'{text!r} is no size; for example "20 MB"')
    return int(match[1]) * _UNITS[(match[2] or "").upper()]
