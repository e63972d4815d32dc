"""Options that several commands share."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from kivvet.book import Book


class Command(click.Command):
    """A command that refuses an option given twice where it takes one value: nothing is dropped in silence."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        try:
            _, _, order = self.make_parser(ctx).parse_args(args=list(args))
        except click.NoSuchOption as error:
            known = [
                name for option in self.params if isinstance(option, click.Option) for name in option.opts
            ]
            near = difflib.get_close_matches(error.option_name, known, cutoff=0.7)
            raise click.NoSuchOption(error.option_name, possibilities=near, ctx=ctx) from None
        for option in order:
            takes_one = isinstance(option, click.Option) and not (
                option.multiple or option.is_flag or option.count
            )
            if takes_one and order.count(option) > 1:
                raise click.UsageError(
                    f"{option.opts[0]} is given {order.count(option)} times, and takes one value", ctx
                )
        return super().parse_args(ctx, args)


book_option = click.option(
    "--book",
    "book_folder",
    metavar="FOLDER",
    type=click.Path(path_type=Path),
    help="The book's folder; without it, the nearest one upward that holds book.toml.",
)
read_as_option = click.option(
    "--read-as",
    "read_as",
    metavar="OPTIONS",
    default="",
    help='How a bare file is written, as a dataset says it: \'delimiter = ";", decimal = ","\'. Without it that is recognised.',
)
json_option = click.option("--json", "as_json", is_flag=True, help="Print JSON, for programs.")


def csv_options(command: Any) -> Any:
    """Add the options of commands that print CSV."""
    command = click.option(
        "--csv-safe",
        is_flag=True,
        help="Print CSV in which no text is run as a formula by a workbook program: a quote is put before it.",
    )(command)
    return click.option("--csv", "as_csv", is_flag=True, help="Print CSV.")(command)


def print_csv(heads: Sequence[str], lines: Iterable[Sequence[Any]], *, safe: bool = False) -> None:
    """Print lines as CSV: nothing where there is no value, true and false, numbers in full.

    Parameters
    ----------
    safe : bool
        Whether text that a workbook program would run as a formula gets a quote before it.
    """
    import csv
    import sys

    def field(value: Any) -> Any:
        if isinstance(value, bool):
            return "true" if value else "false"
        if safe and isinstance(value, str) and value.lstrip()[:1] in ("=", "+", "-", "@"):
            return f"'{value}"
        return f"'{value}" if safe and isinstance(value, str) and value[:1] in ("\t", "\r") else value

    writer = csv.writer(sys.stdout, lineterminator="\n")
    writer.writerow([field(one) for one in heads])
    writer.writerows([field(one) for one in line] for line in lines)


def say(text: str, *, err: bool = False, nl: bool = True) -> None:
    """Print a plain text as views are printed: nothing in it steers the terminal."""
    from kivvet.show.terminal import harmless

    click.echo(harmless(text), err=err, nl=nl)


def opened_book(folder: Path | None) -> Book:
    """Return the book in `folder`, or the nearest one upward from here; an error says where none is."""
    from kivvet.book import nearest_book, open_book

    return open_book(folder if folder is not None else nearest_book() or Path.cwd())


def nearby_book(folder: Path | None) -> Book | None:
    """Return the book named or the nearest one upward; None where none is named and there is none."""
    from kivvet.book import nearest_book

    return None if folder is None and nearest_book() is None else opened_book(folder)


#: Of the JSON that commands print, unless a report has a version of its own.
JSON_VERSION = 1


def print_json(values: Any) -> None:
    """Print plain values as JSON; a list of things stands under a version."""
    import json

    click.echo(json.dumps(values, indent=2, ensure_ascii=False))
