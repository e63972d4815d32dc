"""How results are told: as text, or in a form that other programs read; the same options in every command."""

from __future__ import annotations

import csv
import functools
import json
import sys
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING, Any, Literal

import click

from kivvet.cli.options import Decorated, option, say

if TYPE_CHECKING:
    from rich.console import Console

FormName = Literal["text", "json", "csv", "markdown", "sarif", "junit"]
#: Of the JSON that commands print, unless a report has a version of its own.
JSON_VERSION = 1


@dataclass(frozen=True)
class Form:
    """The form that was asked for.

    Attributes
    ----------
    name : str
    is_safe : bool
        Of CSV, whether text that a workbook program would run as a formula gets a quote before it.
    """

    name: FormName = "text"
    is_safe: bool = False

    @property
    def is_text(self) -> bool:
        return self.name == "text"

    def tell(
        self,
        result: Any,
        text: Callable[[Console], object],
        *,
        values: Callable[[], Any] | None = None,
        lines: Callable[[], Iterable[Mapping[str, Any]]] | None = None,
    ) -> None:
        """Print a result.

        Parameters
        ----------
        result : object
            With a form of its own in notebooks, which Markdown is made of.
        text : callable
            Prints it on a terminal.
        values : callable, optional
            Returns the plain values that JSON holds; without it `result.as_dict` does.
        lines : callable, optional
            Returns the lines of CSV, by heading.
        """
        from kivvet.show.terminal import console

        if self.name == "json":
            print_json(result.as_dict() if values is None else values())
        elif self.name == "markdown":
            from kivvet.pages.markdown import markdown_of

            say(markdown_of(result), nl=False)
        elif self.name == "csv":
            made = [] if lines is None else list(lines())
            heads = list(dict.fromkeys(name for line in made for name in line))
            print_csv(heads, [[line.get(name) for name in heads] for line in made], safe=self.is_safe)
        else:
            text(console())


def forms(*names: FormName) -> Callable[[Decorated], Decorated]:
    """Add the options that say in which of some forms, besides text, a command tells; it gets a `Form` as `form`."""
    every: list[FormName] = ["text", *names]

    def decorate(function: Decorated) -> Decorated:
        @functools.wraps(function)
        def told(*args: Any, **given: Any) -> Any:
            safe = given.pop("csv_safe", False)
            short = (name for name in ("json", "csv") if given.pop(name, False))
            wanted = {name for name in (given.pop("format"), *short, "csv" if safe else None) if name}
            if len(wanted) > 1:
                raise click.UsageError(f"give one form, not {' and '.join(sorted(wanted))}")
            return function(*args, form=Form(next(iter(wanted), "text"), safe), **given)

        made: Any = told
        if "csv" in names:
            made = option("--csv-safe")(made)
            made = option("--csv")(made)
        made = option("--json")(made)
        return option("--format", type=click.Choice(every))(made)  # type: ignore[no-any-return]

    return decorate


def print_csv(heads: Sequence[str], lines: Iterable[Sequence[Any]], *, safe: bool = False) -> None:
    """Print lines as CSV: nothing where there is no value, true and false, numbers in full, what holds more as JSON."""

    def field(value: Any) -> Any:
        if isinstance(value, bool):
            return "true" if value else "false"
        if isinstance(value, (list, tuple, dict)):
            value = json.dumps(value, ensure_ascii=False, default=str) if value else ""
        if safe and isinstance(value, str) and value.lstrip()[:1] in ("=", "+", "-", "@"):
            return f"'{value}"
        return f"'{value}" if safe and isinstance(value, str) and value[:1] in ("\t", "\r") else value

    writer = csv.writer(sys.stdout, lineterminator="\n")
    writer.writerow([field(head) for head in heads])
    writer.writerows([field(one) for one in line] for line in lines)


def print_json(values: Any) -> None:
    """Print plain values as JSON; a list of things stands under a version."""
    click.echo(json.dumps(values, indent=2, ensure_ascii=False))


def is_for_programs(given: Sequence[str]) -> bool:
    """Whether a command line asks for what other programs read."""
    return any(one.partition("=")[0] in ("--format", "--json", "--csv", "--csv-safe") for one in given)


def asks_for_json(given: Sequence[str]) -> bool:
    """Whether a command line asks for JSON, so that errors are told in it too."""
    pairs = pairwise([*given, ""])
    return any(
        one in ("--json", "--format=json") or (one, then) == ("--format", "json") for one, then in pairs
    )
