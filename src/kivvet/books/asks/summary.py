"""A cross-table of a dataset or a file, as a command or a call asks for it."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from kivvet.books.asks.data_read import data_read
from kivvet.books.files.entry_text import aligned, append_entry
from kivvet.books.files.open_book import BOOK_FILE, OpenBook
from kivvet.books.runs.cross_in_parts import crossed_in_parts
from kivvet.books.runs.cross_tables import ROWS, Wanted, ask_cross, read_expression
from kivvet.books.runs.in_parts import Engine
from kivvet.books.runs.table_findings import refuse_faults
from kivvet.core.read.options import toml_text
from kivvet.core.run.cross_table import CrossTable, Share
from kivvet.core.run.crossing import is_additive
from kivvet.core.words.errors import BookError, DataError
from kivvet.core.words.wording import listed, shell_word, toml_key

OnRows = Callable[[int], None]
_NAMED = re.compile(
    r'^(?P<text>.*\S)\s+as\s+(?:"(?P<quoted>[^"]+)"|(?P<name>[^\W\d]\w*))$', re.IGNORECASE | re.DOTALL
)


def wanted_of(
    by: str | Sequence[str],
    across: str | None,
    values: str | Sequence[str] | Mapping[str, str],
    where: str | None,
    most_across: int | None,
    share: Share | None = None,
) -> Wanted:
    """Return what is wanted, from texts such as ``SUM(load) AS load``; see `Book.cross_table`."""
    by = [by] if isinstance(by, str) else by
    values = [values] if isinstance(values, str) else values
    given = list(values.items()) if isinstance(values, Mapping) else [_named(value) for value in values]
    given = given or [(ROWS, "COUNT(*)")]
    twice = [name for name, _ in given]
    if len(set(twice)) < len(twice):
        raise DataError(
            f"{listed(twice)} are the values", expected="each value once", fix="SUM(load) AS other"
        )
    wanted = Wanted(
        tuple(map(_named, by)), None if across is None else _named(across), tuple(given), where, most_across
    )
    if share is not None and not any(_is_additive(name, text) for name, text in given):
        raise DataError(
            f"{listed(twice)} has no share: shares are of counts and totals",
            expected="COUNT or SUM among the values",
        )
    return wanted


def _named(text: str) -> tuple[str, str]:
    """Return the name and the expression of a text: what stands after AS, else the expression itself."""
    found = _NAMED.match(text.strip())
    if found is None:
        plain = text.strip()
        is_quoted = len(plain) > 2 and plain[0] == plain[-1] == '"' and '"' not in plain[1:-1]
        return (plain[1:-1] if is_quoted else plain), plain
    return found["quoted"] or found["name"], found["text"]


def _is_additive(name: str, text: str) -> bool:
    tree = read_expression(name, text, of_groups=True)
    return is_additive(tree)


def summary_of(
    book: OpenBook | None,
    on: str | Path,
    wanted: Wanted,
    *,
    read_as: str = "",
    engine: Engine | None = None,
    on_rows: OnRows = lambda _: None,
) -> CrossTable:
    """Return the cross-table of a dataset, or of a file; see `Book.cross_table`."""
    data = data_read(book, on, read_as)
    ready = ask_cross(book, data.dataset, data.open(), wanted)
    refuse_faults(book, ready.asked.plan.tables.values())
    return ready.made(on_rows) if engine is None else crossed_in_parts(ready, engine, on_rows)


def keep_summary(book: OpenBook, name: str, on: str, wanted: Wanted) -> tuple[str, ...]:
    """Write a summary into book.toml as ``[summaries.NAME]``, all else staying as it is; return its lines.

    Raises
    ------
    BookError
        If the name is taken, or the data is no dataset of the book.
    DataError
        If it has columns or a condition, which a summary that is kept has not.
    """
    path = book.folder / BOOK_FILE
    if name in book.dataset_names:
        raise BookError(f"there is a dataset or summary {name!r} already", fix="choose another name")
    if not re.fullmatch(r"[^\W\d][\w-]*", name):
        raise BookError(f"{name!r} is no name of a summary", fix='for example "by_river"')
    if on not in book.datasets:
        raise BookError(
            f"{on!r} is no dataset of the book, and a summary sums up one",
            fix=f"add it first: kivvet add NAME {shell_word(on)}",
        )
    if wanted.across is not None or wanted.where is not None:
        word = "across" if wanted.across is not None else "where"
        raise DataError(
            f"a summary that is kept takes no {word}",
            fix="use --by for it too"
            if word == "across"
            else "say it in an aggregate: COUNT(*) FILTER (WHERE ...)",
        )
    if twice := {key for key, _ in wanted.by} & {value for value, _ in wanted.values}:
        raise DataError(f"{listed(sorted(twice))} is a key and a value", fix="SUM(load) AS total")
    by = [key if key == text.strip('"') else {key: text} for key, text in wanted.by]
    entry = [
        ("from", toml_text(on)),
        ("by", toml_text(by)),
        ("values", toml_text(dict(wanted.values))),
        ("target", toml_text(f"out/{name}.csv")),
    ]
    lines = [f"[summaries.{toml_key(name)}]", *aligned(entry)]
    append_entry(path, lines)
    return tuple(lines)
