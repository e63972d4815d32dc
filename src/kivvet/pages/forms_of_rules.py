"""Rules as notebooks show them: tables, findings, why a row got its class, what changed and what that moves."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from kivvet.core.words.wording import NO_CLASS, count, listed
from kivvet.pages.grids import Cell, Grid, Line, Part, heads, number, percent, without_empty, words

if TYPE_CHECKING:
    from kivvet.books.asks.history import History
    from kivvet.books.asks.overview import Overview, Use
    from kivvet.books.asks.review_table import TableReview
    from kivvet.books.runs.refresh import Refreshed
    from kivvet.books.runs.status import DatasetStatus
    from kivvet.core.compare.comparison import Comparison
    from kivvet.core.run.explanation import Explanation
    from kivvet.core.run.impact import DatasetImpact, Impact
    from kivvet.core.words.findings import Report
    from kivvet.pages.report import BookReport
    from kivvet.rule_table import RuleTable
from kivvet.pages.form_parts import MOODS, MOST_LINES, first_lines, grid_of, plain_text, when


def table_form(one: RuleTable) -> Part:
    """Return a table as people read it."""
    from kivvet.books.asks.table_told import examples_told, rest_told, rows_told
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
    shown, more = first_lines(lines)
    if table.n_rows > len(shown):
        more = f"and {table.n_rows - len(shown):,} more"
    grids = [without_empty(Grid("", heads(("row", *names, "note"), ("row",)), shown, more))] if shown else []
    if examples := examples_told(table):
        grids.append(
            grid_of(
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


def report_form(one: Report) -> Part:
    """Return findings by what they are about."""
    mood = "error" if one.has_errors else "fine" if one.is_clean else "warning"
    told = one.findings[:MOST_LINES]
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


def explanation_form(one: Explanation) -> Part:
    """Return why values get their results: each row held against them."""
    results = one.as_dict()["results"]
    got = ", ".join(
        plain_text(value) if name == one.table else f"{name} = {plain_text(value)}"
        for name, value in results.items()
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
    grids = (grid_of("", ("row", "asks", "gives", "verdict"), lines, ("row",)),) if lines else ()
    return Part(one.table, tuple(one.values.items()), tuple(said), grids)


def comparison_form(one: Comparison) -> Part:
    """Return where two versions of a table differ."""
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
    grid = grid_of("", names, lines, ("rows",))
    grids = () if not lines else (grid if has_counts else without_empty(grid),)
    mood = "fine" if one.is_same else "warning"
    said = [(mood, one.summary), *(("", f"not compared: {name}") for name in one.not_compared)]
    said += [
        ("", f"option {change.region}: {change.before or 'none'} -> {change.after or 'none'}")
        for change in one.options
    ]
    return Part(one.table, said=tuple(said), grids=grids)


def impact_form(one: Impact) -> Part:
    """Return what changed rules would move."""
    parts = [comparison_form(table) for table in one.tables]
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
                        NO_CLASS if move.before is None else move.before,
                        NO_CLASS if move.after is None else move.after,
                    ),
                    Cell(
                        f"{move.count:,}",
                        is_number=True,
                        share=move.count / column.rows if column.rows else 0.0,
                    ),
                    Cell(percent(move.count / column.rows) if column.rows else "", is_number=True),
                    Cell("" if move.example.row is None else str(move.example.row), is_number=True),
                )
            )
            for move in column.moves
        ]
    names = ("column", "before", "now", "rows", "share", "for example row")
    grids = (grid_of("", names, lines, ("rows", "share", "for example row")),) if lines else ()
    others = [
        f"{column.changed:,} rows of {column.column}"
        for column in one.columns
        if column.changed and not column.moves
    ]
    said += [("", f"values change in {listed(others)}")] if others else []
    return Part(one.dataset, (("rows", f"{one.rows:,}"),), tuple(said), grids)


def review_form(one: TableReview) -> Part:
    """Return a table as whoever reviews it needs to see it."""
    said = "never reviewed" if one.reviewed is None else f"reviewed {one.reviewed.on} by {one.reviewed.by}"
    mood = "fine" if one.is_current else "warning"
    facts = [("owner", one.owner), ("note", one.note), ("last changed", one.last_change)]
    parts = [comparison_form(one.comparison)] if one.comparison is not None else []
    parts += [impact_form(one.impact)] if one.impact is not None else []
    changed = "" if one.is_current or one.reviewed is None else "; changed since"
    return Part(
        f"{one.table}  {one.title}".strip(),
        tuple((word, text) for word, text in facts if text),
        ((mood, said + changed),),
        parts=tuple(parts),
    )


def status_form(one: DatasetStatus) -> Part:
    """Return whether a target is current, and why not."""
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
        ("written", when(one.made_at) if one.made_at else ""),
    ]
    grid = grid_of("", ("columns", "why", "what changed", "last changed"), lines)
    grids = (without_empty(grid),) if lines else ()
    return Part(one.dataset, tuple((word, text) for word, text in facts if text), grids=grids)


def several_status_form(some: Sequence[DatasetStatus]) -> Part:
    """Return the states of targets, one a line; then why those that are not current are not."""
    lines = [
        Line(
            (
                Cell(one.dataset, is_head=True),
                Cell(one.state, mood=MOODS[one.state]),
                *words(one.target, when(one.made_at) if one.made_at else ""),
            )
        )
        for one in some
    ]
    grid = grid_of("", ("dataset", "state", "target", "written"), lines)
    return Part("", grids=(grid,), parts=tuple(status_form(one) for one in some if one.reasons))


def several_uses_form(some: Sequence[Use]) -> Part:
    """Return how datasets use a column, one a line."""
    lines = [
        Line(
            words(
                one.dataset,
                one.made_by,
                *(", ".join(each) for each in (one.rests_on, one.read_by, one.leads_to)),
            )
        )
        for one in some
    ]
    return Part("", grids=(grid_of("", ("dataset", "made by", "rests on", "read by", "leads to"), lines),))


def several_refreshed_form(some: Sequence[Refreshed]) -> Part:
    """Return what a refresh did, or would do, a dataset a line."""
    lines = []
    for one in some:
        done = "current" if one.report is None else f"{one.report.written:,} rows written"
        done = "would be written" if one.is_due else "cannot be written" if one.is_stopped else done
        lines.append(Line(words(one.dataset, done, "; ".join(reason.message for reason in one.reasons))))
    return Part("", grids=(without_empty(grid_of("", ("dataset", "what was done", "why"), lines)),))


def overview_form(one: Overview) -> Part:
    """Return what is in a book."""
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
    grids = [without_empty(grid_of("Tables", names, tables, ("rows",), 300))] if tables else []
    if one.formulas:
        grids.append(
            grid_of(
                "Formulas",
                ("formula", "text", "used by"),
                (Line(words(each.name, each.text, listed(each.used_by, 4))) for each in one.formulas),
            )
        )
    if one.datasets:
        lines = [Line(words(each.name, each.source, each.target, each.problem)) for each in one.datasets]
        grids.append(without_empty(grid_of("Datasets", ("dataset", "source", "target", "problem"), lines)))
    return Part(one.title, grids=tuple(grids))


def history_form(one: History) -> Part:
    """Return runs and versions, the last first."""
    lines = [
        Line(
            (
                *words(run.run.dataset, run.run.id, when(run.run.at), run.run.action, run.run.who),
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
                when(each.first.at),
                listed(each.datasets, 4),
                "; ".join(map(str, each.changes[:6])),
            )
        )
        for each in reversed(one.versions)
    ]
    grids = [without_empty(grid_of("Runs, the last first", names, lines, ("rows",)))] if lines else []
    grids += (
        [grid_of("Versions, the last first", ("rule", "version", "first run", "in", "changes"), versions)]
        if versions
        else []
    )
    said = [("warning", text) for text in one.problems]
    return Part(
        "", said=tuple(said or ([] if grids else [("note", "no run is remembered yet")])), grids=tuple(grids)
    )


def book_report_form(one: BookReport) -> Part:
    """Return what a report is about; the page itself is a file."""
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
        grid_of("Tables", ("table", "title", "shape", "rows", "findings"), lines, ("rows",), 300)
    )
    said = (("", facts.check.summary), ("", "its save(FILE) writes the page"))
    return Part(facts.title, (("as of", facts.made_at),), said, (grid,) if lines else ())
