"""A picture of data: bars and lines of a cross-table, a sheet of all columns of classes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from kivvet.books.asks.data_read import data_read
from kivvet.books.asks.summary import wanted_of
from kivvet.books.files.dataset import Dataset
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.cross_tables import ROWS, CrossAsked, ask_cross, read_expression
from kivvet.books.runs.plans import prepare
from kivvet.books.runs.run import Run
from kivvet.books.runs.table_findings import refuse_faults
from kivvet.core.formulas.tree import write_name
from kivvet.core.picture.bars import MOST_PARTS, Bars, Sheet, bars_of, bars_of_classes
from kivvet.core.picture.lines import lines_of
from kivvet.core.picture.paints import Paint, paints_of_labels, paints_of_output, plain_paints
from kivvet.core.run.cross_table import CrossTable, Label
from kivvet.core.run.crossing import is_additive
from kivvet.core.run.plan import Plan
from kivvet.core.words.errors import DataError, TableError
from kivvet.core.words.values import write_value
from kivvet.core.words.wording import listed, shell_word

if TYPE_CHECKING:
    from kivvet.core.run.step_reports import TableReport
from kivvet.books.asks.chart_wanted import ChartWanted, OnRows, Picture, file_name

_MOST_PANELS = 16


def chart_of_data(
    book: OpenBook | None, on: str, wanted: ChartWanted, on_rows: OnRows
) -> tuple[Picture, str]:
    """Return bars or lines of a dataset or a file, and what a file of it would be called."""
    kind = wanted.kind or "bars"
    wanted.refuse_others(kind)
    by, across = wanted.by, wanted.across
    if not by and across is None:
        raise DataError(
            "nothing says what the bars stand for",
            fix=f"name a column or a formula: kivvet chart {shell_word(on)} --by COLUMN",
        )
    if not by:
        by, across = (across or "",), None
    share = wanted.share
    if kind == "lines" and share is None and across is not None and wanted.value is None:
        share = "row"
    asked = wanted_of(
        by, across, () if wanted.value is None else [wanted.value], wanted.where, MOST_PARTS, share
    )
    if share == "row" and across is None:
        raise DataError("a share of a row needs --across: each bar is then one figure", fix="--share total")
    data = data_read(book, on, wanted.read_as)
    ready = ask_cross(book, data.dataset, data.open(), asked)
    refuse_faults(book, ready.asked.plan.tables.values())
    table = ready.made(on_rows)
    paints = paints_of_keys(ready, table)
    shown = Path(on).name if data.dataset.name == on and not data.is_of_book else on
    title = wanted.title or f"{shown}: {_titled(table, kind)}"
    name = file_name(
        Path(on).stem if not data.is_of_book else on, *([table.across] if table.across else []), *table.by
    )
    if kind == "lines":
        return lines_of(table, title, shown, paints.get(table.across or "", {}), share=share), name
    style: Literal["stacked", "beside"] = "beside" if kind == "beside" else "stacked"
    return bars_of(table, title, shown, paints, share=share, style=style), name


def _titled(table: CrossTable, kind: str) -> str:
    value, by = table.values[0], listed(table.by)
    if table.across is None:
        return f"{value} by {by}"
    return (
        f"{table.across} by {by}"
        if table.values == ("rows",) or kind == "lines"
        else f"{value} by {by} and {table.across}"
    )


def paints_of_keys(ready: CrossAsked, table: CrossTable) -> dict[str, dict[Label, Paint]]:
    """Return by key of a cross-table what its labels are painted with: classes as their table says."""
    labels: dict[str, list[Label]] = {
        name: [*order] for name, order in zip(table.by, table.orders, strict=False)
    }
    if table.across is not None:
        labels[table.across] = [column for column in table.columns if column.kind != "total"]
    found = {}
    for name, some in labels.items():
        made = ready.maker_of_key(name)
        if made is None:
            found[name] = paints_of_labels(some) if name == table.across else plain_paints(some)
            continue
        step, output = made
        known = paints_of_output(step.table, step.table.output(output))
        plain = paints_of_labels(some)
        found[name] = {
            one: known.get(write_value(one.value), plain[one]) if one.kind == "value" else plain[one]
            for one in some
        }
    return found


def chart_of_summary(
    book: OpenBook, dataset: Dataset, wanted: ChartWanted, on_rows: OnRows
) -> tuple[Picture, str]:
    """Return a kept summary as it is kept: its lines by their keys, with one of its values."""
    assert dataset.of is not None
    values = dict(dataset.of.values)
    name = wanted.value or next(iter(values), ROWS)
    keys = [key for key, _ in dataset.of.by]
    is_total = name in values and is_additive(read_expression(name, values[name], of_groups=True))
    by = keys[:1] if wanted.kind == "lines" else [key for key in keys if key != wanted.across]
    if not is_total and not set(keys) <= {*by, wanted.across}:
        period = shell_word(as_written(next(one for one in dataset.of.by if one[0] == by[0])))
        measured = shell_word(as_written((name, values[name])) if name in values else name)
        of_source = (
            f"kivvet chart {shell_word(dataset.of.name)} --kind lines --by {period} --value {measured}"
        )
        raise DataError(
            f"{name} is of each {listed(keys)}, and lines go along {by[0]} alone",
            expected="a count or a total, whose parts add up",
            fix=f"draw it of what is summed up: {of_source}",
        )
    if name in values:
        # A line of the summary is a row here: its total, and its largest, is the value itself.
        value = f"{'SUM' if is_total else 'MAX'}({write_name(name)})"
        wanted = replace(wanted, value=as_written((name, value)))
    title = wanted.title or f"{dataset.name}: {name} by {listed(keys)}"
    wanted = replace(wanted, by=tuple(map(write_name, by)), title=title)
    picture, _ = chart_of_data(book, dataset.name, wanted, on_rows)
    return picture, file_name(dataset.name, name)


def as_written(named: tuple[str, str]) -> str:
    """Return a name and an expression as they are asked for."""
    name, text = named
    return text if name == text else f'{text} AS "{name}"'


def sheet_of(book: OpenBook, dataset: Dataset, wanted: ChartWanted, on_rows: OnRows) -> tuple[Picture, str]:
    """Return the rows of each class of every column of classes that a dataset makes."""
    replace(wanted, share=None).refuse_others("bars")
    if wanted.share or wanted.value or wanted.where:
        raise DataError(
            "nothing says what the bars stand for", fix=f"kivvet chart {shell_word(dataset.name)} --by COLUMN"
        )
    prepared, faults = prepare(book, dataset)
    if errors := [fault for fault in faults if fault.severity == "error"]:
        raise TableError(errors)
    refuse_faults(book, prepared.plan.tables.values())
    run = Run(prepared, on_rows=on_rows)
    for _ in run.batches(prepared.plan.source_columns or None):
        pass
    run.stop_at_faults()
    report = run.report()
    if not report.rows:
        raise DataError(
            f"there are no rows to draw of {dataset.name}", fix=f"see: kivvet look {shell_word(dataset.name)}"
        )
    panels = panels_of(prepared.plan, report.tables)
    if not panels:
        raise DataError(
            f"dataset {dataset.name!r} makes no column of classes",
            fix=f"name a column: kivvet chart {shell_word(dataset.name)} --by COLUMN",
        )
    notes = [f"{report.rows:,} rows"]
    if report.left_out:
        notes.append(f"all are counted; where keeps {report.written:,} of them")
    if len(panels) > _MOST_PANELS:
        notes.append(f"the first {_MOST_PANELS} of {len(panels)} columns; draw another by name: --by COLUMN")
    title = wanted.title or f"{dataset.name}: the classes of its columns"
    return Sheet(title, tuple(panels[:_MOST_PANELS]), tuple(notes)), file_name(dataset.name, "classes")


def paints_of_column(plan: Plan, column: str) -> dict[str, Paint]:
    """Return what stands for the classes of a column, as the table says whose output it is; nothing where none makes it."""
    made = plan.maker_of(column)
    return {} if made is None else paints_of_output(made[0].table, made[0].table.output(made[1]))


def panels_of(plan: Plan, reports: Sequence[TableReport]) -> list[Bars]:
    """Return bars for each column of classes of some reports on what a plan made."""
    return [
        bars_of_classes(column, column, report.lines_of(column), paints_of_column(plan, column))
        for report in reports
        for column in report.classes
    ]
