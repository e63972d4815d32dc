"""Reports and impacts as Markdown, for comments on a change that is under review."""

from __future__ import annotations

import re
from collections.abc import Sequence

from kivvet.core.run.impact import ColumnImpact, Impact
from kivvet.core.words.findings import Finding, Report
from kivvet.core.words.wording import NO_CLASS, count, listed

_MOST_FINDINGS = 50
_MOST_MOVES = 12
_MOST_REGIONS = 8
_SIGNS = re.compile(r"([\\`*\[\]<|~]|(?<!\w)_|_(?!\w))")


def report_markdown(report: Report) -> str:
    """Return a report as Markdown: a table of errors and warnings; notes are counted."""
    found = [one for one in report.findings if one.severity != "note"]
    lines = [f"**check** {_plain(report.summary)}", ""]
    if found:
        rows = [
            [one.severity, one.kind, one.subject.name or "book", _said(one), _where(one)]
            for one in found[:_MOST_FINDINGS]
        ]
        lines += _table(["severity", "kind", "in", "what", "where"], rows)
        if len(found) > len(rows):
            lines += ["", f"... and {len(found) - len(rows)} more"]
    return "\n".join(lines).rstrip() + "\n"


def _said(one: Finding) -> str:
    return f"{one.message}. Fix: {one.remedy}" if one.remedy else one.message


def _where(one: Finding) -> str:
    return listed(map(str, one.places), 2) if one.places else ""


def impact_markdown(made: Impact) -> str:
    """Return an impact as Markdown: the rules that changed, then for each column from which class to which."""
    lines = [f"**impact** {_plain(made.summary)}, against {_plain(made.against)}", ""]
    for table in made.tables:
        lines.append(f"- `{table.table}`: {_plain(table.summary)}")
        lines += [f"  - {_plain(str(region))}" for region in table.regions[:_MOST_REGIONS]]
        if len(table.regions) > _MOST_REGIONS:
            lines.append(f"  - ... and {len(table.regions) - _MOST_REGIONS} more regions")
    for change in made.formulas:
        lines.append(f"- `{change.region}`: {_plain(change.before)} -> {_plain(change.after)}")
    if made.new:
        lines.append(f"- new: {_plain(listed(made.new))}")
    for dataset in made.datasets:
        if dataset.is_nothing and not dataset.stopped_by:
            continue
        lines += ["", f"**{_plain(dataset.dataset)}** {count(dataset.rows, 'row')}"]
        if dataset.why_not or dataset.stopped_by:
            lines += [
                "",
                _plain(
                    f"cannot be told: {dataset.why_not}"
                    if dataset.why_not
                    else f"{dataset.stopped_by} would stop an apply"
                ),
            ]
        if dataset.entering or dataset.leaving:
            lines += ["", f"{count(dataset.entering, 'row')} come, {count(dataset.leaving, 'row')} go"]
        rows = [row for column in dataset.columns if column.changed for row in _moves(column)]
        if rows:
            lines += [
                "",
                *_table(["column", "rows", "share", "before", "after", "such as"], rows, right=(1, 2)),
            ]
    return "\n".join(lines).rstrip() + "\n"


def _moves(one: ColumnImpact) -> list[list[str]]:
    rows = []
    for move in one.moves[:_MOST_MOVES]:
        values = ", ".join(f"{name} = {value}" for name, value in move.example.values.items())
        where = values if move.example.row is None else f"row {move.example.row:,}: {values}"
        rows.append(
            [
                one.column,
                f"{move.count:,}",
                f"{move.count / one.rows:.1%}",
                move.before or NO_CLASS,
                move.after or NO_CLASS,
                where,
            ]
        )
    left = one.changed - sum(move.count for move in one.moves[:_MOST_MOVES])
    if left:
        what = "other ways" if rows else "values"
        rows.append([one.column, f"{left:,}", f"{left / one.rows:.1%}", what, "", ""])
    return rows


def _table(heads: Sequence[str], rows: Sequence[Sequence[str]], right: Sequence[int] = ()) -> list[str]:
    rule = ["---:" if place in right else "---" for place in range(len(heads))]
    return [
        f"| {' | '.join(cells)} |"
        for cells in (heads, rule, *([_plain(cell) for cell in row] for row in rows))
    ]


def _plain(text: str) -> str:
    """Return a text that means itself in Markdown."""
    return _SIGNS.sub(r"\\\1", " ".join(text.split()))
