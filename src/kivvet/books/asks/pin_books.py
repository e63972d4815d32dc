"""Pinning the books that a book uses: what a change upstream would move here, and taking it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

from kivvet.books.asks.impact import impact_in_book
from kivvet.books.files.pins import Pin, content_hash, read_pins, write_pins
from kivvet.books.files.used_books import UsedBook
from kivvet.books.runs.other_rules import OtherRules
from kivvet.books.runs.past_run import whoever_runs
from kivvet.core.compare.compare import compared_rules
from kivvet.core.compare.comparison import Comparison
from kivvet.core.run.impact import Impact
from kivvet.core.words.errors import BookError
from kivvet.core.words.kept import without_kept
from kivvet.core.words.printed import Printed
from kivvet.core.words.wording import did_you_mean, listed

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

PINNED_VERSION = 1


@dataclass(frozen=True)
class PinnedBook:
    """A used book, and what is pinned of it.

    Attributes
    ----------
    name, path : str
    state : {"not pinned", "as pinned", "changed", "not there"}
    on, by, hash : str
        When and by whom what is used was pinned, and its hash; empty where nothing is.
    came, gone : tuple of str
        Tables that are there today and were not, and the other way round.
    tables : tuple of Comparison
        Those that changed.
    impact : Impact or None
        What taking them would move here.
    taken : bool
        Whether what is there today is pinned now.
    problem : str
    """

    name: str
    path: str
    state: Literal["not pinned", "as pinned", "changed", "not there"]
    on: str = ""
    by: str = ""
    hash: str = ""
    came: tuple[str, ...] = ()
    gone: tuple[str, ...] = ()
    tables: tuple[Comparison, ...] = ()
    impact: Impact | None = None
    taken: bool = False
    problem: str = ""

    def as_dict(self) -> dict[str, Any]:
        return {
            "book": self.name,
            "path": self.path,
            "state": self.state,
            "on": self.on,
            "by": self.by,
            "hash": self.hash,
            "came": list(self.came),
            "gone": list(self.gone),
            "tables": [table.as_dict() for table in self.tables],
            "impact": None if self.impact is None else self.impact.as_dict(),
            "taken": self.taken,
            "problem": self.problem,
        }


@dataclass(frozen=True)
class Pins(Printed):
    """The books that a book uses, and what is pinned of each."""

    books: tuple[PinnedBook, ...]

    def as_dict(self) -> dict[str, Any]:
        return {"version": PINNED_VERSION, "books": [book.as_dict() for book in self.books]}


def pin_books(
    book: OpenBook,
    names: Iterable[str] = (),
    *,
    take: bool = False,
    on_rows: Callable[[int], None] = lambda _: None,
) -> Pins:
    """Pin the used books that are not pinned, and tell what changed in the others; see `Book.pin`."""
    book.need_readable()
    uses = {use.name: use for use in book.uses}
    chosen = list(dict.fromkeys(names)) or list(uses)
    for name in chosen:
        if name not in uses:
            raise BookError(
                f"the book uses no book {name!r}",
                expected=f"one of: {listed(uses)}" if uses else "books under [uses] in book.toml",
                fix=did_you_mean(name, uses),
            )
    told = [_told(book, uses[name], take=take, on_rows=on_rows) for name in chosen]
    taken = [one.name for one in told if one.taken]
    if taken:
        today, by = dt.datetime.now(dt.UTC).date().isoformat(), whoever_runs(book.folder)
        pins = read_pins(book.folder)
        pins |= {name: Pin.of(uses[name].live, today, by) for name in taken}
        write_pins(book.folder, {name: pin for name, pin in pins.items() if name in uses})
    return Pins(tuple(told))


def _told(book: OpenBook, used: UsedBook, *, take: bool, on_rows: Callable[[int], None]) -> PinnedBook:
    pin = used.pin
    on, by, key = ("", "", "") if pin is None else (pin.on, pin.by, pin.hash)
    if used.problem:
        return PinnedBook(used.name, used.said, "not there", on, by, key, problem=used.problem)
    errors = [fault for fault in used.faults if fault.severity == "error"]
    problem = f"{errors[0].table}: {errors[0].message}" if errors else ""
    if pin is None:
        return PinnedBook(
            used.name,
            used.said,
            "not pinned",
            hash=content_hash(used.live),
            taken=not problem,
            problem=problem,
        )
    if not used.is_changed:
        return PinnedBook(used.name, used.said, "as pinned", on, by, key)
    changed = used.changed_tables
    came = tuple(name for name in changed if name not in pin.fingerprints)
    gone = tuple(name for name in changed if name not in used.live)
    both = [name for name in changed if name not in (*came, *gone)]
    past = {
        f"{used.name}.{name}": table
        for name in both
        if (table := pin.table(name, f"{used.name}.{name}")) is not None
    }
    after = _with_live(book, used)
    comparisons = tuple(compared_rules(table, after.tables[name], "pinned") for name, table in past.items())
    impact = (
        impact_in_book(after, list(past), "what is pinned", rules=OtherRules(past), on_rows=on_rows)
        if past
        else None
    )
    taken = take and not problem
    return PinnedBook(
        used.name, used.said, "changed", on, by, key, came, gone, comparisons, impact, taken, problem
    )


def _with_live(book: OpenBook, used: UsedBook) -> OpenBook:
    """Return the book as it would be, had it taken what a used book is today."""
    made = without_kept(book)
    live = UsedBook(used.name, used.said, used.live).tables()[0]
    others = {name: table for name, table in book.tables.items() if not name.startswith(f"{used.name}.")}
    made.tables = {**others, **live}
    return made
