"""A picture of what changed rules move: flows from class to class."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from kivvet.books.asks.chart_of_data import paints_of_column
from kivvet.books.asks.chart_wanted import ChartWanted, OnRows, Picture, file_name
from kivvet.books.asks.impact import impact_in_book
from kivvet.books.files.dataset import Dataset
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.fed_domains import known_plan
from kivvet.core.picture.flows import flows_of
from kivvet.core.picture.paints import paints_of_labels
from kivvet.core.run.cross_table import Label
from kivvet.core.words.errors import DataError
from kivvet.core.words.wording import listed, shell_word


def chart_of_change(
    book: OpenBook, dataset: Dataset, wanted: ChartWanted, on_rows: OnRows
) -> tuple[Picture, str]:
    """Return what changed rules move in a dataset as flows, and what a file of it would be called."""
    if wanted.kind not in (None, "flows"):
        raise DataError("--against goes with flows", fix="--kind flows")
    wanted.refuse_others("flows")
    against = wanted.against or "last"
    impact = impact_in_book(book, [dataset.name], against, on_rows=on_rows)
    of_dataset = next((one for one in impact.datasets if one.dataset == dataset.name), None)
    if of_dataset is None or of_dataset.why_not:
        raise DataError(
            f"what would move in {dataset.name} cannot be told"
            + (f": {of_dataset.why_not}" if of_dataset is not None else ""),
            fix=f"see: kivvet impact {shell_word(dataset.name)}",
        )
    moved = [column for column in of_dataset.columns if column.changed and column.pairs]
    if wanted.by:
        columns = [column.column for column in of_dataset.columns]
        chosen = [column for column in of_dataset.columns if column.column in wanted.by]
        if len(wanted.by) > 1 or not chosen:
            raise DataError(
                f"{listed(wanted.by)} is no one column that other rules make",
                expected=f"one of: {listed(columns)}" if columns else "a column that changes",
                fix=f"see: kivvet impact {shell_word(dataset.name)}",
            )
        moved = chosen
    if not moved or not moved[0].changed:
        raise DataError(
            f"no class of {dataset.name} changes",
            found=impact.summary,
            fix=f"see: kivvet impact {shell_word(dataset.name)}",
        )
    column = max(moved, key=lambda one: one.changed)
    others = [one.column for one in moved if one is not column]
    plan, _ = known_plan(book, dataset)
    paints = {} if plan is None else paints_of_column(plan, column.column)
    labels = [
        Label("value", label) for label, *_ in column.classes if label is not None and label not in paints
    ]
    paints |= {str(one): paint for one, paint in paints_of_labels(labels).items()}
    title = wanted.title or f"{dataset.name}: what moves in {column.column}"
    before = "as last applied" if against == "last" else f"by {Path(against).name}"
    flows = flows_of(column, title, paints, before, "by today's rules")
    more = (
        (f"{listed(others)} {'changes' if len(others) == 1 else 'change'} too: --by COLUMN",)
        if others
        else ()
    )
    return replace(flows, notes=(*flows.notes, *more)), file_name(dataset.name, column.column, "flows")
