"""Bringing targets up to date: what is current is left alone."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.apply import apply_dataset
from kivvet.books.runs.status import Reason, status_of
from kivvet.core.run.reports import ApplyReport


@dataclass(frozen=True)
class Refreshed:
    """What `refresh` did with one dataset: `report` is None where it was current already."""

    dataset: str
    reasons: tuple[Reason, ...] = ()
    report: ApplyReport | None = None


def refresh_datasets(
    book: OpenBook,
    names: Iterable[str],
    *,
    replace: bool = False,
    on_rows: Callable[[int], None] = lambda _: None,
) -> tuple[Refreshed, ...]:
    """Write the targets anew that are not current; see `Book.refresh`."""
    done = []
    for status in [status_of(book, book.dataset(name)) for name in names]:
        if status.state == "current":
            done.append(Refreshed(status.dataset))
            continue
        report = apply_dataset(
            book, book.dataset(status.dataset), action="refresh", replace_other=replace, on_rows=on_rows
        )
        done.append(Refreshed(status.dataset, status.reasons, report))
    return tuple(done)
