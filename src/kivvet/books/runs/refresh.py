"""Bringing targets up to date: what is current is left alone."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.apply import apply_dataset
from kivvet.books.runs.status import Reason, status_of
from kivvet.core.run.reports import ApplyReport
from kivvet.core.words.printed import Several


@dataclass(frozen=True)
class Refreshed:
    """What `refresh` did with one dataset.

    Attributes
    ----------
    dataset : str
    reasons : tuple of Reason
        Why it was not current; empty where it was.
    report : ApplyReport or None
        None where nothing was written: it was current, or it was only asked what would be done.
    is_due : bool
        Whether it would be written, where nothing was since it was only asked.
    is_stopped : bool
        Whether something would keep it from being written, where it was only asked: `reasons` say what.
    """

    dataset: str
    reasons: tuple[Reason, ...] = ()
    report: ApplyReport | None = None
    is_due: bool = False
    is_stopped: bool = False


def refresh_datasets(
    book: OpenBook,
    names: Iterable[str],
    *,
    replace: bool = False,
    replace_edited: bool = False,
    everything: bool = False,
    note: str = "",
    dry_run: bool = False,
    on_rows: Callable[[int], None] = lambda _: None,
) -> Several[Refreshed]:
    """Write the targets anew that are not current; see `Book.refresh`."""
    done: list[Refreshed] = []
    for name in book.in_order(names):
        dataset = book.dataset(name)
        status = status_of(book, dataset)  # of what reads another's target, once that was written
        if status.state == "current" and not everything:
            done.append(Refreshed(name))
        elif dry_run:
            is_stopped = status.state == "cannot tell" and not status.made_at
            done.append(Refreshed(name, status.reasons, is_due=not is_stopped, is_stopped=is_stopped))
        else:
            report = apply_dataset(
                book,
                dataset,
                action="apply" if everything else "refresh",
                note=note,
                replace_other=replace,
                replace_edited=replace_edited,
                on_rows=on_rows,
            )
            done.append(Refreshed(name, status.reasons, report))
    return Several(done)
