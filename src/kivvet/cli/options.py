"""The words of the command line: each option once, with one meaning in every command that has it.

The parameters of the Python calls have the same names.
"""

from __future__ import annotations

import difflib
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from kivvet.cli.completing import COMPLETED, completed

if TYPE_CHECKING:
    from kivvet.book import Book

Decorated = TypeVar("Decorated", bound=Callable[..., Any])


@dataclass(frozen=True)
class Word:
    """An option of the command line.

    Attributes
    ----------
    meaning : str
        What it says, in every command that has it.
    metavar : str
        What follows it; empty: nothing does.
    """

    meaning: str
    metavar: str = ""


#: Every option there is, by what it is for.
WORDS: Mapping[str, Mapping[str, Word]] = {
    "what is read": {
        "--book": Word(
            "The book's folder; without it, the nearest one upward that holds book.toml.", "FOLDER"
        ),
        "--on": Word("The data: a dataset of the book, or a file.", "SOURCE"),
        "--read-as": Word(
            'How a bare file is written, as a dataset says it: \'delimiter = ";", decimal = ","\'. Without it that is '
            "recognised.",
            "OPTIONS",
        ),
        "--no-data": Word("Read no data."),
        "--sql": Word("The query itself, instead of a file.", "QUERY"),
        "--name": Word("What the table is called, where nothing says so.", "NAME"),
        "--column": Word("The column that the table is to read.", "COLUMN"),
        "--against": Word("What is compared with.", "WHAT"),
        "--shared": Word("Compare what both have, where inputs or outputs differ."),
        "--as-of": Word(
            "As it was at a past run: its name, a date, or the version of a lake that it read.", "RUN"
        ),
        "--any-source": Word(
            "With --as-of: apply the rules of then, even if the source is another one today."
        ),
        "--path": Word(
            "Where the file lies in the book, where the three are copies elsewhere; without it, OURS.", "FILE"
        ),
    },
    "which rows": {
        "--where": Word("Only the rows of which this is true.", "CONDITION"),
        "--only": Word("Only the rows with this value; may be given again.", "COLUMN=VALUE"),
        "--row": Word("The row of the source, counted from 1, the header left out.", "N"),
        "--first": Word("At most so many.", "N"),
        "--each": Word("Some rows of every class of this column.", "COLUMN"),
        "--sort": Word("In this order; may be given again. Missing values stand last.", "EXPR [DESC]"),
        "--among": Word(
            "The rows that take part in calculations within groups; others get missing.", "CONDITION"
        ),
        "--set": Word("A value to try; may be given again.", "NAME=VALUE"),
    },
    "what is shown": {
        "--by": Word("What the lines, bars or periods stand for; may be given again.", "EXPR"),
        "--across": Word("What the columns, parts or lines stand for.", "EXPR"),
        "--value": Word(
            "What is measured, such as 'SUM(load)' or 'AVG(ph) AS mean'; the number of rows without it.",
            "AGGREGATE",
        ),
        "--share": Word(
            "Shares: of each line or bar, of each column or part, or of all.", "row|column|total"
        ),
        "--columns": Word("These columns, or formulas; without it all.", "A,B,..."),
        "--most-columns": Word("At most so many columns; the smallest are joined as the rest.", "N"),
        "--table": Word("Only this table; may be given again.", "TABLE"),
        "--output": Word("The output of a table.", "OUTPUT"),
        "--why": Word("Tell which row of its table decided each class."),
        "--all": Word("List all there is, not just the most frequent."),
        "--in-full": Word("Show the notes in full, not just where there are some."),
        "--uses": Word("How a column, a table or a formula is used, both ways.", "NAME"),
        "--kind": Word("What is drawn; without it, what suits.", "bars|beside|lines|histogram|map|flows"),
        "--axes": Word("The two inputs that a map is drawn along.", "X,Y"),
        "--panels": Word("The input of which a map has a panel for each part.", "INPUT"),
        "--title": Word("What stands above it.", "TEXT"),
    },
    "what is drafted": {
        "--classes": Word(
            "A column that already holds the classes: draft the table that gives them.", "COLUMN"
        ),
        "--bounds": Word("The bounds of bins, from the lowest up.", "B1,B2,..."),
        "--propose": Word(
            "Bounds of equally wide bins, of bins of equal counts, round numbers (the default), natural breaks, or one "
            "standard deviation apart.",
            "width|counts|round|natural|deviations",
        ),
        "--quantiles": Word("Bounds at these shares of the rows, such as 0.1,0.5,0.9.", "Q1,Q2,..."),
        "--bins": Word("About how many bins; 5 without it.", "N"),
        "--results": Word(
            "The classes of bins in order, 'cold,mild,warm', or a pattern for them: 'tenth {number}', or '{range}'; or a CSV file "
            "that holds a class for each value. Without it they are left blank.",
            "CLASSES",
        ),
        "--noting": Word("A column whose most frequent values are noted beside each value.", "COLUMN"),
        "--fold": Word(
            "Differences of spelling that do not count, such as case,space: values that differ by them alone make one row.",
            "case,space,unicode",
        ),
        "--by-value": Word("One row a value for numbers and dates too."),
        "--key": Word("Draft a lookup: the column whose values are looked up; may be given again.", "COLUMN"),
        "--keep": Word("A column the lookup gives; without it, all others.", "COLUMN"),
        "--copy": Word("Copy the file of a lookup beside the table, instead of pointing at it."),
        "--rows-file": Word("Keep the rows in a CSV file of their own beside the table."),
        "--alike": Word(
            "With --extend: values that are spelled like known ones get the results of these, and a note."
        ),
        "--extend": Word("Add the values that the table does not know yet; leave all else as it is."),
    },
    "what is written": {
        "--to": Word("Where it is written.", "FILE"),
        "--view": Word("Its target is a view of that name, in the database of its source.", "NAME"),
        "--apply": Word("A table or formula to apply; may be given again.", "TABLE"),
        "--replace": Word("Write over what is there, and Kivvet did not write."),
        "--replace-edited": Word("Write over a target that something else changed since it was written."),
        "--anew": Word("Write anew what is current too."),
        "--show-sql": Word("Print the SQL that would make the view, and touch nothing."),
        "--dry-run": Word("Only say what would be written."),
        "--long": Word("One line for each value of each mapping."),
        "--formulas": Word("Formulas of a sheet that give the same, beside cells for the inputs."),
        "--write": Word("Write it into the file; without this it is only shown."),
        "--offer": Word("With --write: which of the offers, counted from 1.", "N"),
        "--save-as": Word("Keep it in the book as a summary of that name.", "NAME"),
        "--wanted": Word("Also the least change of inputs that gives this result.", "CLASS"),
        "--as-example": Word("Keep it as an example of the table, which must come out so from now on."),
        "--note": Word("Words that are kept with it.", "TEXT"),
        "--propose-promises": Word("Print the promises that hold of the tables already; check nothing."),
        "--mark": Word("Write into the table's file that it was reviewed today, as it is."),
        "--reviewer": Word("With --mark: who; without it, whoever runs this.", "NAME"),
        "--take": Word("Go by what is there today from now on."),
        "--shrink-to": Word(
            'Forget the oldest runs of this machine until the journal is that small: "20 MB".', "SIZE"
        ),
        "--called": Word("What to call the two sides.", "OURS THEIRS"),
        "--only-files": Word("Write the book and its data, faults and all, and stop there."),
    },
    "how it is told": {
        "--format": Word("How it is told.", "text|json|csv|markdown|..."),
        "--json": Word("The same as --format json."),
        "--csv": Word("The same as --format csv."),
        "--csv-safe": Word(
            "CSV in which no text is run as a formula by a workbook program: a quote is put before it."
        ),
    },
    "how it is run": {
        "--fail-if": Word("End with 1 where this is so.", "WHAT"),
        "--engine": Word(
            "Another engine than this process: it does the work, or what could not be the same there is told.",
            "ENGINE",
        ),
        "--budget": Word("Steps that each question over several inputs may take (200000).", "STEPS"),
        "--debounce": Word("Changes within this time count as one.", "SECONDS"),
    },
}

_WORDS = {name: one for group in WORDS.values() for name, one in group.items()}


def option(name: str, says: str = "", **more: Any) -> Callable[[Decorated], Decorated]:
    """Return the option of that name; its parameter has the same name.

    Parameters
    ----------
    says : str
        What it means in this command, where more is to be said than everywhere.
    """
    word = _WORDS[name]
    given: dict[str, Any] = {"metavar": word.metavar} if word.metavar and "type" not in more else {}
    if not word.metavar:
        given["is_flag"] = True
    parameter = name.removeprefix("--").replace("-", "_")
    return click.option(name, parameter, help=says or word.meaning, **{**given, **more})


class Command(click.Command):
    """A command that refuses an option given twice where it takes one value: nothing is dropped in silence. Names are
    completed as its book has them.
    """

    def __init__(self, *args: Any, **more: Any) -> None:
        super().__init__(*args, **more)
        for parameter in self.params:
            if parameter.name in COMPLETED or (self.name, parameter.name) in COMPLETED:
                parameter._custom_shell_complete = completed

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        try:
            _, _, order = self.make_parser(ctx).parse_args(args=list(args))
        except click.NoSuchOption as error:
            known = [
                name for option in self.params if isinstance(option, click.Option) for name in option.opts
            ]
            near = difflib.get_close_matches(error.option_name, known, cutoff=0.7)
            raise click.NoSuchOption(error.option_name, possibilities=near, ctx=ctx) from None
        for one in order:
            takes_one = isinstance(one, click.Option) and not (one.multiple or one.is_flag or one.count)
            if takes_one and order.count(one) > 1:
                raise click.UsageError(
                    f"{one.opts[0]} is given {order.count(one)} times, and takes one value", ctx
                )
        return super().parse_args(ctx, args)


book_option = option("--book", type=click.Path(path_type=Path), metavar="FOLDER")
budget_option = option("--budget", type=click.IntRange(min=0), metavar="STEPS")


def say(text: str, *, err: bool = False, nl: bool = True) -> None:
    """Print a plain text as views are printed: nothing in it steers the terminal."""
    from kivvet.show.hints import with_book
    from kivvet.show.terminal import harmless

    click.echo(harmless(with_book(text)), err=err, nl=nl)


def opened_book(folder: Path | None) -> Book:
    """Return the book in `folder`, or the nearest one upward from here; an error says where none is."""
    from kivvet.book import nearest_book, open_book
    from kivvet.show.hints import book_is

    book_is(folder)
    return open_book(folder if folder is not None else nearest_book() or Path.cwd())


def nearby_book(folder: Path | None) -> Book | None:
    """Return the book named or the nearest one upward; None where none is named and there is none."""
    from kivvet.book import nearest_book

    return None if folder is None and nearest_book() is None else opened_book(folder)


def values_by_name(given: tuple[str, ...], name: str) -> dict[str, str]:
    """Return what ``NAME=VALUE`` says, given once or more with an option; refused where a name stands twice."""
    values: dict[str, str] = {}
    for one in given:
        key, sign, value = one.partition("=")
        if not sign or not key.strip():
            raise click.BadParameter(f"{one!r} is not {_WORDS[name].metavar}", param_hint=name)
        if key.strip() in values:
            raise click.UsageError(f"{name} gives {key.strip()} twice")
        values[key.strip()] = value.strip()
    return values
