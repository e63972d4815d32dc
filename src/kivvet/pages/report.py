"""The report: one HTML file that holds all there is to say of a book, and needs nothing else."""

from __future__ import annotations

import base64
import hashlib
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from importlib.metadata import version
from pathlib import Path
from typing import Any

from kivvet.books.asks.history import RunTold, TableVersion
from kivvet.books.asks.report import BookFacts, DatasetTold, FormulaTold, TableTold
from kivvet.core.picture.bars import Sheet
from kivvet.core.words.errors import OutputError
from kivvet.core.words.findings import Finding
from kivvet.core.words.places import Place
from kivvet.core.words.printed import ShownInNotebooks
from kivvet.core.words.wording import count, listed, shown_path
from kivvet.draw.chart import Chart, Picture
from kivvet.io.files import replacing
from kivvet.pages.diagram import diagram
from kivvet.pages.grids import Cell, Grid, Line, heads, number, percent, without_empty, words
from kivvet.pages.templating import filled, template_text

_MADE_BY = 'content="kivvet report"'
_LONGEST_WORDS = 900  # of what is to be seen in a picture
_MOST_PANELS = 16
_MOST_VALUES = 12
_MOST_COMBINED = 5  # values of several inputs
_MOST_CHANGES = 6
_MOODS = {"current": "fine", "stale": "warning", "never applied": "warning", "cannot tell": "error"}


@dataclass(frozen=True)
class BookReport(ShownInNotebooks):
    """A report of a book, or of some of its datasets; its facts as values, and the page made of them.

    Attributes
    ----------
    facts : BookFacts
    """

    facts: BookFacts

    def __repr__(self) -> str:
        return f"<BookReport {self.facts.title!r}: {self.facts.check.summary}>"

    def as_dict(self) -> dict[str, Any]:
        """Return all that the page tells as plain values."""
        return self.facts.as_dict()

    def to_html(self) -> str:
        """Return the page: one file of HTML with all its pictures, which needs no network."""
        return _page(self.facts)

    def save(self, path: str | Path, *, replace: bool = False) -> Path:
        """Write the page to a file, whole or not at all; return the path.

        Parameters
        ----------
        path : str or Path
            Ends in ``.html``.
        replace : bool
            Whether a file may be replaced that is no report of Kivvet.

        Raises
        ------
        OutputError
            If it ends otherwise, may not be replaced, or cannot be written.
        """
        path = Path(path)
        if path.suffix.lower() not in (".html", ".htm"):
            raise OutputError(
                "a report is written as .html",
                place=Place(shown_path(path)),
                fix=f"for example {path.stem or 'report'}.html",
            )
        if (
            not replace
            and path.is_file()
            and _MADE_BY not in path.read_bytes()[:2000].decode(errors="replace")
        ):
            raise OutputError(
                "is there already, and is no report that Kivvet wrote",
                place=Place(shown_path(path)),
                fix="name another file, or say that it may go: --replace (replace=True)",
            )
        page = self.to_html()
        with replacing(path) as beside:
            beside.write_text(page, encoding="utf-8")
        return path


def _page(facts: BookFacts) -> str:
    script = template_text("report.js")
    links = {one.listed.name: _anchor("table", one.listed.name) for one in facts.tables}
    links |= {one.listed.name: _anchor("formula", one.listed.name) for one in facts.formulas}
    told = {found.table for found in facts.check if found.table in links}
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    return filled(
        "report.html",
        title=facts.title,
        about=facts.about,
        made_at=facts.made_at,
        version=version("kivvet"),
        style=template_text("report.css"),
        script=script,
        script_hash=digest,
        summary=_summary(facts),
        unreadable=facts.unreadable,
        others=[found for found in facts.check if found.table not in told],
        overview=_overview(facts, links),
        tables=[_table(one) for one in facts.tables],
        formulas=[_formula(one) for one in facts.formulas],
        datasets=[_dataset(one, links) for one in facts.datasets],
    )


def _anchor(kind: str, name: str) -> str:
    """Return an anchor of its own for a name of any letters."""
    plain = re.sub(r"[^\w.-]+", "-", name)
    tail = "" if plain == name else f"-{hashlib.sha256(name.encode()).hexdigest()[:6]}"
    return f"{kind}-{plain}{tail}"


def _summary(facts: BookFacts) -> str:
    rows = ", ".join(
        f"{count(one.rows, 'row')} of {one.listed.name}" for one in facts.datasets if one.rows is not None
    )
    return f"{facts.check.summary}{f'; read: {rows}' if rows else '; no data was read'}."


def _overview(facts: BookFacts, links: Mapping[str, str]) -> list[Grid]:
    made = []
    if facts.tables:
        lines = []
        for one in facts.tables:
            told = one.listed
            state = _state_of(one.findings)
            lines.append(
                Line(
                    (
                        Cell(told.name, link=links[told.name], is_head=True),
                        *words(told.title, told.shape),
                        number(told.rows),
                        Cell(state[0], mood=state[1]),
                        *words(listed(told.used_by, 4), told.owner, told.reviewed),
                    )
                )
            )
        names = ("table", "title", "shape", "rows", "check", "used by", "owner", "reviewed")
        made.append(without_empty(Grid("The tables", heads(names, ("rows",)), tuple(lines))))
    if facts.datasets:
        lines = [
            Line(
                (
                    Cell(one.listed.name, link=_anchor("dataset", one.listed.name), is_head=True),
                    *words(one.listed.source, one.listed.target),
                    number(one.rows),
                    Cell(one.status.state, mood=_MOODS[one.status.state])
                    if one.status
                    else Cell("cannot tell", mood="error"),
                )
            )
            for one in facts.datasets
        ]
        made.append(
            Grid(
                "The datasets",
                heads(("dataset", "source", "target", "rows", "state"), ("rows",)),
                tuple(lines),
            )
        )
    return made


def _state_of(findings: Sequence[Finding]) -> tuple[str, str]:
    numbers = {
        severity: sum(found.severity == severity for found in findings)
        for severity in ("error", "warning", "note")
    }
    for severity, number_of in numbers.items():
        if number_of:
            return count(number_of, severity), severity
    return "fine", "fine"


def _figure(picture: Picture | None) -> dict[str, str] | None:
    if picture is None:
        return None
    drawn = base64.b64encode(Chart(picture, "").to_bytes("svg")).decode()
    said = picture.words
    shown = said if len(said) <= _LONGEST_WORDS else said[: _LONGEST_WORDS - 1] + "…"
    return {"source": f"data:image/svg+xml;base64,{drawn}", "words": shown}


# Tables


def _table(one: TableTold) -> dict[str, Any]:
    told = one.listed
    anchor = _anchor("table", told.name)
    errors = sum(found.severity == "error" for found in one.findings)
    warnings = sum(found.severity == "warning" for found in one.findings)
    facts = [
        ("shape", told.shape),
        ("reads", ", ".join(told.inputs)),
        ("gives", ", ".join(told.outputs)),
        ("used by", listed(told.used_by, 8) or "no dataset"),
        ("owner", told.owner),
        ("note", told.note),
        ("drafted from", told.source if told.source != told.note else ""),
        ("last changed", one.last_change),
        ("reviewed", told.reviewed or "never"),
    ]
    return {
        "name": told.name,
        "title": told.title,
        "anchor": anchor,
        "errors": count(errors, "error") if errors else "",
        "warnings": count(warnings, "warning") if warnings else "",
        "facts": [(word, text) for word, text in facts if text],
        "findings": one.findings,
        "grids": [
            grid
            for grid in (
                _rows(one, anchor),
                _classes(one),
                _unmatched(one),
                _examples(one),
                _versions(one.versions),
            )
            if grid is not None
        ],
        "figure": _figure(one.picture),
    }


def _rows(one: TableTold, anchor: str) -> Grid | None:
    if not one.rows and not one.rest:
        return None
    has_notes = any(note for _, note in one.rows)
    total = sum(one.counts or ())
    lines = []
    for place, (cells, note) in enumerate(one.rows):
        line = [Cell(str(place + 1), is_number=True)]
        line += [_row_cell(one, column, text) for column, text in enumerate(cells)]
        if has_notes:
            line.append(Cell(note))
        if one.counts is not None:
            rows = one.counts[place] if place < len(one.counts) else 0
            line.append(Cell(f"{rows:,}", is_number=True, share=rows / total if total else 0.0))
        lines.append(Line(tuple(line), f"{anchor}-row-{place + 1}", f"{one.listed.name}, row {place + 1}"))
    width = 1 + len(one.heads) + has_notes + (one.counts is not None)
    for word, given in one.rest:
        line = [
            Cell(""),
            Cell(word),
            *(Cell("") for _ in range(one.n_asked - 1)),
            _row_cell(one, one.n_asked, given),
        ]
        lines.append(Line((*line, *(Cell("") for _ in range(width - len(line)))), found_as=""))
    names = (
        "row",
        *one.heads,
        *(["note"] if has_notes else []),
        *(["rows of data"] if one.counts is not None else []),
    )
    more = f"and {one.listed.rows - len(one.rows):,} rows more" if one.listed.rows > len(one.rows) else ""
    return Grid(f"The rows of {one.listed.name}", heads(names, ("row", "rows of data")), tuple(lines), more)


def _row_cell(one: TableTold, column: int, text: str) -> Cell:
    if column < one.n_asked:
        return Cell(text or "any" if one.listed.shape != "lookup" else text)
    head = one.heads[column] if column < len(one.heads) else ""
    return Cell(text, paint=one.paints.get(head, {}).get(text))


def _classes(one: TableTold) -> Grid | None:
    """Return how many rows of data have each class, by dataset and column."""
    lines = []
    columns = [
        (dataset, column, counted, report)
        for dataset, report in one.counted
        for column, counted in report.classes.items()
    ]
    for dataset, column, counted, report in columns:
        paints = one.paints.get(column) or next(
            (some for some in one.paints.values() if any(label in some for label, _ in counted)), {}
        )
        for label, rows in counted[:_MOST_VALUES]:
            lines.append(
                Line(
                    (
                        *words(dataset, column),
                        Cell("(missing)") if label is None else Cell(label, paint=paints.get(label)),
                        Cell(f"{rows:,}", is_number=True, share=rows / report.rows if report.rows else 0.0),
                        Cell(percent(rows / report.rows) if report.rows else "", is_number=True),
                    )
                )
            )
        if len(counted) > _MOST_VALUES:
            rest = sum(rows for _, rows in counted[_MOST_VALUES:])
            lines.append(
                Line(
                    (
                        *words(dataset, column, f"and {len(counted) - _MOST_VALUES} more"),
                        number(rest),
                        Cell(""),
                    )
                )
            )
    if not lines:
        return None
    return Grid(
        "Rows of data by class",
        heads(("dataset", "column", "class", "rows", "share"), ("rows", "share")),
        tuple(lines),
    )


def _unmatched(one: TableTold) -> Grid | None:
    values = [
        Line((*words(dataset, report.column, value), number(rows)))
        for dataset, report in one.counted
        for value, rows in report.unmatched_values
    ]
    if not values:
        return None
    most = _MOST_VALUES if len(one.listed.inputs) == 1 else _MOST_COMBINED
    return Grid(
        "Values of the data that no row holds",
        heads(("dataset", "column", "value", "rows"), ("rows",)),
        tuple(values[:most]),
        f"and {len(values) - most:,} more: kivvet unmatched" if len(values) > most else "",
    )


def _examples(one: TableTold) -> Grid | None:
    if not one.examples:
        return None
    names, *examples = one.examples
    return Grid("What must come out so", heads(names), tuple(Line(words(*cells)) for cells in examples))


def _versions(versions: Sequence[TableVersion]) -> Grid | None:
    if not versions:
        return None
    lines = [
        Line(
            words(
                one.fingerprint[:8],
                _when(one.first.at),
                _when(one.last.at),
                listed(one.datasets, 4),
                one.first.who,
                _changes(map(str, one.changes)),
            )
        )
        for one in reversed(versions)
    ]
    grid = Grid(
        "Its versions that runs used, the last first",
        heads(("version", "first run", "last run", "in", "by", "changes")),
        tuple(lines),
    )
    return without_empty(grid)


def _changes(texts: Iterable[str]) -> str:
    told = list(texts)
    more = f"; and {len(told) - _MOST_CHANGES} more" if len(told) > _MOST_CHANGES else ""
    return "; ".join(told[:_MOST_CHANGES]) + more


def _when(at: str) -> str:
    return f"{at[:16].replace('T', ' ')} UTC"


# Formulas and datasets


def _formula(one: FormulaTold) -> dict[str, Any]:
    told = one.listed
    missing = [f"{report.missing:,} of {report.rows:,} rows of {dataset}" for dataset, report in one.counted]
    facts = [
        ("note", one.note),
        ("reads", ", ".join(told.reads)),
        ("used by", listed(told.used_by, 8) or "no dataset"),
        ("no value in", listed(missing, 6)),
    ]
    return {
        "name": told.name,
        "anchor": _anchor("formula", told.name),
        "text": told.text,
        "facts": [(word, text) for word, text in facts if text],
        "findings": one.findings,
    }


def _dataset(one: DatasetTold, links: Mapping[str, str]) -> dict[str, Any]:
    told = one.listed
    facts = [
        ("sums up" if told.is_summary else "source", told.source),
        ("target", told.target or "none"),
        ("rows", "" if one.rows is None else f"{one.rows:,}"),
    ]
    said = []
    if one.status is not None:
        facts.append(("state", one.status.state))
        if one.status.made_at:
            facts.append(("written", _when(one.status.made_at)))
        said = [
            (
                _MOODS[one.status.state],
                f"{reason.message}{f' ({reason.last_change})' if reason.last_change else ''}",
            )
            for reason in one.status.reasons
        ]
    if one.problem or told.problem:
        said.append(("error", one.problem or told.problem))
    panels = one.panels[:_MOST_PANELS]
    return {
        "name": told.name,
        "word": "summary" if told.is_summary else "dataset",
        "anchor": _anchor("dataset", told.name),
        "facts": [(word, text) for word, text in facts if text],
        "said": said,
        "diagram": diagram(one.steps, links, f"how the columns of {told.name} depend on each other"),
        "grids": [grid for grid in (_steps(one, links), _runs(one)) if grid is not None],
        "figure": _figure(Sheet(f"{told.name}: the classes of its columns", panels))
        if panels and one.rows
        else None,
    }


def _steps(one: DatasetTold, links: Mapping[str, str]) -> Grid | None:
    if not one.steps:
        return None
    lines = [
        Line(
            (
                Cell(step.name, link=links.get(step.name, ""), is_head=True),
                *words("table" if step.is_table else "formula", ", ".join(step.reads), ", ".join(step.makes)),
            )
        )
        for step in one.steps
    ]
    return Grid(
        f"What {one.listed.name} makes, in this order", heads(("by", "kind", "reads", "makes")), tuple(lines)
    )


def _runs(one: DatasetTold) -> Grid | None:
    if not one.runs:
        return None
    lines = [
        Line(
            (
                *words(run.run.id, _when(run.run.at), run.run.action, run.run.who),
                number(run.rows),
                *words(run.run.note, _changed(run)),
            )
        )
        for run in reversed(one.runs)
    ]
    more = f"and {one.n_runs - len(one.runs)} earlier runs" if one.n_runs > len(one.runs) else ""
    grid = Grid(
        "Its history, the last run first",
        heads(("run", "when", "action", "by", "rows", "note", "changed"), ("rows",)),
        tuple(lines),
        more,
    )
    return without_empty(grid)


def _changed(run: RunTold) -> str:
    if run.is_first:
        return "the first run"
    told = [
        f"{name} changed{f': {_changes(map(str, changes))}' if changes else ''}"
        for name, changes in run.rules
    ]
    told += [f"{listed(run.rewritten)} written otherwise, to the same meaning"] if run.rewritten else []
    told += [f"another content of {run.run.record.source_name}"] if run.is_new_source else []
    told += [
        f"{column}: {'(missing)' if label is None else label} {before:,} -> {now:,}"
        for column, label, before, now in run.classes[:_MOST_CHANGES]
    ]
    return "; ".join(told) or "as before"
