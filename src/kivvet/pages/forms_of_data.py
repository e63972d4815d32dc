"""Data as notebooks show it: looks, rows, cross-tables, what applying did."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from kivvet.core.words.wording import count, listed, values_with_rows
from kivvet.pages.grids import Cell, Line, Part, number, percent, without_empty, words

if TYPE_CHECKING:
    from kivvet.books.asks.rows import RowsShown
    from kivvet.books.asks.try_formula import Trial
    from kivvet.books.asks.unmatched import Unmatched
    from kivvet.core.draft.look import ColumnLook, Look
    from kivvet.core.run.cross_table import CrossTable
    from kivvet.core.run.reports import ApplyReport
    from kivvet.core.run.shares import Shares
    from kivvet.core.run.step_reports import TableReport
from kivvet.pages.form_parts import MOST_VALUES, grid_of, plain_text

_MOST_CELLS = 40  # columns of rows of data


def applied_form(one: ApplyReport) -> Part:
    """Return what applying did: the account of every table, and the rows of each class."""
    kept = f", {one.written:,} kept" if one.left_out else ""
    facts = [("rows", f"{one.rows:,}{kept}")]
    if one.target:
        facts.append(("target", one.target))
    parts = [_applied_table(report) for report in one.tables]
    if one.formulas:
        lines = [
            Line((*words(", ".join(report.columns), report.type), number(report.missing)))
            for report in one.formulas
        ]
        parts.append(
            Part(
                "formulas",
                grids=(grid_of("", ("formula", "type", "missing in rows"), lines, ("missing in rows",)),),
            )
        )
    said = tuple(("note", text) for text in one.notes)
    facts += [("no data", "; ".join(f"{why} {n:,}" for why, n in one.no_data))] if one.no_data else []
    return Part(one.dataset or "applied", tuple(facts), said, parts=tuple(parts))


def _applied_table(report: TableReport) -> Part:
    unfinished = f" + unfinished {report.unfinished:,}" if report.unfinished else ""
    accounts = f"matched {report.matched:,}{unfinished} + missing {report.missing:,} + unmatched {report.unmatched:,} = {report.rows:,}"
    grids = []
    for column in report.classes:
        lines = [
            Line(
                (
                    Cell(label),
                    Cell(f"{rows:,}", is_number=True, share=rows / report.rows if report.rows else 0.0),
                    Cell(percent(rows / report.rows) if report.rows else "", is_number=True),
                )
            )
            for label, _, rows in report.lines_of(column)
        ]
        grids.append(grid_of("", (column, "rows", "share"), lines, ("rows", "share"), MOST_VALUES))
    unmatched = values_with_rows(report.unmatched_values, report.unmatched_beyond)
    said = (("warning", f"unmatched {unmatched}"),) if unmatched else ()
    return Part(f"{report.table} reads {report.column}", (("rows", accounts),), said, tuple(grids))


def cross_table_form(one: CrossTable) -> Part:
    """Return a cross-table with its totals."""
    names, lines = one.table()
    n_keys = len(one.by)
    made = [
        Line(
            (
                *(Cell(plain_text(value), is_head=True) for value in line[:n_keys]),
                *(
                    number(value)
                    if isinstance(value, (int, float)) and one.is_amount(place % len(one.values))
                    else Cell(plain_text(value), is_number=True)
                    for place, value in enumerate(line[n_keys:])
                ),
            )
        )
        for line in lines
    ]
    facts = (
        ("rows", f"{one.rows:,}"),
        *((("left out by where", f"{one.left_out:,}"),) if one.left_out else ()),
    )
    return Part("", facts, grids=(grid_of("", names, made, names[n_keys:], 200),))


def look_form(one: Look) -> Part:
    """Return a line for each column of data."""
    lines = [
        Line(
            (
                Cell(column.name, is_head=True),
                Cell(column.type),
                Cell(percent(column.missing / column.rows) if column.missing else "·", is_number=True),
                Cell(f"{'' if column.is_counted else '> '}{column.distinct:,}", is_number=True),
                *words(_in_short(column), "; ".join(column.hints)),
            )
        )
        for column in one.columns
    ]
    names = ("column", "type", "missing", "distinct", "values", "look again")
    said = tuple(("note", text) for text in (one.read_as.remarks if one.read_as is not None else ()))
    if one.no_data:
        said = (*said, ("note", "no data: " + "; ".join(f"{why} {n:,}" for why, n in one.no_data)))
    if one.n_more:
        said = (*said, ("note", f"{one.n_more:,} more columns are looked at once they are named"))
    grid = without_empty(grid_of("", names, lines, ("missing", "distinct"), 300))
    return Part(
        "", (("rows", f"{one.rows:,}"), ("columns", f"{len(one.columns) + one.n_more:,}")), said, (grid,)
    )


def _in_short(column: ColumnLook) -> str:
    if column.lowest:
        step = f", step {column.step}" if column.step and column.type == "number" else ""
        return f"{column.lowest} to {column.highest}{step}"
    return listed((f"{value} ({rows:,})" for value, rows in column.values), 4)


def column_look_form(one: ColumnLook) -> Part:
    """Return one column of data in full."""
    facts = [
        ("type", f"{one.type} ({one.reason})"),
        ("rows", f"{one.rows:,}"),
        ("missing", f"{one.missing:,}"),
        ("distinct", f"{'' if one.is_counted else 'more than '}{one.distinct:,}"),
    ]
    if one.lowest:
        facts.append(("range", f"{one.lowest} to {one.highest}"))
    if one.quantiles:
        facts.append(("quantiles", ", ".join(f"{share}: {value}" for share, value in one.quantiles.items())))
    most = max((rows for *_, rows in one.bars), default=1) or 1
    bars = [
        Line((*words(f"{low} to <{high}"), Cell(f"{rows:,}", is_number=True, share=rows / most)))
        for low, high, rows in one.bars
    ]
    top = one.values[0][1] if one.values else 1
    values = [
        Line((Cell(value), Cell(f"{rows:,}", is_number=True, share=rows / top))) for value, rows in one.values
    ]
    grids = [grid_of("", ("from to", "rows"), bars, ("rows",))] if bars else []
    grids += (
        [grid_of("", ("value", "rows"), values, ("rows",), MOST_VALUES)]
        if values and (not bars or one.distinct <= MOST_VALUES)
        else []
    )
    return Part(one.name, tuple(facts), tuple(("note", text) for text in one.hints), tuple(grids))


def shares_form(one: Shares) -> Part:
    """Return how data falls into the rows of a table, then and now."""
    lines = []
    for row, (condition, result) in enumerate(zip(one.conditions, one.results, strict=True)):
        then = (
            (number(one.then.counts[row]), Cell(percent(one.share(one.then, row)), is_number=True))
            if one.then is not None
            else (Cell(""), Cell(""))
        )
        share = one.share(one.now, row)
        lines.append(
            Line(
                (
                    *words(condition, result),
                    *then,
                    Cell(f"{one.now.counts[row]:,}", is_number=True, share=share),
                    Cell(percent(share), is_number=True),
                )
            )
        )
    falls = (one.then, one.now) if one.then is not None else (None, one.now)
    lines.append(_outside_line("missing", [None if fall is None else fall.missing for fall in falls], None))
    if any(fall is not None and fall.unmatched for fall in falls):
        valued = [None if fall is None else fall.valued for fall in falls]
        lines.append(_outside_line("in no row", [None if f is None else f.unmatched for f in falls], valued))
    names = ("condition", "result", "then", "then share", "now", "share")
    grid = without_empty(grid_of("", names, lines, names[2:], 200))
    said = [("note", one.why)] if one.why else []
    said += [("" if word == "moved" else "warning", f"{word}: {text}") for word, text in one.told]
    facts = (("now", one.now.source), *((("then", one.then.source),) if one.then is not None else ()))
    return Part(one.table, facts, tuple(said), (grid,))


def _outside_line(name: str, rows: Sequence[int | None], valued: Sequence[int | None] | None) -> Line:
    """Return a line for rows that are in none of the table, then and now, with their shares where they have some."""
    cells = []
    for place, n in enumerate(rows):
        of = None if valued is None else valued[place]
        share = percent(n / of) if n is not None and of else ""
        cells += [Cell("") if n is None else number(n), Cell(share, is_number=True)]
    return Line((*words(name, ""), *cells))


def several_unmatched_form(some: Sequence[Unmatched]) -> Part:
    """Return values that no row holds, one a line."""
    lines = [
        Line(
            (
                *words(one.dataset, one.table, one.columns, "all others" if one.is_all_others else one.value),
                number(one.rows),
                Cell("" if one.first_row is None else f"{one.first_row:,}", is_number=True),
                *words("still to be filled in" if one.is_unfinished else ""),
            )
        )
        for one in some
    ]
    names = ("dataset", "table", "columns", "value", "rows", "first in row", "")
    return Part("Unmatched", grids=(without_empty(grid_of("", names, lines, names[4:6])),))


def rows_form(one: RowsShown) -> Part:
    """Return rows of data."""
    names = [*one.table.column_names[:_MOST_CELLS], *(f"why {name}" for name in one.why)]
    columns = [one.table[name].to_pylist() for name in one.table.column_names[:_MOST_CELLS]]
    columns += [list(said) for said in one.why.values()]
    numbers = [
        name
        for name, values in zip(names, columns, strict=True)
        if any(isinstance(v, (int, float)) and not isinstance(v, bool) for v in values)
    ]
    lines = [
        Line(
            tuple(
                Cell(
                    plain_text(value)
                    if not isinstance(value, int) or isinstance(value, bool)
                    else str(value),
                    is_number=name in numbers,
                )
                for name, value in zip(names, line, strict=True)
            )
        )
        for line in zip(*columns, strict=True)
    ]
    said = () if lines else (("note", one.why_none()),)
    return Part(
        one.source,
        (("rows", f"{one.n_matching:,} of {one.n_rows:,}"),),
        said,
        (grid_of("", names, lines, numbers, 200),) if lines else (),
    )


def unmatched_form(one: Unmatched) -> Part:
    """Return a value that no row holds."""
    first = "" if one.first_row is None else f", first in row {one.first_row:,}"
    return Part(
        "",
        said=(
            (
                "warning",
                f"{one.value!r} of {one.columns} in {one.dataset}: {count(one.rows, 'row')}{first}; no row of {one.table} holds it",
            ),
        ),
    )


def trial_form(one: Trial) -> Part:
    """Return what trying a formula showed."""
    names = list(one.rows[0][1]) if one.rows else []
    lines = [
        Line(
            (
                Cell(f"{row:,}", is_number=True),
                *(
                    Cell(plain_text(values.get(name)), is_number=isinstance(values.get(name), (int, float)))
                    for name in names
                ),
            )
        )
        for row, values in one.rows
    ]
    facts = [
        ("type", one.type),
        ("rows", f"{one.report.rows:,}{'' if one.is_whole else ', the first ones'}"),
        ("missing", f"{one.report.missing:,}"),
    ]
    return Part(
        one.text, tuple(facts), grids=(grid_of("", ("row", *names), lines, ("row",)),) if lines else ()
    )
