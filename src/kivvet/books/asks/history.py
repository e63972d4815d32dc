"""What was applied when, by whom and by which rules; and any of it done again."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.files.dataset import Dataset, parse_dataset
from kivvet.books.runs.again import as_then
from kivvet.books.runs.memory import Memory
from kivvet.books.runs.past_rows import run_named
from kivvet.books.runs.past_run import PastRun
from kivvet.books.runs.record import Record, read_record, refuse_strange
from kivvet.books.runs.reviewed import review_text
from kivvet.books.runs.same_meaning import past_definition
from kivvet.core.compare.change import Change
from kivvet.core.compare.compare import changes_between
from kivvet.core.read.meaning import table_of
from kivvet.core.run.class_step import BY_CLASS
from kivvet.core.run.reports import ApplyReport
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError, OutputError, TableError
from kivvet.core.words.places import Place
from kivvet.core.words.printed import Printed
from kivvet.core.words.wording import count, did_you_mean, listed, shell_word, shown_path
from kivvet.io.files import replacing
from kivvet.io.formats import TARGET_ENDINGS, format_of

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

HISTORY_VERSION = 1


@dataclass(frozen=True)
class RunTold:
    """A run, and what it changed against the one before it of the same dataset.

    Attributes
    ----------
    run : PastRun
    rows : int
        That were written.
    rules : tuple of (str, tuple of Change)
        The tables and formulas that had changed since, each with what changed as far as that is remembered.
    is_new_source : bool
        Whether the source was another one.
    classes : tuple of (str, str or None, int, int)
        By column and class, the rows before and now, where they differ.
    is_first : bool
        Whether none before it is remembered.
    rewritten : tuple of str
        The tables and formulas that were written otherwise and meant the same.
    """

    run: PastRun
    rows: int
    rules: tuple[tuple[str, tuple[Change, ...]], ...] = ()
    is_new_source: bool = False
    classes: tuple[tuple[str, str | None, int, int], ...] = ()
    is_first: bool = False
    rewritten: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        run = self.run
        versions = {column.table: column.table_fingerprint for column in run.record.columns}
        return {
            "run": run.id,
            "at": run.at,
            "dataset": run.dataset,
            "action": run.action,
            "who": run.who,
            "note": run.note,
            "rows": self.rows,
            "source": run.record.source_name,
            "source_hash": run.record.source_hash,
            "versions": versions,
            "class_counts": dict(run.record.class_counts),
            "changed_rules": [
                {"name": name, "changes": [change.as_dict() for change in changes]}
                for name, changes in self.rules
            ],
            "rewritten": list(self.rewritten),
            "changed_source": self.is_new_source,
            "changed_classes": [
                {"column": column, "class": label, "before": before, "now": now}
                for column, label, before, now in self.classes
            ],
        }


@dataclass(frozen=True)
class TableVersion:
    """A version of a table or formula that runs used.

    Attributes
    ----------
    name, fingerprint : str
    first, last : PastRun
        The first and the last run that used it.
    datasets : tuple of str
    changes : tuple of Change
        Against the version before, as far as both are remembered.
    """

    name: str
    fingerprint: str
    first: PastRun
    last: PastRun
    datasets: tuple[str, ...]
    changes: tuple[Change, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        return {
            "name": self.name,
            "version": self.fingerprint,
            "first_run": self.first.id,
            "first_at": self.first.at,
            "last_run": self.last.id,
            "last_at": self.last.at,
            "who": self.first.who,
            "datasets": list(self.datasets),
            "changes": [change.as_dict() for change in self.changes],
        }


@dataclass(frozen=True)
class History(Printed):
    """What is remembered of the runs of a book.

    Attributes
    ----------
    runs : tuple of RunTold
        By dataset, the first ones first.
    versions : tuple of TableVersion
        Of the tables and formulas that were asked about, the first ones first.
    problems : tuple of str
        What could not be read, in sentences; all else is told.
    about : mapping of str to mapping
        Of the tables asked about what they say of themselves: owner, note, source and review.
    n_earlier : mapping of str to int
        By dataset, how many runs before the first of these are remembered and not told.
    """

    runs: tuple[RunTold, ...]
    versions: tuple[TableVersion, ...] = ()
    problems: tuple[str, ...] = ()
    about: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    n_earlier: Mapping[str, int] = field(default_factory=dict)

    def as_dict(self) -> dict[str, Any]:
        return {
            "version": HISTORY_VERSION,
            "about": {name: dict(one) for name, one in self.about.items()},
            "runs": [run.as_dict() for run in self.runs],
            "n_earlier": dict(self.n_earlier),
            "versions": [version.as_dict() for version in self.versions],
            "problems": list(self.problems),
        }


def history_of(book: OpenBook, names: Iterable[str] = (), first: int | None = None) -> History:
    """Return the runs of datasets, all by default, and the versions of tables and formulas, by their names.

    Parameters
    ----------
    first : int, optional
        At most so many runs of each dataset, the last ones.
    """
    names = list(dict.fromkeys(names))
    # Versions are told from the beginning, so all runs are read for them.
    asks_versions = any(name not in book.datasets for name in names)
    last = None if first is None or asks_versions else first + 1
    found, n_earlier, problems = Memory.of(book).runs(last)
    datasets = {run.dataset: None for run in found}
    known = {*datasets, *book.datasets, *book.tables, *book.formulas, *_rules_of(found)}
    for name in names:
        if name not in known:
            raise BookError(
                f"the history has nothing called {name!r}",
                expected=f"a dataset, table or formula: {listed(sorted(known))}",
                fix=did_you_mean(name, known),
            )
    chosen = [name for name in names if name in datasets or name in book.datasets]
    changes = _Changes(book)
    told: list[RunTold] = []
    for name in chosen if names else datasets:
        runs = _told(changes, [run for run in found if run.dataset == name], n_earlier.get(name, 0), first)
        n_earlier[name] = n_earlier.get(name, 0) + sum(run.dataset == name for run in found) - len(runs)
        told += runs
    versions = [one for name in names if name not in chosen for one in _versions(changes, found, name)]
    about = {name: _said_of(book, book.tables[name]) for name in names if name in book.tables}
    shown = {run.run.dataset for run in told}
    earlier = {name: n for name, n in n_earlier.items() if n and name in shown}
    return History(tuple(told), tuple(versions), tuple(problems), about, earlier)


def _said_of(book: OpenBook, table: Table) -> dict[str, str]:
    said = {
        "owner": table.owner,
        "note": table.note,
        "source": "" if table.origin is None else table.origin.note(),
        "review": review_text(book, table),
    }
    return {word: text for word, text in said.items() if text and (word != "source" or text != table.note)}


def _rules_of(runs: Iterable[PastRun]) -> set[str]:
    return {name for run in runs for name in _fingerprints(run.record)}


def _fingerprints(record: Record) -> dict[str, str]:
    """Return by table and formula the fingerprint of its meaning."""
    return {name: key for name, key in record.all_rule_versions.items() if not name.startswith(BY_CLASS)}


def _told(changes: _Changes, runs: Sequence[PastRun], n_before: int, first: int | None) -> list[RunTold]:
    """Return what each of the last runs of a dataset changed, of which `n_before` more were before these."""
    made: list[RunTold] = []
    begin = 0 if first is None else max(0, len(runs) - first)
    for place in range(begin, len(runs)):
        run = runs[place]
        record = run.record
        rows = record.rows - record.left_out
        if not place:
            made.append(RunTold(run, rows, is_first=not n_before))
            continue
        before = runs[place - 1].record
        then, now = _fingerprints(before), _fingerprints(record)
        changed = [name for name, key in now.items() if name in then and then[name] != key]
        told = {name: changes.between(before, record, name, then[name], now[name]) for name in changed}
        rules = tuple((name, found or ()) for name, found in told.items() if found != ())
        rewritten = tuple(name for name, found in told.items() if found == ())
        is_new = before.data_hash != record.data_hash
        made.append(RunTold(run, rows, rules, is_new, _moved(before, record), rewritten=rewritten))
    return made


def _moved(before: Record, now: Record) -> tuple[tuple[str, str | None, int, int], ...]:
    found = []
    for column, counted in now.class_counts.items():
        then = dict(before.class_counts.get(column, ()))
        if not then:
            continue
        today = dict(counted)
        for label in {**today, **then}:
            if then.get(label, 0) != today.get(label, 0):
                found.append((column, label, then.get(label, 0), today.get(label, 0)))
    return tuple(found)


class _Changes:
    """What changed between versions of tables and formulas, each pair compared once."""

    def __init__(self, book: OpenBook) -> None:
        self.book = book
        self._known: dict[tuple[str, str, str], tuple[Change, ...] | None] = {}
        self._definitions: dict[str, dict[str, Any] | None] = {}

    def between(self, old: Record, new: Record, name: str, then: str, now: str) -> tuple[Change, ...] | None:
        """Return what changed between two versions of a table or formula, nothing where they mean the same; None where one is
        not remembered.
        """
        key = (name, then, now)
        if key not in self._known:
            self._known[key] = self._compared(name, self._definition(old, then), self._definition(new, now))
        return self._known[key]

    def _definition(self, record: Record, key: str) -> dict[str, Any] | None:
        if self._definitions.get(key) is None:
            self._definitions[key] = past_definition(self.book, record, key)
        return self._definitions[key]

    def _compared(
        self, name: str, old: dict[str, Any] | None, new: dict[str, Any] | None
    ) -> tuple[Change, ...] | None:
        if old is None or new is None:
            return None
        if "formula" in old and "formula" in new:
            return (Change("formula", str(old["formula"]), str(new["formula"])),)
        if not all("rows" in one or "lookup" in one for one in (old, new)):
            return None
        return changes_between(table_of(name, old), table_of(name, new))


def _versions(changes_of: _Changes, runs: Sequence[PastRun], name: str) -> list[TableVersion]:
    made: list[TableVersion] = []
    for run in runs:
        key = _fingerprints(run.record).get(name)
        if key is None:
            continue
        if made and made[-1].fingerprint == key:
            last = made[-1]
            datasets = tuple(dict.fromkeys([*last.datasets, run.dataset]))
            made[-1] = replace(last, last=run, datasets=datasets)
            continue
        changes: tuple[Change, ...] = ()
        if made:
            before = made[-1]
            changes = changes_of.between(before.last.record, run.record, name, before.fingerprint, key) or ()
        made.append(TableVersion(name, key, run, run, (run.dataset,), changes))
    return made


# Doing it again


@dataclass(frozen=True)
class DoneAgain(Printed):
    """What a past run wrote, written again.

    Attributes
    ----------
    run : PastRun
    target : str
    report : ApplyReport
    is_same_source : bool
        Whether the source of then was read; else the rules of then were applied to that of today.
    is_same_bytes : bool
        Whether the file is, byte for byte, the one that was written then.
    is_same_counts : bool
        Whether each class has as many rows as then.
    """

    run: PastRun
    target: str
    report: ApplyReport
    is_same_source: bool
    is_same_bytes: bool
    is_same_counts: bool

    def as_dict(self) -> dict[str, Any]:
        return {
            "version": HISTORY_VERSION,
            "run": self.run.id,
            "at": self.run.at,
            "target": self.target,
            "same_source": self.is_same_source,
            "same_bytes": self.is_same_bytes,
            "same_counts": self.is_same_counts,
            "report": self.report.as_dict(),
        }


def apply_as_of(
    book: OpenBook,
    name: str,
    run: str,
    target: str | Path,
    *,
    any_source: bool = False,
    on_rows: Callable[[int], None] = lambda _: None,
) -> DoneAgain:
    """Write what a past run of a dataset wrote, by the rules of then, to a file of its own.

    Parameters
    ----------
    run : str
        Its name, or the beginning of it; a date or time (UTC): the last run until then; or ``version 12``: the last run that read
        that version of a lake.
    target : str or Path
        The file to write; never the target of the book.
    any_source : bool
        Whether the rules of then may be applied to a source that is not the one of then.
    """
    past = run_named(book, name, run)
    path = Path(target)
    _refuse_own(book, path)
    dataset = _dataset_then(book, past)
    again = as_then(book, dataset, past.record, any_source=any_source)
    with replacing(path) as beside:
        report, record = again.write(path, beside, on_rows)
    counts = {column: dict(counted) for table in report.tables for column, counted in table.classes.items()}
    then = {column: dict(counted) for column, counted in past.record.class_counts.items()}
    return DoneAgain(
        past,
        shown_path(path),
        replace(report, target=shown_path(path)),
        again.is_same_source,
        record.target_hash == past.record.target_hash,
        all(counts.get(column) == counted for column, counted in then.items()),
    )


def _dataset_then(book: OpenBook, run: PastRun) -> Dataset:
    """Return the dataset as the book said it then, or as it says it now where that is not remembered."""
    if not run.said:
        return book.dataset(run.dataset)
    if "from" in run.said:
        raise BookError(
            f"{run.dataset} is a summary: work out what it sums up, {run.said['from']}, as it was",
            fix=f"kivvet history {shell_word(run.said['from'])}",
        )
    dataset, faults = parse_dataset(run.dataset, run.said, book.folder, lambda _: None, book.databases)
    if dataset is None or any(fault.severity == "error" for fault in faults):
        raise TableError(faults)
    return dataset


def _refuse_own(book: OpenBook, path: Path) -> None:
    """Raise where a file is one of the book's, or is of a kind that is not written."""
    place = Place(shown_path(path))
    if not path.name.lower().endswith(TARGET_ENDINGS) or format_of(path) is None:
        raise OutputError(
            "is of a kind this version does not write",
            place=place,
            expected=f"a file that ends in {', '.join(TARGET_ENDINGS)}",
        )
    real = path.resolve()
    own = {
        one.resolve()
        for one in (*book.files_of_tables, book.folder / "book.toml", book.folder / "formulas.toml")
    }
    for dataset in book.datasets.values():
        own |= {
            one.resolve()
            for one in (dataset.source, dataset.target, *dataset.files_here)
            if isinstance(one, Path)
        }
    if real in own:
        raise OutputError(
            "is a file of the book", place=place, fix="name a file of its own: --to out/then.csv"
        )
    refuse_strange(path, read_record(path))


def shrink_history(book: OpenBook, n_bytes: int) -> str:
    """Forget the oldest runs of this machine until its journal is no larger; return in words what was forgotten."""
    journal = Memory.of(book).journal
    try:
        n = journal.shrink(n_bytes)
    except (OSError, sqlite3.Error) as error:
        raise OutputError(f"cannot be written: {error}", place=Place(shown_path(journal.path))) from error
    size = journal.path.stat().st_size if journal.path.exists() else 0
    return f"{count(n, 'run')} forgotten; {shown_path(journal.path)} has {size:,} bytes"
