"""kivvet refresh"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import JSON_VERSION, Command, book_option, json_option, opened_book, print_json


@click.command("refresh", cls=Command, short_help="Bring stale targets up to date.")
@click.argument("datasets", nargs=-1, metavar="[DATASET]...")
@click.option("--dry-run", is_flag=True, help="Only say what would be written.")
@click.option("--all", "everything", is_flag=True, help="Write anew what is current too.")
@click.option("--replace", is_flag=True, help="Write over a target that Kivvet did not write.")
@click.option(
    "--replace-edited",
    is_flag=True,
    help="Write over a target that something else changed since it was written.",
)
@click.option("--note", metavar="TEXT", default="", help="What the history is to say of the run.")
@book_option
@json_option
def command(
    datasets: tuple[str, ...],
    dry_run: bool,
    everything: bool,
    replace: bool,
    replace_edited: bool,
    note: str,
    book_folder: Path | None,
    as_json: bool,
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
    from kivvet.show.terminal import console

    book = opened_book(book_folder)
    with counting_rows("refreshing") as on_rows:
        done = book.refresh(
            datasets or None,
            replace=replace,
            replace_edited=replace_edited,
            everything=everything,
            note=note,
            dry_run=dry_run,
            on_rows=on_rows,
        )
    if as_json:
        print_json(
            {
                "version": JSON_VERSION,
                "datasets": [
                    {
                        "dataset": one.dataset,
                        "refreshed": one.report is not None,
                        "due": one.is_due,
                        "stopped": one.is_stopped,
                        "reasons": [reason.as_dict() for reason in one.reasons],
                        "report": one.report.as_dict() if one.report else None,
                    }
                    for one in done
                ],
            }
        )
    else:
        print_refreshed(console(), done)
