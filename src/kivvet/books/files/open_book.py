"""What the files of a book hold: tables, formulas, datasets, and the faults in them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Set
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.files.databases import DATABASE_FORM, read_databases
from kivvet.books.files.dataset import DATASET_FORM, Dataset, parse_dataset
from kivvet.books.files.dependence import circles, in_order, read_before
from kivvet.books.files.domains import with_domains
from kivvet.books.files.read_formulas import FORMULAS_FILE, read_formulas
from kivvet.books.files.read_table import read_table
from kivvet.books.files.readers import read_toml
from kivvet.books.files.summaries import SUMMARY_FORM, parse_summary, with_sources
from kivvet.books.files.targets import target_faults
from kivvet.books.files.used_books import UsedBook, circle_error, read_used_books
from kivvet.core.read.file_keywords import NOTE, TITLE
from kivvet.core.read.forms import ANYTHING, FILLED, TEXT, Keywords, by_name, options_of
from kivvet.core.read.options import SEVERITY, Faults, Locate, Options, read_severities
from kivvet.core.run.entries import names_used
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError, TableError
from kivvet.core.words.findings import Finding, Severity, finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import did_you_mean, listed, shown_path
from kivvet.io.databases.places import Database
from kivvet.io.locations import Location, identity_of

if TYPE_CHECKING:
    from kivvet.core.formulas.formula import Formula

BOOK_FILE = "book.toml"
BOOK_KEYWORDS: Keywords = {
    "title": TITLE,
    "owner": ANYTHING.says("who answers for it"),
    "note": NOTE,
    "databases": by_name(DATABASE_FORM).says("the databases that sources, targets and lookups name"),
    "datasets": by_name(DATASET_FORM).says("data, the columns to add to it, and where it is written"),
    "summaries": by_name(SUMMARY_FORM).says("aggregates of a dataset that are data of their own"),
    "severity": SEVERITY.says("by kind of finding, how grave it is in this book"),
    "history": FILLED.says("a folder in which the history of runs is kept with the book"),
    "uses": by_name(TEXT).says("by name, the folder or pack of a book whose tables are used"),
}
#: Of book.toml.
BOOK_FORM = options_of(BOOK_KEYWORDS)


#: Reads a table from its TOML file: the table, the places that hold its rows, and the faults.
ReadTable = Callable[[Path], tuple[Table | None, tuple[Location, ...], list[Finding]]]


def read_book(
    path: str | Path,
    users: tuple[Path, ...] = (),
    known: dict[Path, OpenBook] | None = None,
    *,
    stands_alone: bool = False,
    reads: ReadTable = read_table,
) -> OpenBook:
    """Return what the files of the book in a folder hold; see `kivvet.open_book`.

    Parameters
    ----------
    users : tuple of Path
        The books that use it, the first one first.
    known : dict of Path to OpenBook
        The books that were opened on the way, by their folders: each is opened once.
    stands_alone : bool
        Whether the books that it uses are left out.
    reads : callable
        Reads a table; what has read it before may remember it.
    """
    folder = Path(path)
    if folder.name == BOOK_FILE and folder.is_file():
        folder = folder.parent
    if not folder.is_dir():
        raise BookError(
            "there is no such folder", place=Place(str(path)), expected=f"a folder with {BOOK_FILE} in it"
        )
    if not (folder / BOOK_FILE).is_file():
        below = sorted(str(path.parent.relative_to(folder)) for path in folder.glob(f"*/{BOOK_FILE}"))
        raise BookError(
            "is not a book",
            place=Place(shown_path(folder)),
            expected=f"a folder with {BOOK_FILE} in it",
            fix=f"there is one in: {listed(below)}" if below else "start one with: kivvet new FOLDER",
        )
    return OpenBook(folder, users, known, stands_alone=stands_alone, reads=reads)


class OpenBook:
    """What the files of a book hold, read once; what is wrong with them is in `reading_findings`.

    Attributes
    ----------
    folder : Path
    title : str
    tables : mapping of str to Table
        Those that could be read, by name.
    formulas : mapping of str to Formula
    datasets : mapping of str to Dataset
    """

    def __init__(
        self,
        folder: Path,
        users: tuple[Path, ...] = (),
        known: dict[Path, OpenBook] | None = None,
        *,
        stands_alone: bool = False,
        reads: ReadTable = read_table,
    ) -> None:
        self.folder = folder
        self._reads = reads
        self._known_books = {} if known is None else known
        self._stands_alone = stands_alone
        self.users = users  # the books that led here, the first one first
        self.uses: list[UsedBook] = []
        self.title = folder.name
        self.tables: dict[str, Table] = {}
        self.formulas: dict[str, Formula] = {}
        self.datasets: dict[str, Dataset] = {}
        self.unusable_tables: set[str] = set()
        self.unusable_formulas: set[str] = set()
        self.unusable_datasets: set[str] = set()
        self.reading_findings: list[Finding] = []
        self.severity: dict[str, Severity] = {}
        self.files_of_tables: dict[Path, str] = {}
        self.places_of_tables: dict[Any, str] = {}  # in databases, by what is the same for the same place
        self.history_folder: Path | None = None  # where a team keeps the history of runs
        self.databases: dict[str, Database] = {}
        self.is_readable = True  # whether book.toml could be read at all
        self._read()

    def __repr__(self) -> str:
        return f"<OpenBook {self.title!r}: {len(self.tables)} tables, {len(self.datasets)} datasets>"

    def _read(self) -> None:
        document, faults = read_toml(self.folder / BOOK_FILE)
        self.reading_findings += faults
        for path in sorted((self.folder / "tables").glob("*.toml")):
            table, files, faults = self._reads(path)
            self.reading_findings += faults
            self.files_of_tables |= {path: f"the file of table {path.stem}"}
            for file in files:
                if isinstance(file, Path):
                    self.files_of_tables[file] = f"the rows of table {path.stem}"
                else:
                    self.places_of_tables[identity_of(file)] = f"the rows of table {path.stem}"
            if table is None:
                self.unusable_tables.add(path.stem)
            else:
                self.tables[table.name] = table
        self.tables, faults = with_domains(self.tables, self.unusable_tables)
        self.reading_findings += faults
        self.formulas, self.unusable_formulas, faults = read_formulas(self.folder)
        self.reading_findings += faults
        for name in set(self.formulas) & (set(self.tables) | self.unusable_tables):
            place = self.formulas.pop(name).place
            self.unusable_formulas.add(name)
            self.reading_findings.append(
                finding(
                    "syntax",
                    f"{name!r} is the name of a table and of a formula",
                    table=name,
                    places=(place,) if place else (),
                    remedy="rename one: columns name either by it",
                )
            )
        if document is None:
            self.is_readable = False
            return
        values, locate = document.values, document.locate
        self.title = str(values.get("title", self.title))
        faults_of_book = Faults(locate)
        options = Options(values, faults_of_book)
        options.unknown(BOOK_KEYWORDS, "a book")
        self.severity = read_severities(options)
        history = options.text(
            "history", "history is the name of a folder", fix='for example history = "history"'
        )
        if history is not None:
            self.history_folder = self.folder / history
        if not self._stands_alone:
            self._take_used_books(options)
        # What the book says of a kind holds for each table that says nothing of it itself.
        self.tables = {
            name: replace(one, severity={**self.severity, **one.severity}) if self.severity else one
            for name, one in self.tables.items()
        }
        datasets = options.by_name(
            "datasets",
            "datasets are headings with a name each",
            '[datasets.samples]  source = "data/samples.csv"',
        )
        self.databases, said = read_databases(options, self.folder)
        self.reading_findings += [*faults_of_book.found, *said]
        for name, definition in datasets.items():
            dataset, faults = parse_dataset(name, definition, self.folder, locate, self.databases)
            self.reading_findings += faults
            if dataset is None:
                self.unusable_datasets.add(name)
            else:
                self.datasets[name] = dataset
        self._read_summaries(options, locate)
        self.reading_findings += target_faults(
            self.folder, self.datasets, self.files_of_tables, self.places_of_tables
        )
        self.reading_findings += circles(self.datasets)

    def _take_used_books(self, options: Options) -> None:
        """Take in the tables of the books that this one uses."""
        here = (*self.users, self.folder.resolve())

        def opened(path: Path, is_pack: bool) -> OpenBook:
            folder = path.resolve()
            if folder in here:
                raise circle_error((*here, folder))
            if folder not in self._known_books:
                self._known_books[folder] = read_book(path, here, self._known_books, stands_alone=is_pack)
            return self._known_books[folder]

        self.uses, found = read_used_books(self.folder, options, opened)
        self.reading_findings += found
        for used in self.uses:
            tables, faults = used.tables()
            for name in sorted(set(tables) & (set(self.tables) | self.unusable_tables)):
                said = f"{name!r} is the name of a table of the book {used.name}, and of one here"
                faults.append(finding("syntax", said, table=name, remedy="rename the one here"))
            self.tables |= tables
            self.reading_findings += faults
            self.files_of_tables |= dict(used.files)
            is_live = used.pin is None or not (used.problem or used.is_changed)
            if is_live:
                self.reading_findings += used.faults
                self.unusable_tables |= {
                    fault.table for fault in used.faults if fault.table not in self.tables
                }

    def _read_summaries(self, options: Options, locate: Locate) -> None:
        """Read the summaries; they are datasets whose source is another one, summed up."""
        faults = Faults(locate)
        options = Options(options.given, faults)
        given = options.by_name(
            "summaries",
            "summaries are headings with a name each",
            '[summaries.by_river]  from = "samples", by = ["river"]',
        )
        summaries: dict[str, Dataset] = {}
        for name, definition in given.items():
            summary, found = parse_summary(name, definition, self.folder, locate)
            if name in self.datasets or name in self.unusable_datasets:
                place = locate(("summaries", name))
                found.append(
                    finding(
                        "syntax",
                        f"{name!r} is the name of a dataset and of a summary",
                        dataset=name,
                        places=(place,) if place else (),
                        remedy="rename one",
                    )
                )
                summary = None
            self.reading_findings += found
            if summary is None:
                self.unusable_datasets.add(name)
            else:
                summaries[name] = summary
        usable, found = with_sources(summaries, self.datasets, self.unusable_datasets)
        self.reading_findings += [*faults.found, *found]
        self.unusable_datasets |= set(summaries) - set(usable)
        self.datasets |= usable

    def need_readable(self) -> None:
        """Raise `TableError` where book.toml could not be read, so that its datasets are not known."""
        if not self.is_readable:
            raise TableError(
                [found for found in self.reading_findings if not found.table and not found.dataset]
            )

    def dataset(self, name: str) -> Dataset:
        """Return a dataset by name; `BookError` with the near name if there is none."""
        self.need_readable()
        if name in self.unusable_datasets:
            raise TableError([found for found in self.reading_findings if found.dataset == name])
        if name not in self.datasets:
            raise BookError(
                f"the book has no dataset {name!r}",
                place=Place(shown_path(self.folder / BOOK_FILE)),
                expected=f"one of: {listed(self.datasets)}",
                fix=did_you_mean(name, self.datasets),
            )
        return self.datasets[name]

    @property
    def dataset_names(self) -> tuple[str, ...]:
        """The names of all datasets, those that could not be read too; `TableError` where book.toml cannot be
        read.
        """
        self.need_readable()
        return (*self.datasets, *sorted(self.unusable_datasets))

    @property
    def own_names(self) -> set[str]:
        """The names of its tables, readable or not, and of those tables of used books that its datasets use."""
        names = set(self.tables) | self.unusable_tables
        used = set().union(*(self.used_by(dataset) for dataset in self.datasets.values()))
        return {name for name in names if not self.is_used(name) or name in used}

    def is_used(self, name: str) -> bool:
        """Whether a table is that of a book that this one uses."""
        book, dot, _ = name.partition(".")
        return bool(dot) and any(use.name == book for use in self.uses)

    def file_of_table(self, name: str) -> Path:
        """Return the TOML file of a table of this book; `BookError` where the table is that of a used book."""
        book, _, own = name.partition(".")
        if self.is_used(name):
            raise BookError(
                f"table {name} belongs to the book {book}, which this one uses",
                fix=f"do it there: the table {own}",
            )
        return next(path for path in self.files_of_tables if path.suffix == ".toml" and path.stem == name)

    @cached_property
    def read_before(self) -> Mapping[str, str]:
        """By dataset the one whose target it reads, or that it sums up; links are followed once."""
        return read_before(self.datasets)

    def maker_of(self, dataset: Dataset) -> Dataset | None:
        """Return the dataset whose target is the source of another one; None where it is a file like any other."""
        name = None if dataset.of is not None else self.read_before.get(dataset.name)
        return None if name is None else self.datasets[name]

    def in_order(self, names: Iterable[str]) -> list[str]:
        """Return datasets by name, each after what it reads; what they read of others is among them."""
        before = {name: maker for name, maker in self.read_before.items() if self.datasets[name].of is None}
        return in_order(names, before)

    def table(self, name: str) -> Table:
        """Return a table by name; `BookError` with the near name if there is none."""
        if name not in self.tables:
            if name in self.unusable_tables:
                raise TableError([found for found in self.reading_findings if found.table == name])
            raise BookError(
                f"the book has no table {name!r}",
                place=Place(shown_path(self.folder)),
                expected=f"one of: {listed(self.tables)}",
                fix=did_you_mean(name, self.tables),
            )
        return self.tables[name]

    def faults_of(self, dataset: Dataset) -> list[Finding]:
        """Return what reading found in the book itself, in a dataset's definition, and in its tables."""
        used = self.used_by(dataset)
        return [
            found
            for found in self.reading_findings
            if (not found.table and found.dataset in ("", dataset.name)) or found.table in used
        ]

    def files_that_define(self, name: str) -> list[Path]:
        """Return the files that define a table or a formula."""
        if name in self.tables:
            called = (f"the file of table {name}", f"the rows of table {name}")
            return [path for path, said in self.files_of_tables.items() if said in called]
        return [self.folder / FORMULAS_FILE] if name in self.formulas else []

    def used_by(self, dataset: Dataset) -> set[str]:
        """Return the tables and formulas that a dataset names, and those that they may read."""
        return self.reached(*names_used(dataset.entries, dataset.where))

    def reached(self, used: set[str], columns: Set[str] = frozenset()) -> set[str]:
        """Return the tables and formulas of some names, those that may make some columns, and those that they may read."""
        reached, waiting = set(used), list(used)
        makers = {name: {output.name for output in table.outputs} for name, table in self.tables.items()}
        makers |= {name: {name} for name in (*self.formulas, *self.unusable_formulas)}
        for name, made in makers.items():
            if name not in reached and made & columns:
                reached.add(name)
                waiting.append(name)
        while waiting:
            name = waiting.pop()
            reads = (
                set(self.tables[name].reads)
                if name in self.tables
                else set(self.formulas[name].reads)
                if name in self.formulas
                else set()
            )
            for other, made in makers.items():
                if other not in reached and made & reads:
                    reached.add(other)
                    waiting.append(other)
        return reached
