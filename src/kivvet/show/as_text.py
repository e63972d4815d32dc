"""Reports as the texts that the terminal shows of them, plain and unwrapped."""

from __future__ import annotations

import io
from typing import TYPE_CHECKING

from rich.console import Console

if TYPE_CHECKING:
    from collections.abc import Callable


def view_of(value: object) -> str | None:
    """Return what the terminal shows of a value; None where it has no view."""
    printer = _PRINTERS.get(type(value).__name__)
    if printer is None:
        return None
    text = io.StringIO()
    printer(Console(file=text, highlight=False, soft_wrap=True, emoji=False, markup=False), value)
    return text.getvalue().rstrip("\n")


def _report(out: Console, value: object) -> None:
    from kivvet.show.findings import print_report

    print_report(out, value)  # type: ignore[arg-type]


def _applied(out: Console, value: object) -> None:
    from kivvet.show.applied import print_apply_report

    print_apply_report(out, value)  # type: ignore[arg-type]


def _summary(out: Console, value: object) -> None:
    from kivvet.show.summary import print_summary

    print_summary(out, value, "summary", with_hint=False)  # type: ignore[arg-type]


def _rows(out: Console, value: object) -> None:
    from kivvet.show.rows import print_rows

    print_rows(out, value)  # type: ignore[arg-type]


def _overview(out: Console, value: object) -> None:
    from kivvet.show.overview import print_overview

    print_overview(out, value)  # type: ignore[arg-type]


def _shares(out: Console, value: object) -> None:
    from kivvet.show.shares import print_shares

    print_shares(out, value)  # type: ignore[arg-type]


def _comparison(out: Console, value: object) -> None:
    from kivvet.show.comparison import print_comparison

    print_comparison(out, value)  # type: ignore[arg-type]


def _simpler(out: Console, value: object) -> None:
    from kivvet.show.simpler import print_simpler

    print_simpler(out, value)  # type: ignore[arg-type]


def _impact(out: Console, value: object) -> None:
    from kivvet.show.impact import print_impact

    print_impact(out, value)  # type: ignore[arg-type]


def _history(out: Console, value: object) -> None:
    from kivvet.show.history import print_history

    print_history(out, value)  # type: ignore[arg-type]


def _review(out: Console, value: object) -> None:
    from kivvet.show.review import print_review

    print_review(out, value)  # type: ignore[arg-type]


def _pins(out: Console, value: object) -> None:
    from kivvet.show.pins import print_pins

    print_pins(out, value)  # type: ignore[arg-type]


def _merged(out: Console, value: object) -> None:
    from kivvet.show.merged import print_merged

    print_merged(out, value)  # type: ignore[arg-type]


def _done_again(out: Console, value: object) -> None:
    from kivvet.show.history import print_done_again

    print_done_again(out, value)  # type: ignore[arg-type]


_PRINTERS: dict[str, Callable[[Console, object], None]] = {
    "History": _history,
    "DoneAgain": _done_again,
    "Merged": _merged,
    "Pins": _pins,
    "TableReview": _review,
    "Report": _report,
    "ApplyReport": _applied,
    "Comparison": _comparison,
    "CrossTable": _summary,
    "RowsShown": _rows,
    "Impact": _impact,
    "Overview": _overview,
    "Shares": _shares,
    "Simpler": _simpler,
}
