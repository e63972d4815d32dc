"""Unmatched values on a terminal: by table, the most frequent first."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import groupby

from rich.console import Console
from rich.text import Text

from kivvet.books.asks.unmatched import Unmatched
from kivvet.core.words.wording import count, shell_word
from kivvet.show.terminal import print_columns, print_hint

_MOST_VALUES = 20


def print_unmatched(out: Console, found: Sequence[Unmatched]) -> None:
    """Print what found nothing."""
    if not found:
        out.print("every value is held by a row")
    for (dataset, table, columns, is_unfinished), group in groupby(
        found, key=lambda one: (one.dataset, one.table, one.columns, one.is_unfinished)
    ):
        listed = list(group)
        head = Text(table, "bold").append(f"  {columns} of {dataset}", "dim")
        if is_unfinished:
            head.append("  rows still to be filled in", "yellow")
        out.print(
            head.append(f"   {count(len(listed), 'value')}, {count(sum(one.rows for one in listed), 'row')}")
        )
        width = max(len(f"{one.rows:,}") for one in listed)
        for one in (*listed[:_MOST_VALUES], *(one for one in listed[_MOST_VALUES:] if one.is_all_others)):
            first = "" if one.first_row is None else f"   first in row {one.first_row:,}"
            value = one.value if " = " in one.value else repr(one.value)
            value = "all other values, which are too many to be told apart" if one.is_all_others else value
            near = "" if one.near is None else f"   spelled like {one.near!r}"
            print_columns(
                out, [("", "", 2), (f"{one.rows:>{width},}", "yellow", width + 2)], f"{value}{first}{near}"
            )
        if n_near := sum(one.near is not None for one in listed):
            print_hint(
                out,
                f"  {count(n_near, 'value')} spelled like known ones, to be taken as these: kivvet draft {shell_word(table)} --extend --alike --on {shell_word(dataset)}",
                "dim",
            )
        if len(listed) > _MOST_VALUES:
            out.print(
                Text(
                    f"  and {count(len(listed) - _MOST_VALUES, 'more value')}; --csv and --json list all",
                    "dim",
                )
            )
