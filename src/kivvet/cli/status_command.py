"""kivvet status"""

from __future__ import annotations

import sys
from pathlib import Path

import click

from kivvet.cli.options import JSON_VERSION, Command, book_option, json_option, opened_book, print_json


@click.command("status", cls=Command, short_help="Say which targets are stale, and what made them so.")
@click.argument("datasets", nargs=-1, metavar="[DATASET]...")
@click.option(
    "--fail-if",
    "failing",
    type=click.Choice(["stale"]),
    help="End with 1 where a target is not current: stale, or never written.",
)
@book_option
@json_option
def command(datasets: tuple[str, ...], failing: str | None, book_folder: Path | None, as_json: bool) -> None:
    """Compare what made each target with today's rules, source and options.

    A target carries the record of how it was made, so this works on another machine too. A source of
    the size, inode and times that are noted there is unchanged; of any other the bytes are compared.

    Ends with 1 where errors in the tables or a target without a record keep it from telling.

    \b
    Examples:
      kivvet status
      kivvet status samples --json
      kivvet status --fail-if stale      for a nightly job
    """
    from kivvet.show.status import print_status
    from kivvet.show.terminal import console

    statuses = opened_book(book_folder).status(datasets or None)
    if as_json:
        print_json({"version": JSON_VERSION, "datasets": [statuse.as_dict() for statuse in statuses]})
    else:
        print_status(console(), statuses)
    bad = ("cannot tell", "stale", "never applied") if failing else ("cannot tell",)
    sys.exit(1 if any(statuse.state in bad for statuse in statuses) else 0)
