"""Files of a book as they were at a revision of the version control (git) that the book lies in."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

from kivvet.books.files.database_rows import remember_origin
from kivvet.books.files.git import git
from kivvet.books.files.open_book import BOOK_FILE, OpenBook, read_book
from kivvet.books.files.pins import PINS_FILE
from kivvet.books.files.read_formulas import FORMULAS_FILE
from kivvet.books.files.read_table import files_beside, read_table
from kivvet.books.files.readers import read_toml
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError, TableError
from kivvet.core.words.findings import Finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import did_you_mean, shown_path
from kivvet.io.scratch import scratch_folder


@dataclass(frozen=True)
class Revision:
    """A commit of the repository that a folder lies in.

    Attributes
    ----------
    folder, root : Path
        The folder, and the top of the repository.
    given, commit : str
        What was asked for, and the hash of the commit that it names.
    """

    folder: Path
    root: Path
    given: str
    commit: str

    @classmethod
    def find(cls, folder: Path, given: str) -> Revision | None:
        """Return the revision of that name; None where there is no such.

        Raises
        ------
        BookError
            If the folder lies in no repository, or git is not installed.
        """
        root = git(folder, "rev-parse", "--show-toplevel")
        if root is None:
            raise BookError(
                "the book lies in no git repository, so it has no revisions",
                place=Place(shown_path(folder)),
                fix="name a file or another table, or `last` for what was applied last",
            )
        if given.startswith("-") or "\0" in given:
            return None
        found = git(folder, "rev-parse", "--verify", "--quiet", f"{given}^{{commit}}")
        top = Path(root.decode(errors="surrogateescape").strip())
        return None if found is None else cls(folder, top, given, found.decode().strip())

    @classmethod
    def named(cls, folder: Path, given: str, use: str, expected: str, known: Sequence[str]) -> Revision:
        """Return the revision of that name.

        Parameters
        ----------
        use : str
            What it is wanted for, in words, for the error.
        expected : str
            What else could have been named.
        known : sequence of str
            Names that may have been meant.

        Raises
        ------
        BookError
            If there is none, or the folder lies in no repository.
        """
        try:
            found, why = cls.find(folder, given), ""
        except BookError as error:
            found, why = None, error.problem
        if found is None:
            raise BookError(
                f"there is nothing called {given!r} {use}",
                expected=expected,
                found=why or None,
                fix=did_you_mean(given, known),
            )
        return found

    def content(self, path: Path) -> bytes | None:
        """Return what a file held; None where it was not there."""
        try:
            within = path.resolve().relative_to(self.root.resolve())
        except ValueError:
            return None
        return git(self.folder, "cat-file", "blob", f"{self.commit}:{within.as_posix()}")

    def table(self, path: Path) -> Table:
        """Return the table that a file described.

        Raises
        ------
        BookError, TableError
            If there was no such file then, or it cannot be read.
        """
        with self._as_it_was(path) as then:
            table, _, faults = read_table(then)
            shown = {str(shown_path(path)): f"{self.given}:{path.name}" for path in then.parent.rglob("*")}
        if table is None or any(fault.severity == "error" for fault in faults):
            raise TableError([_placed(fault, shown) for fault in faults])
        return replace(table, name=path.stem)

    def book(self) -> OpenBook:
        """Return the book as its rules were: tables and formulas, and what ``book.toml`` said.

        Raises
        ------
        BookError
            If there was no book then.
        """
        names = self._names()
        with scratch_folder() as folder:
            then = folder.joinpath(*["up"] * len(self.folder.resolve().parts))
            (then / "tables").mkdir(parents=True)
            remember_origin(then / "tables", self.folder / "tables")
            for name in names:
                self._write(self.folder / name, then / name)
            for path in sorted((then / "tables").glob("*.toml")):
                document, _ = read_toml(path)
                for file in () if document is None else files_beside(path, document.values):
                    if folder in file.resolve().parents and not file.exists():
                        self._write(self.folder / "tables" / file.relative_to(path.parent), file)
            if not (then / BOOK_FILE).is_file():
                raise BookError(f"there was no book here at revision {self.given}")
            return read_book(then)

    def _names(self) -> list[str]:
        wanted = (BOOK_FILE, FORMULAS_FILE, PINS_FILE, "tables")
        listed = git(self.folder, "ls-tree", "-r", "-z", "--name-only", self.commit, "--", *wanted)
        return [text.decode(errors="surrogateescape") for text in (listed or b"").split(b"\0") if text]

    def _write(self, path: Path, to: Path) -> None:
        content = self.content(path)
        if content is not None:
            to.parent.mkdir(parents=True, exist_ok=True)
            to.write_bytes(content)

    @contextmanager
    def _as_it_was(self, path: Path) -> Iterator[Path]:
        content = self.content(path)
        if content is None:
            raise BookError(
                f"there was no {shown_path(path)} at revision {self.given}",
                fix="name a later revision: git log -- " + shown_path(path),
            )
        with scratch_folder() as folder:
            # Files beside the table may be named by a way up: they lie below the same place here.
            then = folder.joinpath(*["up"] * len(path.resolve().parent.parts), path.name)
            then.parent.mkdir(parents=True)
            remember_origin(folder, path.parent)
            then.write_bytes(content)
            document, _ = read_toml(then)
            for file in () if document is None else files_beside(then, document.values):
                own = path.parent / file.relative_to(then.parent)
                rows = self.content(own)
                if rows is not None and folder in file.resolve().parents:
                    file.parent.mkdir(parents=True, exist_ok=True)
                    file.write_bytes(rows)
            yield then


def _placed(found: Finding, shown: dict[str, str]) -> Finding:
    places = tuple(replace(place, file=shown.get(place.file, place.file)) for place in found.places)
    return replace(found, places=places)
