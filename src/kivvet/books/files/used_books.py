"""The books that a book uses: their tables are its own under ``BOOK.TABLE``, as they are or as they were pinned."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Protocol

from kivvet.books.files.packs import PACK_ENDING, unpacked
from kivvet.books.files.pins import Pin, content_hash, read_pins
from kivvet.core.read.meaning import table_fingerprint
from kivvet.core.read.options import Options
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import listed, shell_word, shown_path


class BookRead(Protocol):
    """What is asked of a book that another uses."""

    tables: dict[str, Table]
    reading_findings: list[Finding]
    files_of_tables: dict[Path, str]
    is_readable: bool

    def is_used(self, name: str) -> bool:
        """Whether a table is that of a book that this one uses itself."""


_CIRCLE = "books use each other in a circle"
#: Opens the book of a folder; whether it stands alone, as a pack does: where it was packed, others stood beside it.
Opened = Callable[[Path, bool], BookRead]


@dataclass(frozen=True)
class UsedBook:
    """A book that another uses.

    Attributes
    ----------
    name, said : str
        What it is called there, and the path that is said.
    live : mapping of str to Table
        Its tables as they are today, by their own names; empty where it cannot be read.
    pin : Pin or None
    problem : str
        Why it cannot be read.
    files : mapping of Path to str
        Its files, by the tables they hold.
    faults : tuple of Finding
        In its tables.
    """

    name: str
    said: str
    live: Mapping[str, Table] = field(default_factory=dict)
    pin: Pin | None = None
    problem: str = ""
    files: Mapping[Path, str] = field(default_factory=dict)
    faults: tuple[Finding, ...] = ()

    @property
    def is_changed(self) -> bool:
        """Whether it is another one today than what is pinned."""
        return self.pin is not None and not self.problem and content_hash(self.live) != self.pin.hash

    @property
    def changed_tables(self) -> tuple[str, ...]:
        """The tables that are others today than what is pinned, come or gone."""
        if self.pin is None:
            return ()
        today = {name: table_fingerprint(table) for name, table in self.live.items()}
        then = self.pin.fingerprints
        return tuple(name for name in sorted({**then, **today}) if then.get(name) != today.get(name))

    def tables(self) -> tuple[dict[str, Table], list[Finding]]:
        """Return the tables that are gone by, by the names they have in the book that uses them, and what is wrong."""
        if self.pin is None or not (self.problem or self.is_changed):
            return {f"{self.name}.{name}": _called(table, self.name) for name, table in self.live.items()}, []
        made: dict[str, Table] = {}
        lost = []
        for name, key in self.pin.fingerprints.items():
            called = f"{self.name}.{name}"
            live = self.live.get(name)
            if live is not None and table_fingerprint(live) == key:
                made[called] = _called(live, self.name)
            elif (past := self.pin.table(name, called)) is not None:
                made[called] = past
            else:
                lost.append(name)
        return made, lost_tables(self, lost)


def _called(table: Table, book: str) -> Table:
    return replace(table, name=f"{book}.{table.name}")


def lost_tables(used: UsedBook, names: list[str]) -> list[Finding]:
    """Return an error for tables that are pinned, too large to be kept with the pin, and others today."""
    return [
        finding(
            "upstream",
            f"table {used.name}.{name} is not what was pinned, and is too large to be kept with the pin",
            severity="error",
            table=f"{used.name}.{name}",
            remedy=f"put back what was pinned, or take what is there: kivvet pin {shell_word(used.name)} --take",
        )
        for name in names
    ]


def read_used_books(folder: Path, options: Options, opened: Opened) -> tuple[list[UsedBook], list[Finding]]:
    """Return the books that a book says it uses, and what is wrong with that.

    Parameters
    ----------
    opened : callable
        Opens a book that is used by this one.
    """
    given = options.by_name(
        "uses",
        "uses gives the folder of a book, or a pack of it, by name",
        'common = "../common-rules"',
        of_texts=True,
    )
    if not given:
        return [], []
    findings: list[Finding] = []
    pins: dict[str, Pin] = {}
    try:
        pins = read_pins(folder)
    except BookError as error:
        places = () if error.place is None else (error.place,)
        findings.append(finding("unreadable", error.problem, places=places, remedy=error.fix or ""))
    found = []
    for name, said in given.items():
        place = options.faults.locate(("uses", name))
        places = () if place is None else (place,)
        if not name.isidentifier():
            findings.append(
                finding(
                    "syntax",
                    f"{name!r} is no name for a book",
                    places=places,
                    remedy="letters, digits and _, such as common",
                )
            )
            continue
        used = _read(folder, name, said, pins.get(name), opened)
        found.append(used)
        findings += [replace(one, places=one.places or places) for one in _told(used)]
    return found, findings


def _read(folder: Path, name: str, said: str, pin: Pin | None, opened: Opened) -> UsedBook:
    path = folder / said
    try:
        is_pack = path.name.lower().endswith(PACK_ENDING)
        book = opened(unpacked(path, folder / ".kivvet" / "packs") if is_pack else path, is_pack)
    except (OSError, ValueError) as error:  # a name that no path can have
        why = error.strerror if isinstance(error, OSError) else str(error)
        return UsedBook(name, said, pin=pin, problem=f"{said[:100]!r}: {why}")
    except BookError as error:
        where = "" if error.place is None else f"{error.place}: "
        return UsedBook(name, said, pin=pin, problem=f"{where}{error.problem}")
    circles = [
        finding.message for finding in book.reading_findings if finding.kind == "cycle" and not finding.table
    ]
    circles = [circle for circle in circles if _CIRCLE in circle]
    problem = "" if book.is_readable else f"{shown_path(path)}: book.toml cannot be read"
    problem = circles[0].partition(": ")[2] if circles else problem
    own = {table for table in book.tables if not book.is_used(table)}
    faults = tuple(
        replace(finding, table=f"{name}.{finding.table}")
        for finding in book.reading_findings
        if finding.table and not finding.is_of_formula and not book.is_used(finding.table)
    )
    files = {
        file: said.replace(" table ", f" table {name}.", 1)
        for file, said in book.files_of_tables.items()
        if not book.is_used(said.rpartition(" ")[2])
    }
    return UsedBook(name, said, {one: book.tables[one] for one in sorted(own)}, pin, problem, files, faults)


def _told(used: UsedBook) -> list[Finding]:
    if used.problem:
        if used.pin is None:
            return [
                finding(
                    "cycle" if _CIRCLE in used.problem else "unreadable",
                    f"the book {used.name} cannot be used: {used.problem}",
                    remedy="correct its path under [uses]",
                )
            ]
        return [
            finding(
                "upstream",
                f"the book {used.name} cannot be read: {used.problem}; what was pinned on {used.pin.on} is used",
                remedy="correct its path under [uses]",
            )
        ]
    if used.is_changed and used.pin is not None:
        return [
            finding(
                "upstream",
                f"the book {used.name} changed since it was pinned on {used.pin.on}: {listed(used.changed_tables)}; what was "
                f"pinned is used",
                remedy=f"see what that would move: kivvet pin {shell_word(used.name)}; take it with --take",
            )
        ]
    return []


def circle_error(path: tuple[Path, ...]) -> BookError:
    """Return the error for books that use each other in a circle, with the way round."""
    shown = " -> ".join(shown_path(one) for one in path)
    return BookError(
        f"{_CIRCLE}: {shown}",
        place=Place(shown_path(path[-1])),
        fix="let one not use the other",
    )
