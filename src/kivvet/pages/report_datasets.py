"""The parts of a report that are about datasets and formulas: state, steps, history."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from kivvet.books.asks.book_facts import DatasetTold, FormulaTold
from kivvet.books.asks.history import RunTold
from kivvet.core.picture.bars import Bars
from kivvet.core.words.wording import NO_CLASS, listed
from kivvet.pages.diagram import diagram
from kivvet.pages.form_parts import MOODS, when
from kivvet.pages.grids import Cell, Grid, Line, heads, number, without_empty, words
from kivvet.pages.report_tables import MOST_CHANGES, anchor_of, changes_text

_MOST_PANELS = 16
_MOST_CLASSES = 8


def formula_section(one: FormulaTold) -> dict[str, Any]:
    """Return what the page tells of a formula."""
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
        "anchor": anchor_of("formula", told.name),
        "text": told.text,
        "facts": [(word, text) for word, text in facts if text],
        "findings": one.findings,
    }


def _rows_said(one: DatasetTold) -> str:
    """Return how many rows were read, and how many of them are kept."""
    if one.rows is None:
        return ""
    kept = f"; where keeps {one.rows - one.left_out:,} of them, and all are counted" if one.left_out else ""
    return f"{one.rows:,}{kept}"


def dataset_section(one: DatasetTold, links: Mapping[str, str]) -> dict[str, Any]:
    """Return what the page tells of a dataset."""
    told = one.listed
    facts = [
        ("sums up" if told.is_summary else "source", told.source),
        ("target", told.target or "none"),
        ("rows", _rows_said(one)),
    ]
    said = []
    if one.status is not None:
        facts.append(("state", one.status.state))
        if one.status.made_at:
            facts.append(("written", when(one.status.made_at)))
        said = [
            (
                MOODS[one.status.state],
                f"{reason.message}{f' ({reason.last_change})' if reason.last_change else ''}",
            )
            for reason in one.status.reasons
        ]
    if one.problem or told.problem:
        said.append(("error", one.problem or told.problem))
    panels = one.panels[:_MOST_PANELS] if one.rows else ()
    return {
        "name": told.name,
        "word": "summary" if told.is_summary else "dataset",
        "anchor": anchor_of("dataset", told.name),
        "facts": [(word, text) for word, text in facts if text],
        "said": said,
        "diagram": diagram(one.steps, links, f"how the columns of {told.name} depend on each other"),
        "grids": [
            grid for grid in (_steps(one, links), _classes(told.name, panels), _runs(one)) if grid is not None
        ],
    }


def _classes(name: str, panels: Sequence[Bars]) -> Grid | None:
    """Return the rows of each class of every column, the longest bar in full."""
    lines = []
    for panel in panels:
        (part,) = panel.parts
        whole = sum(value or 0.0 for value in part.values) or 1.0
        counted = list(zip(panel.bars, part.paints, part.values, strict=True))
        for place, (label, paint, value) in enumerate(counted[:_MOST_CLASSES]):
            rows = Cell(f"{value or 0:,.0f}", is_number=True, share=(value or 0.0) / whole)
            lines.append(Line((Cell("" if place else panel.title), Cell(label, paint=paint), rows)))
        if len(counted) > _MOST_CLASSES:
            rest = sum(value or 0.0 for *_, value in counted[_MOST_CLASSES:])
            lines.append(
                Line(
                    (
                        Cell(""),
                        Cell(f"and {len(counted) - _MOST_CLASSES} more"),
                        Cell(f"{rest:,.0f}", is_number=True),
                    )
                )
            )
    if not lines:
        return None
    return Grid(
        f"{name}: the classes of its columns", heads(("column", "class", "rows"), ("rows",)), tuple(lines)
    )


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
                *words(run.run.id, when(run.run.at), run.run.action, run.run.who),
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
        f"{name} changed{f': {changes_text(map(str, changes))}' if changes else ''}"
        for name, changes in run.rules
    ]
    told += [f"{listed(run.rewritten)} written otherwise, to the same meaning"] if run.rewritten else []
    told += [f"another content of {run.run.record.source_name}"] if run.is_new_source else []
    told += [
        f"{column}: {NO_CLASS if label is None else label} {before:,} -> {now:,}"
        for column, label, before, now in run.classes[:MOST_CHANGES]
    ]
    return "; ".join(told) or "as before"
