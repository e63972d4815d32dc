"""Drafting a table into a book in the way that is asked for: over one column, over several, or as a lookup."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace as with_fields
from pathlib import Path
from typing import Any

from kivvet.books.asks.classes_in_file import classes_in_file
from kivvet.books.asks.data_read import data_read
from kivvet.books.asks.draft_several import draft_over_columns
from kivvet.books.asks.draft_table import Drafted, draft_lookup, draft_table
from kivvet.books.files.open_book import OpenBook
from kivvet.core.draft.classes_by_value import ClassesByValue
from kivvet.core.draft.several import names_of_columns
from kivvet.core.draft.wishes import Wishes, wishes_of
from kivvet.core.words.errors import DataError
from kivvet.io.formats import ROW_ENDINGS
from kivvet.rule_table import value_of

OnRows = Callable[[int], None]


def draft_into(
    book: OpenBook,
    name: str,
    source: str | Path,
    *,
    column: str | Sequence[str] | None = None,
    keys: Sequence[str] = (),
    keep: Sequence[str] = (),
    classes: str | None = None,
    output: str | None = None,
    method: str | None = None,
    n_bins: int | None = None,
    bounds: Sequence[Any] = (),
    by_value: bool = False,
    quantiles: Sequence[Any] = (),
    results: str | Sequence[str] | Mapping[str, str] | None = None,
    fold: str | Sequence[str] = (),
    noting: str | None = None,
    as_csv: bool = False,
    copy: bool = False,
    replace: bool = False,
    read_as: str = "",
    on_rows: OnRows = lambda _: None,
) -> Drafted:
    """Write a new table, a lookup where there are `keys`, into a book; see `Book.draft`."""
    data = data_read(book, source, read_as)
    shown = source if data.frame is None else "a frame"
    columns = names_of_columns(column)
    if (not columns) == (not keys):
        raise DataError(
            "a draft reads columns, or looks up keys", expected="either a column or more, or one key or more"
        )
    if not columns:
        unused = {
            "classes": classes,
            "output": output,
            "propose": method,
            "bins": n_bins,
            "bounds": bounds,
            "by_value": by_value,
            "quantiles": quantiles,
            "results": results,
            "fold": fold,
            "noting": noting,
            "rows_file": as_csv,
        }
        if given := [word for word, value in unused.items() if value]:
            raise DataError(f"{given[0]} has no meaning for a lookup", fix="leave it out")
        return draft_lookup(book, name, data, keys, keep=keep, copies=copy, replace=replace, on_rows=on_rows)
    if keep or copy:
        raise DataError(f"{'keep' if keep else 'copy'} has a meaning for lookups only", fix="leave it out")
    if isinstance(results, str) and results.lower().endswith(ROW_ENDINGS):
        results = classes_in_file(results, columns[0], Wishes(output).output_of(name, columns))
    wishes = wishes_of(
        output,
        method,
        n_bins,
        bounds,
        by_value=by_value,
        quantiles=quantiles,
        results=results,
        fold=fold,
        classes=classes,
        noting=noting,
        is_of_one=len(columns) == 1,
    )
    more: dict[str, Any] = {
        "given": shown,
        "classes": classes,
        "wishes": wishes,
        "as_csv": as_csv,
        "replace": replace,
        "on_rows": on_rows,
    }
    if len(columns) > 1:
        return draft_over_columns(book, name, data, columns, **more)
    done = draft_table(book, name, data, columns[0], **more)
    if not isinstance(results, Mapping):
        return done
    table = value_of(done.table)
    classes_given = ClassesByValue(results, table.inputs[0].type, wishes.fold)
    return with_fields(done, unused=classes_given.beside(table))
