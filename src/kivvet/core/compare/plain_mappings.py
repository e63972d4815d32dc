"""Comparing long mappings: what both say alike need not be sought."""

from __future__ import annotations

from collections.abc import Hashable
from dataclasses import replace

from kivvet.core.space.plain_mapping import is_plain_mapping
from kivvet.core.tables.table import Row, Table
from kivvet.core.words.conditions import Equals


def without_equal_rows(old: Table, new: Table) -> tuple[Table, Table]:
    """Return two versions without the rows that both have, where nothing else can decide what these accept; the versions
    as they are elsewhere.
    """
    frames = [
        (one.inputs, one.outputs, one.match, dict(one.missing), dict(one.otherwise), dict(one.severity))
        for one in (old, new)
    ]
    is_alike = frames[0] == frames[1] and old.match != "every"
    if not is_alike or not is_plain_mapping(old) or not is_plain_mapping(new):
        return old, new
    sides = [{_said(row): row for row in one.rows} for one in (old, new)]
    left = [
        tuple(row for said, row in side.items() if said not in other)
        for side, other in (sides, reversed(sides))
    ]
    return replace(old, rows=left[0]), replace(new, rows=left[1])


def _said(row: Row) -> Hashable:
    """Return what a row says, as a plain value: nothing for the condition that is no text."""
    (condition,) = row.conditions
    return condition.value if isinstance(condition, Equals) else None, row.results
