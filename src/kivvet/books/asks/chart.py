"""A picture of data, a table, a summary or what changed rules move, as a command or a call asks for it."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from kivvet.books.asks.data_read import data_read
from kivvet.books.asks.summary import wanted_of
from kivvet.books.asks.table_on_data import TableOnData, table_on_data
from kivvet.books.files.dataset import Dataset
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.cross_tables import CrossAsked, ask_cross
from kivvet.books.runs.fed_domains import fed_domains, known_plan
from kivvet.books.runs.plans import prepare
from kivvet.books.runs.run import Run
from kivvet.books.runs.table_findings import refuse_faults
from kivvet.core.picture.bars import MOST_PARTS, Bars, Sheet, bars_of, bars_of_classes
from kivvet.core.picture.flows import Flows, flows_of
from kivvet.core.picture.histogram import (
    Histogram,
    HistogramCounter,
    RangeInDays,
    bands_of,
    empty_histogram,
)
from kivvet.core.picture.lines import Lines, lines_of
from kivvet.core.picture.of_table import suits
from kivvet.core.picture.paints import Paint, paints_of_labels, paints_of_output
from kivvet.core.picture.places import output_shown
from kivvet.core.picture.region_map import RegionMap, map_of
from kivvet.core.run.cross_table import CrossTable, Label, Share
from kivvet.core.run.fed_domains import limited
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError, DataError, TableError
from kivvet.core.words.values import write_value
from kivvet.core.words.wording import did_you_mean, listed

if TYPE_CHECKING:
    from kivvet.core.run.reports import TableReport

OnRows = Callable[[int], None]
Kind = Literal["bars", "beside", "lines", "histogram", "map", "flows"]
Picture = Bars | Sheet | Lines | Histogram | RegionMap | Flows
KINDS: tuple[Kind, ...] = ("bars", "beside", "lines", "histogram", "map", "flows")
_MOST_PANELS = 16

_OF_DATA = ("by", "across", "value", "where", "share", "read_as")
_OF_TABLE = ("on", "column", "output", "read_as")
#: By kind of picture what may be asked for besides.
_TAKES: Mapping[str, tuple[str, ...]] = {
    "bars": _OF_DATA,
    "beside": _OF_DATA,
    "lines": _OF_DATA,
    "bars of a table": _OF_TABLE,
    "histogram": _OF_TABLE,
    "map": ("output", "axes", "each", "fixed"),
    "flows": ("by", "against"),
}


@dataclass(frozen=True)
class ChartWanted:
    """What a chart is to show; see `Book.chart`."""

    kind: Kind | None = None
    by: tuple[str, ...] = ()
    across: str | None = None
    value: str | None = None
    where: str | None = None
    share: Share | None = None
    on: str | None = None
    column: str | None = None
    output: str | None = None
    axes: tuple[str, ...] = ()
    each: str | None = None
    fixed: Mapping[str, str] = field(default_factory=dict)
    against: str | None = None
    title: str = ""
    read_as: str = ""

    def refuse_others(self, kind: str) -> None:
        """Raise where something is asked for that this kind of picture has not."""
        empty = ChartWanted()
        for one in fields(self):
            name = one.name
            if name in ("kind", "title", *_TAKES[kind]) or getattr(self, name) == getattr(empty, name):
                continue
            for_it = [other for other, takes in _TAKES.items() if name in takes]
            raise DataError(
                f"{_option(name)} does not go with {_shown_kind(kind)}",
                expected=f"{_option(name)} is for {listed(map(_shown_kind, for_it))}",
                fix="leave it out, or say --as KIND",
            )


def _option(name: str) -> str:
    return {"fixed": "--at", "read_as": "--read-as"}.get(name, f"--{name}")


def _shown_kind(kind: str) -> str:
    return {
        "beside": "bars side by side",
        "bars": "bars of data",
        "map": "a map",
        "histogram": "a histogram",
    }.get(kind, kind)


def picture_of(
    book: OpenBook | None, name: str | Path, wanted: ChartWanted, on_rows: OnRows = lambda _: None
) -> tuple[Picture, str]:
    """Return a picture, and what a file of it would be called; see `Book.chart`."""
    text = str(name)
    is_dataset = book is not None and text in book.dataset_names
    is_table = book is not None and (text in book.tables or text in book.unusable_tables)
    asks_a_table = wanted.kind in ("histogram", "map") or any(
        (wanted.on, wanted.output, wanted.axes, wanted.each, wanted.fixed)
    )
    if is_table and (asks_a_table or not is_dataset):
        assert book is not None
        return _of_table(book, book.table(text), wanted, on_rows)
    if is_dataset and book is not None:
        return _of_dataset(book, book.dataset(text), wanted, on_rows)
    if not Path(name).exists():
        known = [] if book is None else [*book.dataset_names, *sorted(book.tables)]
        near = did_you_mean(text, known)
        raise BookError(
            f"there is no dataset, summary, table or file {text!r}",
            fix=near
            or (f"there are {listed(known, 20)}" if known else "name a file, or a book: --book FOLDER"),
        )
    if wanted.kind in ("histogram", "map", "flows"):
        raise DataError(
            f"{text} is data, and {_shown_kind(wanted.kind)} is of a {'dataset' if wanted.kind == 'flows' else 'table'}",
            fix="name one of the book" if wanted.kind == "flows" else f"kivvet chart TABLE --on {text}",
        )
    return _of_data(book, text, wanted, on_rows)


# Of data


def _of_dataset(
    book: OpenBook, dataset: Dataset, wanted: ChartWanted, on_rows: OnRows
) -> tuple[Picture, str]:
    if wanted.kind == "flows" or wanted.against is not None:
        return _flows(book, dataset, wanted, on_rows)
    if wanted.kind in ("histogram", "map"):
        raise DataError(
            f"{dataset.name!r} is a dataset, and {_shown_kind(wanted.kind)} is of a table",
            fix=f"kivvet chart TABLE --on {dataset.name}",
        )
    if dataset.of is not None and not wanted.by:
        if wanted.kind == "lines" or len(dataset.of.by) == 1:
            wanted = replace(wanted, by=(_as_written(dataset.of.by[0]),))
        else:
            wanted = replace(wanted, by=tuple(map(_as_written, dataset.of.by[:2])))
        return _of_summary(book, dataset, wanted, on_rows)
    if not wanted.by and wanted.across is None and wanted.kind in (None, "bars"):
        return _sheet(book, dataset, wanted, on_rows)
    return _of_data(book, dataset.name, wanted, on_rows)


def _as_written(named: tuple[str, str]) -> str:
    name, text = named
    return text if name == text else f'{text} AS "{name}"'


def _of_summary(
    book: OpenBook, dataset: Dataset, wanted: ChartWanted, on_rows: OnRows
) -> tuple[Picture, str]:
    """Return a kept summary: what it sums up, by its keys, with one of its values."""
    assert dataset.of is not None
    values = dict(dataset.of.values)
    name = wanted.value or next(iter(values), "COUNT(*)")
    if name in values:
        wanted = replace(wanted, value=_as_written((name, values[name])))
    if not wanted.title:
        wanted = replace(
            wanted, title=f"{dataset.name}: {name} by {listed([one for one, _ in dataset.of.by])}"
        )
    picture, _ = _of_data(book, dataset.of.name, wanted, on_rows)
    return picture, _file_name(dataset.name, name)


def _of_data(book: OpenBook | None, on: str, wanted: ChartWanted, on_rows: OnRows) -> tuple[Picture, str]:
    kind = wanted.kind or "bars"
    wanted.refuse_others(kind)
    by, across = wanted.by, wanted.across
    if not by and across is None:
        raise DataError(
            "nothing says what the bars stand for",
            fix=f"name a column or a formula: kivvet chart {on} --by COLUMN",
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
    name = _file_name(
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
        labels[table.across] = [one for one in table.columns if one.kind != "total"]
    found = {}
    for name, some in labels.items():
        behind = ready.asked.behind(f"by {name}")
        made = None if behind is None or behind.from_source else ready.asked.table_output(behind.column)
        if made is None:
            found[name] = paints_of_labels(some)
            continue
        step, output = made
        known = paints_of_output(step.table, step.table.output(output))
        plain = paints_of_labels(some)
        found[name] = {
            one: known.get(write_value(one.value), plain[one]) if one.kind == "value" else plain[one]
            for one in some
        }
    return found


def _sheet(book: OpenBook, dataset: Dataset, wanted: ChartWanted, on_rows: OnRows) -> tuple[Picture, str]:
    """Return the rows of each class of every column of classes that a dataset makes."""
    replace(wanted, share=None).refuse_others("bars")
    if wanted.share or wanted.value or wanted.where:
        raise DataError(
            "nothing says what the bars stand for", fix=f"kivvet chart {dataset.name} --by COLUMN"
        )
    prepared, faults = prepare(book, dataset)
    if errors := [one for one in faults if one.severity == "error"]:
        raise TableError(errors)
    refuse_faults(book, prepared.plan.tables.values())
    run = Run(prepared, on_rows=on_rows)
    for _ in run.batches(prepared.plan.source_columns or None):
        pass
    run.stop_at_faults()
    report = run.report()
    if not report.rows:
        raise DataError(
            f"there are no rows to draw of {dataset.name}", fix=f"see: kivvet look {dataset.name}"
        )
    panels = panels_of(book, report.tables)
    if not panels:
        raise DataError(
            f"dataset {dataset.name!r} makes no column of classes",
            fix=f"name a column: kivvet chart {dataset.name} --by COLUMN",
        )
    notes = [f"{report.rows:,} rows"]
    if len(panels) > _MOST_PANELS:
        notes.append(f"the first {_MOST_PANELS} of {len(panels)} columns; draw another by name: --by COLUMN")
    title = wanted.title or f"{dataset.name}: the classes of its columns"
    return Sheet(title, tuple(panels[:_MOST_PANELS]), tuple(notes)), _file_name(dataset.name, "classes")


def panels_of(book: OpenBook, reports: Sequence[TableReport]) -> list[Bars]:
    """Return bars for each column of classes of some reports."""
    made = []
    for report in reports:
        table = book.tables[report.table]
        for column, counted in report.classes.items():
            made.append(bars_of_report(table, column, counted))
    return made


def bars_of_report(table: Table, column: str, counted: Sequence[tuple[str | None, int]]) -> Bars:
    """Return the rows of each class of a column that a table made."""
    paints: dict[str, Paint] = {}
    classes = {label for label, _ in counted}
    for output in table.outputs:
        of_output = paints_of_output(table, output)
        if output.name == column or classes & of_output.keys():
            paints = of_output if output.name == column or not paints else paints
    return bars_of_classes(column, column, counted, paints)


# Of a table


def _of_table(book: OpenBook, table: Table, wanted: ChartWanted, on_rows: OnRows) -> tuple[Picture, str]:
    kind = wanted.kind
    kind = kind or suits(table, has_data=wanted.on is not None)
    if kind in ("lines", "flows", "beside"):
        raise DataError(
            f"{table.name!r} is a table, and {_shown_kind(kind)} are of a dataset",
            fix=f"kivvet chart DATASET --as {kind}",
        )
    table = limited(table, fed_domains(book))
    output = output_shown(table, wanted.output)
    title = wanted.title or (table.title or table.name)
    name = _file_name(table.name, *([output.name] if wanted.output else []))
    if kind == "map":
        wanted.refuse_others("map")
        return (
            map_of(table, output, title, axes=wanted.axes, each=wanted.each, fixed=wanted.fixed),
            _file_name(name, "map"),
        )
    wanted.refuse_others("histogram" if kind == "histogram" else "bars of a table")
    if kind == "histogram":
        bands_of(table, output)
    on, notes = _source_for(book, table, wanted.on)
    if on is None:
        if kind == "histogram":
            return empty_histogram(table, output, title, notes), name
        raise DataError(
            f"no dataset uses table {table.name!r}, and its classes are counted in data",
            fix=f"kivvet chart {table.name} --on SOURCE",
        )
    ready = table_on_data(book, table, on, column=wanted.column, read_as=wanted.read_as)
    notes = (f"rows of {on}", *notes)
    if kind == "histogram":
        return _histogram(ready, table, wanted, title, notes, on_rows), name
    refuse_faults(book, [table])
    run = ready.run(on_rows)
    for _ in run.batches(ready.plan.source_columns or None):
        pass
    run.stop_at_faults()
    if not run.n_rows:
        raise DataError(f"there are no rows to draw of {on}", fix=f"see: kivvet look {on}")
    report = run.report().tables[-1]
    made = dict(zip([column for _, column in ready.step.outputs], ready.step.outputs, strict=True))
    for column, counted in report.classes.items():
        if made.get(column, ("",))[0] == output.name or column == output.name:
            bars = bars_of_classes(title, output.name, counted, paints_of_output(table, output))
            return replace(bars, notes=(*notes, *bars.notes)), name
    raise DataError(
        f"{output.name} of table {table.name!r} has no classes to count",
        expected="an output of text",
        fix=f"kivvet chart {on} --by {output.name}",
    )


def _source_for(book: OpenBook, table: Table, on: str | None) -> tuple[str | None, tuple[str, ...]]:
    """Return the data that a table is drawn with, and what is to be said of that."""
    if on is not None:
        return on, ()
    users = []
    for dataset in book.datasets.values():
        plan, _ = known_plan(book, dataset)
        if plan is not None and any(step.table.name == table.name for step in plan.table_steps):
            users.append(dataset.name)
    if not users:
        return None, ("no dataset uses it; --on SOURCE draws data too",)
    others = (
        (f"{listed(users[1:], 3)} {'uses' if len(users) == 2 else 'use'} it too: --on NAME",)
        if len(users) > 1
        else ()
    )
    return users[0], others


def _histogram(
    ready: TableOnData, table: Table, wanted: ChartWanted, title: str, notes: tuple[str, ...], on_rows: OnRows
) -> Histogram:
    output, name = output_shown(table, wanted.output), table.inputs[0].name
    reach, run = RangeInDays(), ready.run()
    for batch in run.batches(ready.plan.source_columns or None):
        reach.see(batch.columns_of(ready.step)[name])
    run.stop_at_faults()
    counter, run = HistogramCounter(table, output, reach), ready.run(on_rows)
    for batch in run.batches(ready.plan.source_columns or None):
        counter.see(batch.columns_of(ready.step))
    if not run.n_rows:
        name = ready.prepared.dataset.name
        raise DataError(f"there are no rows to draw of {name}", fix=f"see: kivvet look {name}")
    return counter.made(title, notes)


# Of a change


def _flows(book: OpenBook, dataset: Dataset, wanted: ChartWanted, on_rows: OnRows) -> tuple[Picture, str]:
    from kivvet.books.asks.impact import impact_in_book

    if wanted.kind not in (None, "flows"):
        raise DataError("--against goes with flows", fix="--as flows")
    wanted.refuse_others("flows")
    against = wanted.against or "last"
    impact = impact_in_book(book, [dataset.name], against, on_rows=on_rows)
    of_dataset = next((one for one in impact.datasets if one.dataset == dataset.name), None)
    if of_dataset is None or of_dataset.why_not:
        raise DataError(
            f"what would move in {dataset.name} cannot be told"
            + (f": {of_dataset.why_not}" if of_dataset is not None else ""),
            fix=f"see: kivvet impact {dataset.name}",
        )
    moved = [one for one in of_dataset.columns if one.changed and one.pairs]
    if wanted.by:
        columns = [one.column for one in of_dataset.columns]
        chosen = [one for one in of_dataset.columns if one.column in wanted.by]
        if len(wanted.by) > 1 or not chosen:
            raise DataError(
                f"{listed(wanted.by)} is no one column that other rules make",
                expected=f"one of: {listed(columns)}" if columns else "a column that changes",
                fix=f"see: kivvet impact {dataset.name}",
            )
        moved = chosen
    if not moved or not moved[0].changed:
        raise DataError(
            f"no class of {dataset.name} changes",
            found=impact.summary,
            fix=f"see: kivvet impact {dataset.name}",
        )
    column = max(moved, key=lambda one: one.changed)
    others = [one.column for one in moved if one is not column]
    table = book.tables.get(column.made_by)
    paints: dict[str, Paint] = {}
    if table is not None:
        classes = {label for label, *_ in column.classes if label is not None}
        ranked = sorted(
            table.outputs,
            key=lambda one: (one.name != column.column, -len(classes & set(paints_of_output(table, one)))),
        )
        paints = paints_of_output(table, ranked[0])
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
    return replace(flows, notes=(*flows.notes, *more)), _file_name(dataset.name, column.column, "flows")


def _file_name(*parts: str) -> str:
    """Return a name for a file: letters, digits and hyphens of any script."""
    return "-".join(re.sub(r"[^\w]+", "-", one).strip("-") for one in parts if one)[:80] or "chart"
