"""Findings on a terminal: by table, most serious first, each with its example, its place and its cure."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from itertools import groupby

from rich.console import Console
from rich.text import Text

from kivvet.core.words.findings import Finding, Report
from kivvet.core.words.places import Place
from kivvet.core.words.wording import count, listed
from kivvet.show.terminal import SEVERITY_STYLES, percent, print_columns

_MOST_OF_A_KIND = 10
_MOST_PLACES = 4
_SEVERITY_WIDTH = 9
_INDENT = 2


def print_report(out: Console, report: Report, *, in_full: bool = False) -> None:
    """Print a report and its summary line; notes as a line for each kind of them, unless all are wanted."""
    told = [found for found in report.findings if in_full or found.severity != "note"]
    several = len(report.rows_read) > 1
    print_findings(out, told, report.rows_read, names_datasets=several)
    if not in_full:
        _print_notes(out, report.of_severity("note"))
    style = "bold red" if report.has_errors else "bold green" if report.is_clean else "bold yellow"
    read = "".join(f"; {count(rows, 'row')} of {name} read" for name, rows in report.rows_read.items())
    out.print(Text().append(report.summary, style).append(read, "dim"))


def _print_notes(out: Console, notes: tuple[Finding, ...]) -> None:
    """Print where there are notes, by kind, once, and how all of them are seen."""
    if not notes:
        return
    by_kind: dict[str, dict[str, None]] = {}
    for note in notes:
        by_kind.setdefault(note.kind, {})[note.table or note.dataset or "book"] = None
    width = 2 + max(map(len, by_kind))
    out.print(Text("notes", SEVERITY_STYLES["note"]).append("  in full with --in-full", "dim"))
    for kind, names in sorted(by_kind.items()):
        print_columns(
            out,
            [("", "", _INDENT), (kind, "bold", width)],
            f"{_MEANS.get(kind, '')}{listed(names, 20)}",
            "dim",
        )
    out.print()


#: What a kind of note says, in a few words before the names of the tables.
_MEANS = {
    "unmatched": "values that otherwise answers for: ",
    "open": "values that no row lists are seen only in data: ",
    "unused": "rows, keys or classes that no data meets: ",
    "blank-cell": "a cell is blank that all other rows fill: ",
    "missing-input": "rows of data without a value: ",
    "gap": "left to otherwise, or to no result: ",
}


def print_findings(
    out: Console,
    findings: Iterable[Finding],
    rows_read: Mapping[str, int] | None = None,
    *,
    names_datasets: bool = False,
) -> None:
    """Print findings under the name of their table."""
    kept = list(findings)
    width = 2 + max((len(one.kind) for one in kept), default=0)
    for (table, dataset), group in groupby(
        kept, key=lambda one: (one.table, "" if one.table else one.dataset)
    ):
        out.print(Text(table or (f"dataset {dataset}" if dataset else "book"), "bold"))
        for _, same in groupby(group, key=lambda one: (one.severity, one.kind)):
            alike = list(same)
            # One more is shown rather than counted, and what says that there are still more always.
            shown = alike if len(alike) <= _MOST_OF_A_KIND + 1 else alike[:_MOST_OF_A_KIND]
            for one, next_one in zip(shown, [*shown[1:], None], strict=True):
                _print_finding(out, one, width, rows_read or {}, names_dataset=names_datasets)
                if one.remedy and (next_one is None or next_one.remedy != one.remedy):
                    under = [("", "", _INDENT + _SEVERITY_WIDTH + width)]
                    print_columns(out, under, one.remedy, "green")
            if len(alike) > len(shown):
                rows = sum(one.count or 0 for one in alike[len(shown) :])
                concerned = (
                    f", which {count(rows, 'row')} of data {'meets' if rows == 1 else 'meet'}" if rows else ""
                )
                more = f"... and {len(alike) - len(shown):,} more of this kind{concerned}; --json lists them"
                print_columns(out, [("", "", _INDENT + _SEVERITY_WIDTH + width)], more, "dim")
        out.print()


def _print_finding(
    out: Console, one: Finding, width: int, rows_read: Mapping[str, int], *, names_dataset: bool
) -> None:
    heads = [
        ("", "", _INDENT),
        (one.severity, SEVERITY_STYLES[one.severity], _SEVERITY_WIDTH),
        (one.kind, "bold", width),
    ]
    message = f"{one.message} (possibly)" if one.possible else one.message
    details = _details(one, rows_read)
    if names_dataset and one.dataset and one.table and one.dataset not in f"{message} {details}":
        message += f"; in {one.dataset}"
    print_columns(out, heads, message)
    under = [("", "", _INDENT + _SEVERITY_WIDTH + width)]
    if details:
        print_columns(out, under, details, "dim")
    if one.places:
        print_columns(out, under, "at " + places_text(one.places), "dim")


def _details(one: Finding, rows_read: Mapping[str, int]) -> str:
    parts = [f"for example {one.example}"] if one.witness and one.kind in _NEEDS_EXAMPLE else []
    if one.count is not None and one.kind in _NEEDS_EXAMPLE:
        whole = sum(rows_read.get(name.strip(), 0) for name in one.dataset.split(","))
        share = f" ({percent(one.count, whole)})" if one.count and whole else ""
        verb = "falls" if one.count == 1 else "fall"
        parts.append(
            f"{count(one.count, 'row') if one.count else 'no row'} of {one.dataset} {verb if one.count else 'falls'} here{share}"
        )
    return "; ".join(parts)


#: Kinds whose message does not tell an example and the rows itself.
_NEEDS_EXAMPLE = frozenset({"gap", "overlap", "conflict", "duplicate", "shadowed", "unfinished"})


def places_text(places: tuple[Place, ...]) -> str:
    """Return places as ``tables/a.toml:8, 9``: the file once, then the lines."""
    parts = []

    def of(place: Place) -> str:
        return f"{place.file}:{place.sheet}" if place.sheet else place.file

    for file, group in groupby(places[:_MOST_PLACES], key=of):
        same = list(group)
        first, *others = [str(place).removeprefix(f"{file}:") for place in same]
        if len(same) > 1 and not same[0].sheet:
            first, *others = [str(place.line) for place in same]
        parts.append(", ".join([f"{file}:{first}" if same[0].line else file, *others]))
    more = f" and {len(places) - _MOST_PLACES} more" if len(places) > _MOST_PLACES else ""
    return ", ".join(parts) + more
