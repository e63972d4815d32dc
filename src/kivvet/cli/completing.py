"""Completion of names in a shell: datasets, tables, columns and classes of the book that a command line is about."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.shell_completion import CompletionItem

if TYPE_CHECKING:
    from kivvet.book import Book

Names = Callable[["Book", click.Context], Iterable[str]]


def datasets(book: Book, _: click.Context) -> Iterable[str]:
    """Return the names of datasets."""
    return book.dataset_names


def rules(book: Book, _: click.Context) -> Iterable[str]:
    """Return the names of tables and formulas."""
    return (*book.tables, *book.formulas)


def all_names(book: Book, ctx: click.Context) -> Iterable[str]:
    """Return the names of datasets, tables and formulas."""
    return (*datasets(book, ctx), *rules(book, ctx))


def columns(book: Book, ctx: click.Context) -> Iterable[str]:
    """Return the columns of the dataset that the command line names: of its source, and those it makes."""
    said = [ctx.params.get(word) for word in ("on", "source", "name")]
    known = [
        str(one) for one in (*said, *ctx.args) if one in book.datasets
    ]  # arguments that are still to be read
    return book.columns_of(known[0]) if known else ()


def values(book: Book, ctx: click.Context) -> Iterable[str]:
    """Return ``COLUMN=`` for each column, and with the classes of those that a table gives."""
    made = [f"{name}=" for name in columns(book, ctx)]
    for table in book.tables.values():
        for output in table.outputs:
            made += [f"{output.name}={label}" for label in table.classes(output.name) if label is not None]
    return made


#: What stands after an option, or for an argument, by its name, or by the command and its name.
COMPLETED: dict[str | tuple[str, str], Names] = {
    "datasets": datasets,
    "source": datasets,
    "on": datasets,
    "tables": rules,
    "table": rules,
    "apply": rules,
    "names": all_names,
    "uses": all_names,
    "column": columns,
    "columns": columns,
    "classes": columns,
    "key": columns,
    "keep": columns,
    "by": columns,
    "across": columns,
    "each": columns,
    "sort": columns,
    "only": values,
    "set": values,
    ("chart", "name"): all_names,
    ("explain", "name"): all_names,
}
#: Those that may be files too.
_FILES = ("source", "on")


def completed(ctx: click.Context, parameter: click.Parameter, incomplete: str) -> list[Any]:
    """Return what may stand for a parameter: names of the book that begin so; nothing where no book can be read."""
    word = parameter.name or ""
    names = COMPLETED.get((ctx.command.name or "", word)) or COMPLETED.get(word)
    found: list[str] = []
    if names is not None:
        with suppress(Exception):
            from kivvet.book import nearest_book, open_book

            folder = ctx.params.get("book") or nearest_book()
            found = list(dict.fromkeys(names(open_book(folder or Path()), ctx)))
    made = [CompletionItem(one) for one in found if one.startswith(incomplete)]
    if parameter.name in _FILES:
        made.append(CompletionItem(incomplete, type="file"))
    return made
