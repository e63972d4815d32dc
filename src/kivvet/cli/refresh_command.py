"""kivvet refresh"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option
from kivvet.cli.telling import JSON_VERSION, Form, forms


@click.command("refresh", cls=Command, short_help="Bring stale targets up to date.")
@click.argument("datasets", nargs=-1, metavar="[DATASET]...")
@option("--dry-run")
@option("--anew")
@option("--replace", "Write over a target that Kivvet did not write.")
@option("--replace-edited")
@option("--note", "What the history is to say of the run.", default="")
@book_option
@forms("json", "csv", "markdown")
def command(
    datasets: tuple[str, ...],
    dry_run: bool,
    anew: bool,
    replace: bool,
    replace_edited: bool,
    note: str,
    book: Path | None,
    form: Form,
) -> None:
    """Write again every target that is not current; leave alone what is. Only the columns that depend on what changed
    are worked out, as far as the target holds the others. What one dataset writes and another reads is written first.

    \b
    Examples:
      kivvet refresh
      kivvet refresh samples
      kivvet refresh --dry-run     what would be written, and why
    """
    from kivvet.show.progress import counting_rows
    from kivvet.show.status import print_refreshed

    opened = opened_book(book)
    with counting_rows("refreshing") as on_rows:
        done = opened.refresh(
            datasets or None,
            replace=replace,
            replace_edited=replace_edited,
            anew=anew,
            note=note,
            dry_run=dry_run,
            on_rows=on_rows,
        )
    told = [
        {
            "dataset": one.dataset,
            "refreshed": one.report is not None,
            "due": one.is_due,
            "stopped": one.is_stopped,
            "reasons": [reason.as_dict() for reason in one.reasons],
            "report": one.report.as_dict() if one.report else None,
        }
        for one in done
    ]
    form.tell(
        done,
        lambda out: print_refreshed(out, done),
        values=lambda: {"version": JSON_VERSION, "datasets": told},
        lines=lambda: [
            {
                **{word: one[word] for word in ("dataset", "refreshed", "due", "stopped")},
                "rows": each.report.written if each.report else None,
                "why": "; ".join(reason.message for reason in each.reasons),
            }
            for one, each in zip(told, done, strict=True)
        ],
    )
