"""kivvet watch"""

from __future__ import annotations

import datetime as dt
from contextlib import suppress
from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option, say


@click.command("watch", cls=Command, short_help="Refresh as files of the book and sources are saved.")
@click.argument("datasets", nargs=-1, metavar="[DATASET]...")
@option("--debounce", type=click.FloatRange(0.05, 60), default=0.4, show_default=True, metavar="SECONDS")
@book_option
def command(datasets: tuple[str, ...], debounce: float, book: Path | None) -> None:
    """Bring stale targets up to date, and again whenever a file of the book or a source is saved, until Ctrl-C. What is
    wrong with a file that is half saved is shown, and the last good target stays.

    \b
    Examples:
      kivvet watch
      kivvet watch samples
    """
    from kivvet.show.status import print_round
    from kivvet.show.terminal import console

    opened = opened_book(book)
    for name in datasets:
        opened.dataset(name)
    out = console()
    with suppress(KeyboardInterrupt):  # in the middle of a round: the target is as it was
        for one in opened.watch(datasets or None, debounce=debounce):
            print_round(out, one, dt.datetime.now().astimezone())
    say("stopped")
