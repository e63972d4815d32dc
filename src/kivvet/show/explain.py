"""Explanations on a terminal: the values, each row held against them, the row that decides, what would change
it.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from kivvet.core.run.explanation import Explanation, Verdict
from kivvet.core.words.values import write_plain
from kivvet.core.words.wording import count, listed, shown_path
from kivvet.show.terminal import print_columns

if TYPE_CHECKING:
    from kivvet.books.asks.add_example import ExampleAdded

_MOST_BEFORE = 12  # rows shown that do not match; the nearest to the one that decides
_MOST_ALSO = 8
_INDENT = 2
_WORD = 9


def print_explanations(out: Console, explanations: Sequence[Explanation], about: str = "") -> None:
    """Print why one row of data gets its results."""
    if not explanations:
        out.print("no table reads these columns")
    if about:
        out.print(Text(about, "bold"))
    for explanation in explanations:
        _print_explanation(out, explanation)
        out.print()


def print_example_added(out: Console, added: ExampleAdded) -> None:
    """Print that a case was kept as an example, or that it was one already."""
    what = "added as" if added.is_new else "is there already:"
    out.print(Text(f"{what} example {added.number} of {added.table}, in {shown_path(added.file)}", "green"))


def _print_explanation(out: Console, one: Explanation) -> None:
    results = one.as_dict()["results"]
    got = ", ".join(
        _said(value) if name == one.table else f"{name} = {_said(value)}" for name, value in results.items()
    )
    style = {"matched": "bold green", "several": "bold green", "missing": "bold cyan"}
    head = Text(one.table, "bold").append(": ").append(got, style.get(one.decided, "bold yellow"))
    out.print(head.append(f"   {_how(one)}", "dim"))
    values = ", ".join(f"{name} = {value}" for name, value in one.values.items())
    _line(out, "given", "dim", values)
    decisive = [verdict for verdict in one.verdicts if verdict.decides]
    before = [
        verdict
        for verdict in one.verdicts
        if not verdict.matches and (not decisive or verdict.number < decisive[0].number)
    ]
    if len(before) > _MOST_BEFORE:
        _line(out, "", "", f"{count(len(before) - _MOST_BEFORE, 'row')} before that do not match")
    for verdict in before[-_MOST_BEFORE:]:
        _line(out, "no", "red", f"{_row(verdict)}  ({verdict.failed})")
    for verdict in decisive:
        _line(out, "decides", "bold green", _row(verdict))
        if verdict.place is not None:
            _line(out, "", "", f"at {verdict.place}")
    also = [verdict for verdict in one.verdicts if verdict.matches and not verdict.decides]
    if also:
        numbers = listed((verdict.number for verdict in also), _MOST_ALSO)
        differs = any(verdict.results != decisive[0].results for verdict in also)
        _line(
            out,
            "also",
            "",
            f"{'row' if len(also) == 1 else 'rows'} {numbers} would match{'' if differs else ', with the same result'}",
        )
    for number, change in enumerate(one.nearest):
        _line(out, "" if number else "nearest", "cyan", f"{change.change} would give {change.results}")
    for number, text in enumerate(one.promises):
        _line(out, "" if number else "promised", "", text)
    if one.wanted is not None:
        for number, text in enumerate([*map(str, one.wanted.ways), *filter(None, [one.wanted.note])]):
            _line(
                out,
                "" if number else "wanted",
                "cyan",
                f"{one.wanted.result}: {text}" if not number else text,
            )
    if one.note:
        _line(out, "", "", one.note)


def _line(out: Console, word: str, style: str, text: str) -> None:
    print_columns(out, [("", "", _INDENT), (word, style, _WORD)], text)


def _row(verdict: Verdict) -> str:
    return f"row {verdict.number}  {', '.join(verdict.asks) or 'any'}: {verdict.results}"


def _how(one: Explanation) -> str:
    if one.rows:
        return f"by {'row' if len(one.rows) == 1 else 'rows'} {listed(one.rows)}"
    return "no row matches, and an input has no value" if one.decided == "missing" else "no row matches"


def _said(value: object) -> str:
    return "nothing" if value == [] else write_plain(value)
