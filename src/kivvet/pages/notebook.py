"""Values as notebooks show them: HTML with everything escaped, in the colours of whatever is around it, light or dark."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any

from kivvet.core.words.wording import count, listed
from kivvet.pages.grids import Cell, Grid, Line, Part, heads, number, percent, without_empty, words
from kivvet.pages.templating import filled

if TYPE_CHECKING:
    from kivvet.books.asks.history import History
    from kivvet.books.asks.overview import Overview
    from kivvet.books.asks.review_table import TableReview
    from kivvet.books.asks.rows import RowsShown
    from kivvet.books.asks.try_formula import Trial
    from kivvet.books.asks.unmatched import Unmatched
    from kivvet.books.runs.status import DatasetStatus
    from kivvet.core.compare.comparison import Comparison
    from kivvet.core.draft.look import ColumnLook, Look
    from kivvet.core.run.cross_table import CrossTable
    from kivvet.core.run.explain import Explanation
    from kivvet.core.run.impact import DatasetImpact, Impact
    from kivvet.core.run.reports import ApplyReport, TableReport
    from kivvet.core.run.shares import Shares
    from kivvet.core.words.findings import Report
    from kivvet.pages.report import BookReport
    from kivvet.rule_table import RuleTable

_MOST_LINES = 60
_MOST_VALUES = 20
_MOST_CELLS = 40  # columns of rows of data


def html_of(value: object) -> str | None:
    """Return what a notebook shows of a value; None where it has no such form."""
    form = _FORMS.get(type(value).__name__)
    return None if form is None else filled("notebook.html", what=form(value))


def _first(lines: Iterable[Line], most: int = _MOST_LINES) -> tuple[tuple[Line, ...], str]:
    """Return the first lines of many, and what is said of the rest."""
    some = list(lines)
    return tuple(some[:most]), f"and {len(some) - most:,} more" if len(some) > most else ""


def _grid(
    caption: str,
    names: Sequence[str],
    lines: Iterable[Line],
    numbers: Sequence[str] = (),
    most: int = _MOST_LINES,
) -> Grid:
    shown, more = _first(lines, most)
    return Grid(caption, heads(names, numbers), shown, more)


def _table(one: RuleTable) -> Part:
    from kivvet.books.asks.report import examples_told, rest_told, rows_told
    from kivvet.core.picture.paints import paints_of_output
    from kivvet.rule_table import value_of

    table = value_of(one)
    names, n_asked, rows = rows_told(table)
    paints = {
        output.name: paints_of_output(table, output) for output in table.outputs if output.type == "text"
    }

    def cell(place: int, text: str) -> Cell:
        if place < n_asked:
            return Cell(text or ("any" if table.lookup is None else ""))
        return Cell(text, paint=paints.get(names[place], {}).get(text))

    lines = [
        Line(
            (
                Cell(f"{row}", is_number=True),
                *(cell(place, text) for place, text in enumerate(cells)),
                Cell(note),
            )
        )
        for row, (cells, note) in enumerate(rows, 1)
    ]
    shown, more = _first(lines)
    if table.n_rows > len(shown):
        more = f"and {table.n_rows - len(shown):,} more"
    grids = [without_empty(Grid("", heads(("row", *names, "note"), ("row",)), shown, more))] if shown else []
    if examples := examples_told(table):
        grids.append(
            _grid(
                "What must come out so", examples[0], (Line(words(*cells)) for cells in examples[1:]), most=20
            )
        )
    facts = [
        ("owner", table.owner),
        ("note", table.note),
        ("match", "" if table.match == "one" else table.match),
        *rest_told(table),
    ]
    title = f"{table.name}  {table.title}".strip()
    return Part(title, tuple((word, text) for word, text in facts if text), grids=tuple(grids))


def _report(one: Report) -> Part:
    mood = "error" if one.has_errors else "fine" if one.is_clean else "warning"
    told = one.findings[:_MOST_LINES]
    by_subject: dict[str, list[Any]] = {}
    for found in told:
        by_subject.setdefault(
            found.table or (f"dataset {found.dataset}" if found.dataset else "book"), []
        ).append(found)
    more = (
        (("", f"and {len(one.findings) - len(told):,} more findings"),)
        if len(one.findings) > len(told)
        else ()
    )
    parts = tuple(Part(name, findings=tuple(some)) for name, some in by_subject.items())
    return Part("", said=((mood, one.summary), *more), parts=parts)


def _applied(one: ApplyReport) -> Part:
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
                grids=(_grid("", ("formula", "type", "missing in rows"), lines, ("missing in rows",)),),
            )
        )
    said = tuple(("note", text) for text in one.notes)
    return Part(one.dataset or "applied", tuple(facts), said, parts=tuple(parts))


def _applied_table(report: TableReport) -> Part:
    unfinished = f" + unfinished {report.unfinished:,}" if report.unfinished else ""
    accounts = f"matched {report.matched:,}{unfinished} + missing {report.missing:,} + unmatched {report.unmatched:,} = {report.rows:,}"
    grids = []
    for column, counted in report.classes.items():
        lines = [
            Line(
                (
                    Cell("(missing)" if label is None else label),
                    Cell(f"{rows:,}", is_number=True, share=rows / report.rows if report.rows else 0.0),
                    Cell(percent(rows / report.rows) if report.rows else "", is_number=True),
                )
            )
            for label, rows in counted
        ]
        grids.append(_grid("", (column, "rows", "share"), lines, ("rows", "share"), _MOST_VALUES))
    unmatched = listed((f"{value!r} ({rows:,})" for value, rows in report.unmatched_values), 6)
    said = (("warning", f"unmatched {unmatched}"),) if unmatched else ()
    return Part(f"{report.table} reads {report.column}", (("rows", accounts),), said, tuple(grids))


def _cross_table(one: CrossTable) -> Part:
    names, lines = one.table()
    n_keys = len(one.by)
    made = [
        Line(
            (
                *(Cell(_plain(value), is_head=True) for value in line[:n_keys]),
                *(
                    number(value) if isinstance(value, (int, float)) else Cell(_plain(value), is_number=True)
                    for value in line[n_keys:]
                ),
            )
        )
        for line in lines
    ]
    facts = (
        ("rows", f"{one.rows:,}"),
        *((("left out by where", f"{one.left_out:,}"),) if one.left_out else ()),
    )
    return Part("", facts, grids=(_grid("", names, made, names[n_keys:], 200),))


def _plain(value: Any) -> str:
    if value is None:
        return "·"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return f"{value:,.6g}"
    if isinstance(value, list):
        return ", ".join(map(str, value))
    return str(value)


def _look(one: Look) -> Part:
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
    grid = without_empty(_grid("", names, lines, ("missing", "distinct"), 300))
    return Part("", (("rows", f"{one.rows:,}"), ("columns", f"{len(one.columns):,}")), said, (grid,))


def _in_short(column: ColumnLook) -> str:
    if column.lowest:
        step = f", step {column.step}" if column.step and column.type == "number" else ""
        return f"{column.lowest} to {column.highest}{step}"
    return listed((f"{value} ({rows:,})" for value, rows in column.values), 4)


def _column_look(one: ColumnLook) -> Part:
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
        Line((*words(f"{low} to {high}"), Cell(f"{rows:,}", is_number=True, share=rows / most)))
        for low, high, rows in one.bars
    ]
    top = one.values[0][1] if one.values else 1
    values = [
        Line((Cell(value), Cell(f"{rows:,}", is_number=True, share=rows / top))) for value, rows in one.values
    ]
    grids = [_grid("", ("from to", "rows"), bars, ("rows",))] if bars else []
    grids += (
        [_grid("", ("value", "rows"), values, ("rows",), _MOST_VALUES)]
        if values and (not bars or one.distinct <= _MOST_VALUES)
        else []
    )
    return Part(one.name, tuple(facts), tuple(("note", text) for text in one.hints), tuple(grids))


def _explanation(one: Explanation) -> Part:
    results = one.as_dict()["results"]
    got = ", ".join(
        _plain(value) if name == one.table else f"{name} = {_plain(value)}" for name, value in results.items()
    )
    mood = "fine" if one.decided in ("matched", "several") else "warning"
    lines = [
        Line(
            (
                Cell(str(verdict.number), is_number=True),
                *words(", ".join(verdict.asks) or "any", verdict.results),
                Cell("decides", mood="fine")
                if verdict.decides
                else Cell("also matches" if verdict.matches else verdict.failed),
            )
        )
        for verdict in one.verdicts
    ]
    said = [(mood, f"{got} ({one.decided}{' by row ' + listed(one.rows) if one.rows else ''})")]
    said += [("note", one.note)] if one.note else []
    said += [("", f"{change.change} would give {change.results}") for change in one.nearest]
    grids = (_grid("", ("row", "asks", "gives", "verdict"), lines, ("row",)),) if lines else ()
    return Part(one.table, tuple(one.values.items()), tuple(said), grids)


def _impact(one: Impact) -> Part:
    parts = [_comparison(table) for table in one.tables]
    parts += [_dataset_impact(dataset) for dataset in one.datasets if not dataset.is_nothing]
    said = [("fine" if one.is_nothing else "warning", one.summary)]
    said += [("", f"{change.region}: {change.before} -> {change.after}") for change in one.formulas]
    return Part(f"today's rules, against {one.against}", said=tuple(said), parts=tuple(parts))


def _dataset_impact(one: DatasetImpact) -> Part:
    said = [("warning", text) for text in (one.why_not, one.stopped_by) if text]
    for word, names in (("comes", one.added), ("goes", one.gone)):
        if names:
            said.append(("", f"{listed(names)} {word}"))
    lines = []
    for column in one.columns:
        lines += [
            Line(
                (
                    Cell(column.column, is_head=True),
                    *words(
                        "(missing)" if move.before is None else move.before,
                        "(missing)" if move.after is None else move.after,
                    ),
                    Cell(
                        f"{move.count:,}",
                        is_number=True,
                        share=move.count / column.rows if column.rows else 0.0,
                    ),
                    Cell("" if move.example.row is None else str(move.example.row), is_number=True),
                )
            )
            for move in column.moves
        ]
    names = ("column", "before", "now", "rows", "for example row")
    grids = (_grid("", names, lines, ("rows", "for example row")),) if lines else ()
    others = [
        f"{column.changed:,} rows of {column.column}"
        for column in one.columns
        if column.changed and not column.moves
    ]
    said += [("", f"values change in {listed(others)}")] if others else []
    return Part(one.dataset, (("rows", f"{one.rows:,}"),), tuple(said), grids)


def _comparison(one: Comparison) -> Part:
    has_counts = any(region.count is not None for region in one.regions)
    lines = [
        Line(
            (
                Cell(region.where + (" (perhaps)" if region.possible else "")),
                *words(
                    region.before.of_outputs(region.changed_outputs),
                    region.after.of_outputs(region.changed_outputs),
                ),
                Cell("" if region.count is None else f"{region.count:,}", is_number=True),
                Cell(", ".join(f"{name} = {value}" for name, value in region.witness.items())),
            )
        )
        for region in one.regions
    ]
    names = ("where", "before", "now", "rows", "for example")
    grid = _grid("", names, lines, ("rows",))
    grids = () if not lines else (grid if has_counts else without_empty(grid),)
    mood = "fine" if one.is_same else "warning"
    said = [(mood, one.summary), *(("", f"not compared: {name}") for name in one.not_compared)]
    said += [
        ("", f"option {change.region}: {change.before or 'none'} -> {change.after or 'none'}")
        for change in one.options
    ]
    return Part(one.table, said=tuple(said), grids=grids)


def _shares(one: Shares) -> Part:
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
    names = ("condition", "result", "then", "then share", "now", "share")
    grid = without_empty(_grid("", names, lines, names[2:], 200))
    said = (
        [("note", one.why)]
        if one.why
        else [
            (
                "",
                f"{percent(one.moved)} of the rows would have to change their row for the shares to be those of then",
            )
        ]
    )
    facts = (("now", one.now.source), *((("then", one.then.source),) if one.then is not None else ()))
    return Part(one.table, facts, tuple(said), (grid,))


def _overview(one: Overview) -> Part:
    tables = [
        Line(
            (
                Cell(each.name, is_head=True),
                *words(each.title, each.shape),
                number(each.rows),
                *words(
                    listed((count(n, severity) for severity, n in each.findings.items() if n), 3),
                    listed(each.used_by, 4),
                    each.owner,
                    each.reviewed,
                ),
            )
        )
        for each in one.tables
    ]
    names = ("table", "title", "shape", "rows", "findings", "used by", "owner", "reviewed")
    grids = [without_empty(_grid("Tables", names, tables, ("rows",), 300))] if tables else []
    if one.formulas:
        grids.append(
            _grid(
                "Formulas",
                ("formula", "text", "used by"),
                (Line(words(each.name, each.text, listed(each.used_by, 4))) for each in one.formulas),
            )
        )
    if one.datasets:
        lines = [Line(words(each.name, each.source, each.target, each.problem)) for each in one.datasets]
        grids.append(without_empty(_grid("Datasets", ("dataset", "source", "target", "problem"), lines)))
    return Part(one.title, grids=tuple(grids))


def _history(one: History) -> Part:
    lines = [
        Line(
            (
                *words(run.run.dataset, run.run.id, _when(run.run.at), run.run.action, run.run.who),
                number(run.rows),
                Cell(run.run.note),
            )
        )
        for run in reversed(one.runs)
    ]
    names = ("dataset", "run", "when", "action", "by", "rows", "note")
    versions = [
        Line(
            words(
                each.name,
                each.fingerprint[:8],
                _when(each.first.at),
                listed(each.datasets, 4),
                "; ".join(map(str, each.changes[:6])),
            )
        )
        for each in reversed(one.versions)
    ]
    grids = [without_empty(_grid("Runs, the last first", names, lines, ("rows",)))] if lines else []
    grids += (
        [_grid("Versions, the last first", ("rule", "version", "first run", "in", "changes"), versions)]
        if versions
        else []
    )
    said = [("warning", text) for text in one.problems]
    return Part(
        "", said=tuple(said or ([] if grids else [("note", "no run is remembered yet")])), grids=tuple(grids)
    )


def _when(at: str) -> str:
    return f"{at[:16].replace('T', ' ')} UTC"


def _rows(one: RowsShown) -> Part:
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
                    _plain(value) if not isinstance(value, int) or isinstance(value, bool) else str(value),
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
        (_grid("", names, lines, numbers, 200),) if lines else (),
    )


def _review(one: TableReview) -> Part:
    said = "never reviewed" if one.reviewed is None else f"reviewed {one.reviewed.on} by {one.reviewed.by}"
    mood = "fine" if one.is_current else "warning"
    facts = [("owner", one.owner), ("note", one.note), ("last changed", one.last_change)]
    parts = [_comparison(one.comparison)] if one.comparison is not None else []
    parts += [_impact(one.impact)] if one.impact is not None else []
    changed = "" if one.is_current or one.reviewed is None else "; changed since"
    return Part(
        f"{one.table}  {one.title}".strip(),
        tuple((word, text) for word, text in facts if text),
        ((mood, said + changed),),
        parts=tuple(parts),
    )


def _status(one: DatasetStatus) -> Part:
    lines = [
        Line(
            words(
                listed(reason.columns),
                reason.message,
                "; ".join(map(str, reason.changes[:6])),
                reason.last_change,
            )
        )
        for reason in one.reasons
    ]
    facts = [
        ("state", one.state),
        ("target", one.target),
        ("written", _when(one.made_at) if one.made_at else ""),
    ]
    grid = _grid("", ("columns", "why", "what changed", "last changed"), lines)
    grids = (without_empty(grid),) if lines else ()
    return Part(one.dataset, tuple((word, text) for word, text in facts if text), grids=grids)


def _unmatched(one: Unmatched) -> Part:
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


def _trial(one: Trial) -> Part:
    names = list(one.rows[0][1]) if one.rows else []
    lines = [
        Line(
            (
                Cell(f"{row:,}", is_number=True),
                *(
                    Cell(_plain(values.get(name)), is_number=isinstance(values.get(name), (int, float)))
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
    return Part(one.text, tuple(facts), grids=(_grid("", ("row", *names), lines, ("row",)),) if lines else ())


def _book_report(one: BookReport) -> Part:
    facts = one.facts
    lines = [
        Line(
            (
                Cell(each.listed.name, is_head=True),
                *words(each.listed.title, each.listed.shape),
                number(each.listed.rows),
                Cell(listed((count(n, s) for s, n in each.listed.findings.items() if n), 3)),
            )
        )
        for each in facts.tables
    ]
    grid = without_empty(
        _grid("Tables", ("table", "title", "shape", "rows", "findings"), lines, ("rows",), 300)
    )
    said = (("", facts.check.summary), ("", "its save(FILE) writes the page"))
    return Part(facts.title, (("as of", facts.made_at),), said, (grid,) if lines else ())


_FORMS: dict[str, Callable[[Any], Part]] = {
    "ApplyReport": _applied,
    "BookReport": _book_report,
    "ColumnLook": _column_look,
    "Comparison": _comparison,
    "CrossTable": _cross_table,
    "DatasetStatus": _status,
    "Explanation": _explanation,
    "History": _history,
    "Impact": _impact,
    "Look": _look,
    "Overview": _overview,
    "Report": _report,
    "RowsShown": _rows,
    "RuleTable": _table,
    "Shares": _shares,
    "TableReview": _review,
    "Trial": _trial,
    "Unmatched": _unmatched,
}
