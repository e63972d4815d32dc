"""kivvet history"""

from __future__ import annotations

import re
from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option, say
from kivvet.cli.telling import Form, forms

_UNITS = {"": 1, "B": 1, "KB": 1_000, "MB": 1_000_000, "GB": 1_000_000_000}


@click.command("history", cls=Command, short_help="What was applied when, by whom, by which rules.")
@click.argument("names", nargs=-1, metavar="[DATASET|TABLE]...")
@option(
    "--first",
    "At most so many runs of each dataset, the last ones first.",
    type=click.IntRange(1),
    default=20,
    show_default=True,
)
@option("--shrink-to")
@book_option
@forms("json", "csv", "markdown")
def command(names: tuple[str, ...], first: int, shrink_to: str | None, book: Path | None, form: Form) -> None:
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

    opened = opened_book(book)
    if shrink_to is not None:
        say(opened.shrink_history(_bytes(shrink_to)))
        return
    history = opened.history(names, first=first)
    form.tell(history, lambda out: print_history(out, history), lines=lambda: history.as_dict()["runs"])


def _bytes(text: str) -> int:
    match = re.fullmatch(r"\s*([0-9]+)\s*([KMG]?B)?\s*", text, re.IGNORECASE)
    if match is None:
        raise click.BadParameter(f'{text!r} is no size; for example "20 MB"')
    return int(match[1]) * _UNITS[(match[2] or "").upper()]
