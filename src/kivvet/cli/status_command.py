"""kivvet status"""

from __future__ import annotations

import sys
from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option
from kivvet.cli.telling import JSON_VERSION, Form, forms


@click.command("status", cls=Command, short_help="Say which targets are stale, and what made them so.")
@click.argument("datasets", nargs=-1, metavar="[DATASET]...")
@option(
    "--fail-if",
    "End with 1 where a target is not current: stale, or never written.",
    type=click.Choice(["stale"]),
)
@book_option
@forms("json", "csv", "markdown")
def command(datasets: tuple[str, ...], fail_if: str | None, book: Path | None, form: Form) -> None:
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

    statuses = opened_book(book).status(datasets or None)
    form.tell(
        statuses,
        lambda out: print_status(out, statuses),
        values=lambda: {"version": JSON_VERSION, "datasets": [status.as_dict() for status in statuses]},
        lines=lambda: [status.as_dict() for status in statuses],
    )
    bad = ("cannot tell", "stale", "never applied") if fail_if else ("cannot tell",)
    sys.exit(1 if any(status.state in bad for status in statuses) else 0)
