"""kivvet impact"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Literal

import click

from kivvet.cli.options import Command, book_option, json_option, opened_book, print_json, say


@click.command(
    "impact", cls=Command, short_help="Show what changed rules would move, before anything is written."
)
@click.argument("names", nargs=-1, metavar="[TABLE|DATASET]...")
@click.option(
    "--against",
    metavar="OTHER",
    default="last",
    show_default=True,
    help="The rules before: `last` for those by which each target was made, a git revision, the folder of a book, or a "
    "table's file.",
)
@click.option(
    "--fail-over",
    "limit",
    metavar="SHARE",
    help='End with 1 where more than this share of a dataset\'s rows changes in a column: "1 %" or 0.01.',
)
@click.option(
    "--format",
    "form",
    type=click.Choice(["text", "json", "markdown"]),
    help="How to print it: text; JSON; Markdown, for a comment on a change.",
)
@book_option
@json_option
def command(
    names: tuple[str, ...],
    against: str,
    limit: str | None,
    form: Literal["text", "json", "markdown"] | None,
    book_folder: Path | None,
    as_json: bool,
) -> None:
    """Work out what rules that changed would do to the current data: for each column how many rows go from which class
    to which, with an example each and what decided it; what follows in columns that read it, and in summaries. Nothing
    is written.

    \b
    Examples:
      kivvet impact                           all changes since each target was written
      kivvet impact quality                   those of one table
      kivvet impact samples --against HEAD    since the last commit
      kivvet impact --fail-over "1 %"         for a review
      kivvet impact --against main --format markdown > comment.md
    """
    from kivvet.show.impact import print_impact
    from kivvet.show.progress import counting_rows
    from kivvet.show.terminal import console

    if as_json and form not in (None, "json"):
        raise click.UsageError("--json and --format are two ways: give one of them")
    most = None if limit is None else _share(limit)
    book = opened_book(book_folder)
    with counting_rows("comparing") as on_rows:
        made = book.impact(names, against=against, on_rows=on_rows)
    if as_json or form == "json":
        print_json(made.as_dict())
    elif form == "markdown":
        say(book.report_as(made, "markdown"), nl=False)
    else:
        print_impact(console(), made)
    if most is None:
        return
    unknown = [one.dataset for one in made.datasets if one.why_not]
    over = [one for one in made.datasets if one.largest_share > most]
    for one in over:
        say(f"{one.dataset}: {100 * one.largest_share:.2g} % changes, which is more than {limit}", err=True)
    if unknown:
        say(f"what changes cannot be told: {', '.join(unknown)}", err=True)
    sys.exit(1 if over or unknown else 0)


def _share(text: str) -> float:
    """Return a share that is written as ``1 %`` or ``0.01``."""
    plain = text.strip()
    try:
        share = float(plain.removesuffix("%")) / (100 if plain.endswith("%") else 1)
    except ValueError:
        share = -1.0
    if not 0 <= share <= 1:
        raise click.BadParameter(f'{text!r} is no share; write "1 %" or 0.01', param_hint="--fail-over")
    return share
