"""kivvet impact"""

from __future__ import annotations

import re
import sys
from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option, say
from kivvet.cli.telling import Form, forms


@click.command(
    "impact", cls=Command, short_help="Show what changed rules would move, before anything is written."
)
@click.argument("names", nargs=-1, metavar="[TABLE|DATASET]...")
@option(
    "--against",
    "The rules before: `last` for those by which each target was made, a git revision, the folder of a book, or a "
    "table's file.",
    default="last",
    show_default=True,
)
@option(
    "--as-of",
    "On the rows that a past run read, named or by its date, or on those of a version of a lake: 'version 12'.",
    default="",
)
@option(
    "--fail-if",
    'End with 1 where more than a share of a dataset\'s rows changes in a column: "moved > 1 %".',
    metavar='"moved > SHARE"',
)
@book_option
@forms("json", "csv", "markdown")
def command(
    names: tuple[str, ...], against: str, as_of: str, fail_if: str | None, book: Path | None, form: Form
) -> None:
    """Work out what rules that changed would do to the current data: for each column how many rows go from which class
    to which, with an example each and what decided it; what follows in columns that read it, and in summaries. Nothing
    is written.

    \b
    Examples:
      kivvet impact                           all changes since each target was written
      kivvet impact quality                   those of one table
      kivvet impact samples --against HEAD    since the last commit
      kivvet impact samples --as-of "version 12"    on the rows of a version of a lake
      kivvet impact --fail-if "moved > 1 %"         for a review
      kivvet impact --against main --format markdown > comment.md
    """
    from kivvet.show.impact import print_impact
    from kivvet.show.progress import counting_rows

    most = None if fail_if is None else _share(fail_if)
    opened = opened_book(book)
    with counting_rows("comparing") as on_rows:
        made = opened.impact(names, against=against, as_of=as_of, on_rows=on_rows)
    form.tell(
        made,
        lambda out: print_impact(out, made),
        lines=lambda: [
            {
                "dataset": dataset.dataset,
                "column": column.column,
                "before": move.before,
                "after": move.after,
                "rows": move.count,
                "of": column.rows,
                "example_row": move.example.row,
            }
            for dataset in made.datasets
            for column in dataset.columns
            for move in column.moves
        ],
    )
    if most is None:
        return
    unknown = [dataset.dataset for dataset in made.datasets if dataset.why_not]
    over = [dataset for dataset in made.datasets if dataset.largest_share > most]
    for one in over:
        shown = f"{100 * most:.6g} %"
        say(f"{one.dataset}: {100 * one.largest_share:.2g} % changes, which is more than {shown}", err=True)
    if unknown:
        say(f"what changes cannot be told: {', '.join(unknown)}", err=True)
    sys.exit(1 if over or unknown else 0)


def _share(text: str) -> float:
    """Return the share of ``moved > 1 %`` or ``moved > 0.01``."""
    match = re.fullmatch(r"\s*moved\s*>\s*([0-9]*\.?[0-9]+)\s*(%?)\s*", text)
    share = float(match[1]) / (100 if match[2] else 1) if match else -1.0
    if not 0 <= share <= 1:
        raise click.BadParameter(
            f'{text!r} is nothing to fail by; write "moved > 1 %" or "moved > 0.01"', param_hint="--fail-if"
        )
    return share
