"""A table under review, on a terminal."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from kivvet.books.asks.review_table import TableReview
from kivvet.core.tables.review import Review
from kivvet.core.words.wording import listed, shell_word
from kivvet.show.impact import print_impact
from kivvet.show.terminal import print_columns, print_hint


def print_review(out: Console, one: TableReview) -> None:
    """Print what is said of a table, what changed since its last review, and what that moves."""
    out.print(Text().append(one.table, "bold").append(f"  {one.title}" if one.title else "", "dim"))
    reviewed = "never" if one.reviewed is None else str(one.reviewed)
    if one.reviewed is not None and one.reviewed.note:
        reviewed += f": {one.reviewed.note}"
    for word, said in (
        ("owner", one.owner),
        ("note", one.note),
        ("source", one.source),
        ("changed", one.last_change),
        ("reviewed", reviewed),
        *(("promised", text) for text in one.promises),
    ):
        if said:
            print_columns(out, [("", "", 2), (word, "cyan", 10)], said)
    if one.is_current:
        out.print(Text("it means what was reviewed", "green"))
        return
    if one.impact is not None:
        out.print()
        print_impact(out, one.impact)
    elif one.reviewed is not None:
        out.print(Text("it changed since; what it was then is not remembered here", "yellow"))
    print_hint(out, f"to mark it as reviewed: kivvet review {shell_word(one.table)} --mark")


def print_marked(out: Console, name: str, review: Review) -> None:
    """Print that a table was marked as reviewed."""
    said = listed([f"on {review.on}", *([f"by {review.by}"] if review.by else [])])
    out.print(Text().append(name, "bold").append(f"  reviewed {said.replace(', ', ' ')}", "green"))
