"""A book: a folder of tables and datasets, opened, checked, applied and kept current."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.book.dataset import Dataset, parse_dataset
from kivvet.book.domains import with_domains
from kivvet.book.read_formulas import read_formulas
from kivvet.book.read_table import read_table
from kivvet.book.reading import read_toml
from kivvet.book.targets import target_faults
from kivvet.core.applied import Applied, ApplyReport
from kivvet.core.findings import KINDS, SEVERITIES, Finding, Report, Severity, finding, with_severity
from kivvet.core.tables import RuleTable
from kivvet.errors import BookError, Place, TableError, did_you_mean, listed, shown_path

if TYPE_CHECKING:
    from kivvet.book.try_formula import Trial
    from kivvet.book.unmatched import Unmatched
    from kivvet.core.explain import Explanation
    from kivvet.core.fed_domains import Fed
    from kivvet.core.formulas.formula import Formula

BOOK_FILE = "book.toml"
BOOK_KEYWORDS = ("title", "owner", "note", "datasets", "severity")
_LATER = {"uses": "books that use books", "summaries": "aggregates"}
OnRows = Callable[[int], None]


@dataclass(frozen=True)
class Refreshed:
    """What `refresh` did with one dataset: `report` is None where it was current already."""

    dataset: str
    reasons: tuple[Any, ...] = ()
    report: ApplyReport | None = None


def open_book(path: str | Path) -> Book:
    """Return the book in a folder.

    Parameters
    ----------
    path : str or Path
        The folder that holds ``book.toml``, or that file.

    Raises
    ------
    BookError
        If there is no such folder, or no book in it. Faults inside its files are no exception:
        `Book.check` reports them.
    """
    folder = Path(path)
    if folder.name == BOOK_FILE and folder.is_file():
        folder = folder.parent
    if not folder.is_dir():
        raise BookError(
            "there is no such folder", place=Place(str(path)), expected=f"a folder with {BOOK_FILE} in it"
        )
    if not (folder / BOOK_FILE).is_file():
        below = sorted(str(one.parent.relative_to(folder)) for one in folder.glob(f"*/{BOOK_FILE}"))
        raise BookError(
            "is not a book",
            place=Place(shown_path(folder)),
            expected=f"a folder with {BOOK_FILE} in it",
            fix=f"there is one in: {listed(below)}" if below else "start one with: kivvet new FOLDER",
        )
    return Book(folder)


class Book:
    """A book as it was when it was opened; its files are read once.

    Attributes
    ----------
    folder : Path
    title : str
    tables : mapping of str to RuleTable
        Those that could be read, by name.
    formulas : mapping of str to Formula
    datasets : mapping of str to Dataset
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.title = folder.name
        self.tables: dict[str, RuleTable] = {}
        self.formulas: dict[str, Formula] = {}
        self.datasets: dict[str, Dataset] = {}
        self.unusable_tables: set[str] = set()
        self.unusable_formulas: set[str] = set()
        self.unusable_datasets: set[str] = set()
        self.reading_findings: list[Finding] = []
        self.severity: dict[str, Severity] = {}
        self.files_of_tables: dict[Path, str] = {}
        self.is_readable = True  # whether book.toml could be read at all
        self._read()

    def __repr__(self) -> str:
        return f"<Book {self.title!r}: {len(self.tables)} tables, {len(self.datasets)} datasets>"

    def _read(self) -> None:
        document, faults = read_toml(self.folder / BOOK_FILE)
        self.reading_findings += faults
        for path in sorted((self.folder / "tables").glob("*.toml")):
            table, files, faults = read_table(path)
            self.reading_findings += faults
            self.files_of_tables |= {path: f"the file of table {path.stem}"}
            self.files_of_tables |= dict.fromkeys(files, f"the rows of table {path.stem}")
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
        for word in values:
            if word not in BOOK_KEYWORDS:
                what = (
                    f"{word!r} ({_LATER[word]}) is not read by this version"
                    if word in _LATER
                    else f"{word!r} is no keyword of a book"
                )
                place = locate((word,))
                fix = did_you_mean(word, BOOK_KEYWORDS) or f"known here: {listed(BOOK_KEYWORDS)}"
                self.reading_findings.append(
                    finding(
                        "syntax", what, places=(place,) if place else (), remedy="" if word in _LATER else fix
                    )
                )
        given = values.get("severity", {})
        if not isinstance(given, Mapping):
            place = locate(("severity",))
            self.reading_findings.append(
                finding(
                    "syntax",
                    f"severity gives error, warning or note by kind of finding; found {given!r}",
                    places=(place,) if place else (),
                    remedy='[severity]  gap = "warning"',
                )
            )
            given = {}
        for kind, severity in given.items():
            if kind in KINDS and severity in SEVERITIES:
                self.severity[kind] = severity
            else:
                place = locate(("severity", kind))
                self.reading_findings.append(
                    finding(
                        "syntax",
                        f"severity.{kind} = {severity!r} is not understood",
                        places=(place,) if place else (),
                        remedy=f"a kind of finding, and one of: {listed(SEVERITIES)}",
                    )
                )
        # What the book says of a kind holds for each table that says nothing of it itself.
        self.tables = {
            name: RuleTable.from_parts(replace(one.parts, severity={**self.severity, **one.parts.severity}))
            if self.severity
            else one
            for name, one in self.tables.items()
        }
        datasets = values.get("datasets", {})
        if not isinstance(datasets, Mapping):
            place = locate(("datasets",))
            self.reading_findings.append(
                finding(
                    "syntax",
                    f"datasets are headings with a name each; found {datasets!r}",
                    places=(place,) if place else (),
                    remedy='[datasets.samples]  source = "data/samples.csv"',
                )
            )
            datasets = {}
        for name, options in datasets.items():
            dataset, faults = parse_dataset(name, options, self.folder, locate)
            self.reading_findings += faults
            if dataset is None:
                self.unusable_datasets.add(name)
            else:
                self.datasets[name] = dataset
        self.reading_findings += target_faults(self.folder, self.datasets, self.files_of_tables)

    def need_readable(self) -> None:
        """Raise `TableError` where book.toml could not be read, so that its datasets are not known."""
        if not self.is_readable:
            raise TableError([one for one in self.reading_findings if not one.table and not one.dataset])

    def dataset(self, name: str) -> Dataset:
        """Return a dataset by name; `BookError` with the near name if there is none."""
        self.need_readable()
        if name in self.unusable_datasets:
            raise TableError([one for one in self.reading_findings if one.dataset == name])
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
        """The names of all datasets, those that could not be read too; `TableError` where book.toml cannot be read."""
        self.need_readable()
        return (*self.datasets, *sorted(self.unusable_datasets))

    def table(self, name: str) -> RuleTable:
        """Return a table by name; `BookError` with the near name if there is none."""
        if name not in self.tables:
            if name in self.unusable_tables:
                raise TableError([one for one in self.reading_findings if one.table == name])
            raise BookError(
                f"the book has no table {name!r}",
                place=Place(shown_path(self.folder)),
                expected=f"one of: {listed(self.tables)}",
                fix=did_you_mean(name, self.tables),
            )
        return self.tables[name]

    def findings_of(self, table: RuleTable, budget: int | None = None) -> list[Finding]:
        """Return the findings about a table alone, with the severities that the book and the table choose.

        Where every dataset that uses the table feeds it inputs that depend on each other, what constrains two of
        them is possible only.
        """
        from kivvet.core.fed_domains import limited

        checked = limited(table, self.fed_domains)
        found = checked.findings if budget is None else checked.check(budget=budget).findings
        if len(table.inputs) > 1 and any(one.kind in ("gap", "overlap", "conflict") for one in found):
            from kivvet.book.dependence import only_possible

            found = tuple(only_possible(self, table, found))
        return with_severity(found, table.parts.severity)

    @cached_property
    def fed_domains(self) -> Fed:
        """By table and input, the values that datasets can feed it, where all of them limit these."""
        from kivvet.book.fed_domains import fed_domains

        return fed_domains(self)

    def faults_of(self, dataset: Dataset) -> list[Finding]:
        """Return what reading found in the book itself, in a dataset's definition, and in its tables."""
        used = {entry.table for entry in dataset.entries}
        return [
            one
            for one in self.reading_findings
            if (not one.table and one.dataset in ("", dataset.name))
            or one.table in used
            or one.table in self.reached(used)
        ]

    def reached(self, used: set[str]) -> set[str]:
        """Return the tables and formulas of some names, and those that they may read."""
        reached, waiting = set(used), list(used)
        makers = {name: {one.name for one in table.outputs} for name, table in self.tables.items()}
        makers |= {name: {name} for name in (*self.formulas, *self.unusable_formulas)}
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

    def check(
        self,
        tables: Iterable[str] | None = None,
        *,
        data: bool = True,
        budget: int | None = None,
        on_rows: OnRows = lambda _: None,
    ) -> Report:
        """Return a report of everything wrong with the book, its tables and the data they read.

        Parameters
        ----------
        tables : iterable of str, optional
            Only these; formulas may be named too.
        data : bool
            Whether to read the sources of the datasets too.
        budget : int, optional
            As for `RuleTable.check`.
        on_rows : callable
            Called with a number of rows after each batch that was read.
        """
        from kivvet.book.check_book import check_data

        all_formulas = set(self.formulas) | self.unusable_formulas
        names = set(self.tables) | self.unusable_tables | all_formulas if tables is None else set(tables)
        chosen = [self.table(name) for name in sorted(names - self.unusable_tables - all_formulas)]
        found = [one for one in self.reading_findings if tables is None or one.table in names]
        for table in chosen:
            found += self.findings_of(table, budget)
        rows_read: dict[str, int] = {}
        if data:
            found, rows_read = check_data(self, found, names, only=tables is not None, on_rows=on_rows)
        own = {name: table.parts.severity for name, table in self.tables.items()}
        found = [one for item in found for one in with_severity([item], own.get(item.table, self.severity))]
        return Report.of(found, sorted(names - all_formulas), rows_read, sorted(names & all_formulas))

    def apply(self, frame: Any, columns: Sequence[str | Mapping[str, Any]]) -> Any:
        """Return `frame` with new columns, the same kind of frame that was given.

        Parameters
        ----------
        frame : pandas.DataFrame or pyarrow.Table
        columns : sequence of str or mapping
            As in a dataset of book.toml: names of tables, or
            ``{"table": "station", "input": {"station": "site"}, "keep": ["river"]}``.

        Raises
        ------
        TableError
            If the tables used have errors, or a name is not found.
        DataError
            If a column is of a type the tables do not read.
        """
        return self._applied(frame, columns, with_report=False).frame

    def apply_with_report(self, frame: Any, columns: Sequence[str | Mapping[str, Any]]) -> Applied:
        """Do as `apply` does, and return the frame with a report that accounts for every row."""
        return self._applied(frame, columns, with_report=True)

    def _applied(
        self, frame: Any, columns: Sequence[str | Mapping[str, Any]], *, with_report: bool
    ) -> Applied:
        from kivvet.core.apply_frame import apply_entries
        from kivvet.core.plan import parse_entries

        entries, faults = parse_entries(columns)
        used = self.reached({entry.table for entry in entries})
        faults += [one for one in self.reading_findings if one.table in used and one.severity == "error"]
        if faults:
            raise TableError(faults, where="the columns asked of a frame")
        return apply_entries(frame, entries, self.tables, formulas=self.formulas, with_report=with_report)

    def apply_dataset(
        self, name: str, *, replace: bool = False, on_rows: OnRows = lambda _: None
    ) -> ApplyReport:
        """Write the target of a dataset: all rows of its source, with the new columns.

        Parameters
        ----------
        name : str
        replace : bool
            Whether a file may be replaced that Kivvet did not write.
        on_rows : callable
            Called with a number of rows after each batch that was read.

        Raises
        ------
        TableError, DataError, OutputError
            If anything stands in the way; the target is then as it was.
        """
        from kivvet.book.apply import apply_dataset

        return apply_dataset(self, self.dataset(name), replace_other=replace, on_rows=on_rows)

    def formula(self, text: str, on: str, *, among: str | None = None, n_rows: int = 10_000) -> Trial:
        """Return what a formula gives on the first rows of a dataset, without adding it to the book.

        Parameters
        ----------
        text : str
            It may name columns of the source, other formulas and outputs of tables.
        on : str
            The dataset.
        among : str, optional
            The condition of the rows that take part in calculations within groups.
        n_rows : int
            A formula that looks at other rows is given all of them.

        Raises
        ------
        TableError, DataError
            If it cannot be read, names what there is not, or the source cannot be read.
        """
        from kivvet.book.try_formula import try_formula

        return try_formula(self, self.dataset(on), text, among=among, n_rows=n_rows)

    def unmatched(
        self, datasets: Iterable[str] | None = None, *, on_rows: OnRows = lambda _: None
    ) -> tuple[Unmatched, ...]:
        """Return every value of the datasets that no row of a table holds, with its rows and the first of them.

        Raises
        ------
        TableError, DataError
            If the tables or the data cannot be read.
        """
        from kivvet.book.unmatched import unmatched_in

        chosen = self.dataset_names if datasets is None else tuple(datasets)
        return unmatched_in(self, [self.dataset(name) for name in chosen], on_rows)

    def explain(
        self, dataset: str, row: int | Mapping[str, str], tables: Iterable[str] = ()
    ) -> tuple[Explanation, ...]:
        """Return why one row of a dataset gets its classes: an `Explanation` for each table.

        Parameters
        ----------
        dataset : str
        row : int or mapping of str to str
            The row of the source, counted from 1, the header left out; or fields by column, as in a CSV file.
        tables : iterable of str, optional
            Only these.

        Raises
        ------
        TableError, DataError, BookError
            If the tables have errors, there is no such row, or a field does not convert.
        """
        from kivvet.book.explain import explain_fields, explain_row

        if isinstance(row, Mapping):
            return explain_fields(self, self.dataset(dataset), row, tuple(tables))
        return explain_row(self, self.dataset(dataset), row, tuple(tables))

    def status(self, datasets: Iterable[str] | None = None) -> tuple[Any, ...]:
        """Return a `DatasetStatus` for each dataset: whether its target is current, and if not, why."""
        from kivvet.book.status import status_of

        chosen = self.dataset_names if datasets is None else tuple(datasets)
        return tuple(status_of(self, self.dataset(name)) for name in chosen)

    def refresh(
        self,
        datasets: Iterable[str] | None = None,
        *,
        replace: bool = False,
        on_rows: OnRows = lambda _: None,
    ) -> tuple[Refreshed, ...]:
        """Bring every target that is not current up to date; what is current is left alone.

        Parameters
        ----------
        datasets : iterable of str, optional
            Only these.
        replace : bool
            Whether files may be replaced that Kivvet did not write.
        on_rows : callable
            Called with a number of rows after each batch that was read.

        Raises
        ------
        TableError, DataError, OutputError
            As `apply_dataset`; datasets refreshed before stay refreshed.
        """
        from kivvet.book.apply import apply_dataset

        done = []
        for status in self.status(datasets):
            if status.state == "current":
                done.append(Refreshed(status.dataset))
                continue
            report = apply_dataset(
                self, self.dataset(status.dataset), action="refresh", replace_other=replace, on_rows=on_rows
            )
            done.append(Refreshed(status.dataset, status.reasons, report))
        return tuple(done)
