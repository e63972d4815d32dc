"""A merge on a terminal: clashes as regions with both results, and whether the merged table is proven right."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from kivvet.books.asks.merge_table import Merged
from kivvet.core.words.wording import count
from kivvet.show.findings import print_findings
from kivvet.show.terminal import print_columns

_MOST_CLASHES = 20
_MOST_CHANGES = 6


def print_merged(out: Console, merged: Merged) -> None:
    """Print what came of a merge."""
    ours, theirs = merged.called
    out.print(Text().append(merged.path, "bold").append("  ").append(*_verdict(merged)))
    for clash in merged.clashes[:_MOST_CLASHES]:
        said = f"before {clash.before}; {ours} {clash.ours}; {theirs} {clash.theirs}"
        print_columns(out, [("", "", 2), ("clash", "red", 7)], f"{clash.where}: {said}")
    if len(merged.clashes) > _MOST_CLASHES:
        out.print(Text(f"  ... and {len(merged.clashes) - _MOST_CLASHES} more; --json lists them", "dim"))
    if merged.conflicts:
        said = f"{count(merged.conflicts, 'place')} of the text changed on both sides, between <<<<<<< and >>>>>>>"
        print_columns(out, [("", "", 2), ("text", "red", 7)], said)
        for name, changes in zip(merged.called, merged.changes, strict=True):
            for change in changes[:_MOST_CHANGES]:
                print_columns(out, [("", "", 9), (name, "cyan", len(name) + 2)], str(change))
            if len(changes) > _MOST_CHANGES:
                out.print(
                    Text(
                        f"         ... and {len(changes) - _MOST_CHANGES} more changes; --json lists them",
                        "dim",
                    )
                )
    if merged.wrong:
        print_columns(out, [("", "", 2), ("wrong", "red", 7)], merged.wrong)
    print_findings(out, merged.errors)
    if merged.why_not:
        print_columns(out, [("", "", 2), ("note", "cyan", 7)], f"merged line by line: {merged.why_not}")


def _verdict(merged: Merged) -> tuple[str, str]:
    if merged.clashes:
        return f"{count(len(merged.clashes), 'region')} changed on both sides, to different results", "red"
    if not merged.is_clean:
        return "not merged", "red"
    if merged.is_proven:
        return "merged; everywhere it gives what each side changed, and else what it gave before", "green"
    return "merged", "yellow"
