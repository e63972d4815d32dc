"""The part of a report that is about a table: its rows, findings, counts, examples, versions and its picture."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Sequence
from typing import Any

from kivvet.books.asks.book_facts import TableTold
from kivvet.books.asks.history import TableVersion
from kivvet.core.picture.bars import Bars
from kivvet.core.picture.histogram import Histogram
from kivvet.core.picture.places import marks
from kivvet.core.picture.region_map import RegionMap
from kivvet.core.picture.triangle import Triangle
from kivvet.core.words.wording import count, listed
from kivvet.pages.form_parts import when
from kivvet.pages.grids import Cell, Grid, Line, heads, number, percent, without_empty, words
from kivvet.pages.svg_histogram import svg_of_histogram
from kivvet.pages.svg_map import svg_of_map
from kivvet.pages.svg_triangle import svg_of_triangle

_MOST_KEYS = 24
_MOST_VALUES = 12
_MOST_COMBINED = 5  # values of several inputs
MOST_CHANGES = 6


def anchor_of(kind: str, name: str) -> str:
    """Return an anchor of its own for a name of any letters."""
    plain = re.sub(r"[^\w.-]+", "-", name)
    tail = "" if plain == name else f"-{hashlib.sha256(name.encode()).hexdigest()[:6]}"
    return f"{kind}-{plain}{tail}"


def figure_of(picture: Bars | Histogram | RegionMap | Triangle | None, name: str) -> dict[str, Any] | None:
    """Return a picture as an element of the page, with what its paints stand for and its notes. Bars have none: the grid of classes
    shows their lengths.
    """
    if picture is None or isinstance(picture, Bars):
        return None
    if isinstance(picture, Histogram):
        drawn = svg_of_histogram(picture, name)
        key = {layer.label: layer.paint for layer in picture.layers}
        key |= {band.label: band.paint for band in picture.bands if band.kind in ("class", "open")}
        kinds = {band.kind for band in picture.bands}
    elif isinstance(picture, Triangle):
        drawn, key, kinds = svg_of_triangle(picture, name), dict(picture.key), picture.kinds
    else:
        drawn, key = svg_of_map(picture, name), dict(picture.key)
        kinds = {given.kind for panel in picture.panels for line in panel.given for given in line}
    shown = [*list(key.items())[:_MOST_KEYS], *marks(kinds)]
    return {
        "drawn": drawn,
        "key": [Cell(label, paint=paint) for label, paint in shown],
        "notes": "; ".join(picture.notes),
    }


def table_section(one: TableTold) -> dict[str, Any]:
    """Return what the page tells of a table."""
    told = one.listed
    anchor = anchor_of("table", told.name)
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
        "figure": figure_of(one.picture, f"{anchor}-picture"),
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
        (dataset, column, report.lines_of(column), report)
        for dataset, report in one.counted
        for column in report.classes
    ]
    for dataset, column, counted, report in columns:
        paints = one.column_paints[dataset, column]
        for label, kind, rows in counted[:_MOST_VALUES]:
            lines.append(
                Line(
                    (
                        *words(dataset, column),
                        Cell(label, paint=paints.get(label) if kind == "class" else None),
                        Cell(f"{rows:,}", is_number=True, share=rows / report.rows if report.rows else 0.0),
                        Cell(percent(rows / report.rows) if report.rows else "", is_number=True),
                    )
                )
            )
        if len(counted) > _MOST_VALUES:
            rest = sum(rows for *_, rows in counted[_MOST_VALUES:])
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
    n_all = sum(report.unmatched for _, report in one.counted)
    n_left = n_all - sum(n for _, report in one.counted for _, n in report.unmatched_values[:most])
    return Grid(
        "Values of the data that no row holds",
        heads(("dataset", "column", "value", "rows"), ("rows",)),
        tuple(values[:most]),
        f"and others, {n_left:,} of {count(n_all, 'row')}: kivvet unmatched" if len(values) > most else "",
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
                version.fingerprint[:8],
                when(version.first.at),
                when(version.last.at),
                listed(version.datasets, 4),
                version.first.who,
                changes_text(map(str, version.changes)),
            )
        )
        for version in reversed(versions)
    ]
    grid = Grid(
        "Its versions that runs used, the last first",
        heads(("version", "first run", "last run", "in", "by", "changes")),
        tuple(lines),
    )
    return without_empty(grid)


def changes_text(texts: Iterable[str]) -> str:
    """Return the first of some changes, and how many more there are."""
    told = list(texts)
    more = f"; and {len(told) - MOST_CHANGES} more" if len(told) > MOST_CHANGES else ""
    return "; ".join(told[:MOST_CHANGES]) + more
