"""What a run changed against the one before: the rows of each class, then and now."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from kivvet.books.runs.record import Record
from kivvet.core.run.reports import ApplyReport, LastRun

_MOST_CLASSES = 200  # of a column; of more, counts are not remembered


def counts_to_remember(report: ApplyReport, before: Record | None) -> dict[str, list[list[Any]]]:
    """Return by column the rows of each class; of columns taken over those of the run before."""
    made = {
        name: [[label, n] for label, n in counted.items()]
        for name, counted in _counted(report, before).items()
        if len(counted) <= _MOST_CLASSES
    }
    kept = {} if before is None else {name: before.class_counts.get(name) for name in report.kept}
    return {**{name: counts for name, counts in kept.items() if counts}, **made}


def since_last_run(report: ApplyReport, before: Record | None) -> LastRun | None:
    """Return what changed since the run before; None where there was none, or it is not known any more."""
    if before is None or not isinstance(before.class_counts, Mapping):
        return None
    moved = []
    for name, now in _counted(report, before).items():
        then = _counts(before.class_counts.get(name))
        if then is None:
            continue
        labels = dict.fromkeys([*now, *then])
        moved += [
            (name, label, then.get(label, 0), now.get(label, 0))
            for label in labels
            if then.get(label, 0) != now.get(label, 0)
        ]
    no_data = before.no_data, sum(n for _, n in report.no_data)
    return LastRun(before.made_at, before.rows - before.left_out, tuple(moved), no_data)


def _counted(report: ApplyReport, before: Record | None) -> dict[str, dict[str | None, int]]:
    """Return by column the rows of each class in all that is written; of a report on rows that were added without those
    columns of which the rows that stand are not known.
    """
    made = {name: dict(counted) for table in report.tables for name, counted in table.classes.items()}
    if report.standing is None:
        return made
    if report.is_merged:
        return {}  # of which class those were whose place they took is not known
    added: dict[str, dict[str | None, int]] = {}
    for name, now in made.items():
        then = None if before is None else _counts(before.class_counts.get(name))
        if then is not None:
            labels = sorted(dict.fromkeys([*then, *now]), key=lambda label: label is None)
            added[name] = {label: then.get(label, 0) + now.get(label, 0) for label in labels}
    return added


def _counts(given: Any) -> dict[str | None, int] | None:
    """Return remembered counts; None where they are none."""
    if not isinstance(given, list):
        return None
    try:
        return {label: int(n) for label, n in given}
    except (TypeError, ValueError):
        return None
