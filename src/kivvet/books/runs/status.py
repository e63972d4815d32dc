"""Whether targets are current: what made them is compared with today's rules, source and options."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

from kivvet.books.files.dataset import Dataset
from kivvet.books.files.last_change import last_change
from kivvet.books.runs.demands import demands_of
from kivvet.books.runs.edited import edits_of
from kivvet.books.runs.fingerprints import column_records, shows_classes, where_record
from kivvet.books.runs.plans import prepare
from kivvet.books.runs.prepare import Prepared
from kivvet.books.runs.record import ColumnRecord, Record, read_record
from kivvet.books.runs.same_meaning import (
    compared_with_past,
    past_definition,
    past_table,
    rewritten_tables,
)
from kivvet.books.runs.since_then import changed_options, changed_types, is_source_of, source_change
from kivvet.books.runs.summary_source import SummarySource
from kivvet.books.runs.table_findings import findings_in_book
from kivvet.books.runs.views import is_view
from kivvet.core.compare.change import Change
from kivvet.core.compare.standing import shown_changes
from kivvet.core.read.meaning import SEMANTICS_VERSION
from kivvet.core.words.errors import DataError
from kivvet.core.words.findings import Finding
from kivvet.core.words.printed import ShownInNotebooks
from kivvet.core.words.wording import count, listed
from kivvet.io.locations import Location, is_there, shown_location

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

State = Literal["current", "stale", "never applied", "cannot tell"]
_STANDS = {"stale": "stale", "never applied": "not written yet", "cannot tell": "not known to be current"}


@dataclass(frozen=True, slots=True)
class Reason:
    """One reason why a target is not current.

    Attributes
    ----------
    message : str
    columns : tuple of str
        The columns it makes stale; empty where it is the whole target.
    table : str
        The table that changed, if it is one.
    changes : tuple of Change
        What changed in it, as far as its past is known.
    last_change : str
        Who changed its files last, and when, as far as that is known.
    """

    message: str
    columns: tuple[str, ...] = ()
    table: str = ""
    changes: tuple[Change, ...] = ()
    last_change: str = ""

    def as_dict(self) -> dict[str, Any]:
        return {
            "message": self.message,
            "columns": list(self.columns),
            "table": self.table,
            "changes": [change.as_dict() for change in self.changes],
            "last_change": self.last_change,
        }


@dataclass(frozen=True, slots=True)
class DatasetStatus(ShownInNotebooks):
    """Whether the target of a dataset is current, and if not, why.

    Attributes
    ----------
    dataset, target : str
    state : {"current", "stale", "never applied", "cannot tell"}
    stale_columns : tuple of str
        The columns of the target that today's rules would make otherwise, or that are to come or go.
    reasons : tuple of Reason
    made_at : str
        When the target was written (UTC); empty if it was not.
    rows : int or None
    """

    dataset: str
    target: str
    state: State
    stale_columns: tuple[str, ...] = ()
    reasons: tuple[Reason, ...] = ()
    made_at: str = ""
    rows: int | None = None

    def as_dict(self) -> dict[str, Any]:
        return {
            "dataset": self.dataset,
            "target": self.target,
            "state": self.state,
            "stale_columns": list(self.stale_columns),
            "made_at": self.made_at,
            "rows": self.rows,
            "reasons": [reason.as_dict() for reason in self.reasons],
        }


def status_of(book: OpenBook, dataset: Dataset) -> DatasetStatus:
    """Return whether the target of a dataset is current (see `is_source_of` for when a source counts as unchanged)."""
    if dataset.target is None:
        return DatasetStatus(dataset.name, "", "cannot tell", reasons=(Reason("the dataset has no target"),))
    target = shown_location(dataset.target)
    try:
        return _status_of(book, dataset, dataset.target, target)
    except (
        DataError
    ) as error:  # a place that cannot be asked, which keeps nobody from being told of the others
        return DatasetStatus(
            dataset.name, target, "cannot tell", reasons=(Reason(str(error).split("\n")[0]),)
        )


def _status_of(book: OpenBook, dataset: Dataset, location: Location, target: str) -> DatasetStatus:
    faults: list[Finding] = [fault for fault in book.faults_of(dataset) if fault.severity == "error"]
    if faults:
        return DatasetStatus(
            dataset.name,
            target,
            "cannot tell",
            reasons=tuple(Reason(str(fault).split("\n")[0]) for fault in faults),
        )
    upstream: list[Reason] = []
    if (maker := book.maker_of(dataset)) is not None:
        above = status_of(book, maker)
        if above.state != "current":
            upstream = [Reason(f"its source is the target of {maker.name}, which is {_STANDS[above.state]}")]
        if not is_there(dataset.source):
            state: State = "cannot tell" if above.state == "cannot tell" else "never applied"
            return DatasetStatus(dataset.name, target, state, reasons=tuple(upstream))
    prepared, faults = prepare(book, dataset)
    blocked = [str(fault).split("\n")[0] for fault in faults if fault.severity == "error"]
    used = {
        **(prepared.source.tables if isinstance(prepared.source, SummarySource) else {}),
        **prepared.plan.tables,
    }
    errors = {
        name: sum(finding.severity == "error" for finding in findings_in_book(book, table))
        for name, table in used.items()
    }
    if n_errors := sum(errors.values()):
        names = [name for name, n in errors.items() if n]
        blocked.append(
            f"{count(n_errors, 'error')} in {listed(names, 6)}, which would stop an apply: kivvet check"
        )
    if blocked:
        return DatasetStatus(dataset.name, target, "cannot tell", reasons=tuple(map(Reason, blocked)))
    if not is_there(location):
        return DatasetStatus(
            dataset.name, target, "never applied", reasons=(Reason("the target does not exist yet"),)
        )
    held = read_record(location, book.folder)
    record = held.record
    if record is None:
        return DatasetStatus(
            dataset.name,
            target,
            "cannot tell",
            reasons=(Reason("the target carries no record of how it was made"),),
        )
    reasons: list[Reason] = upstream
    if not held.is_true:
        edits = edits_of(book, dataset, record)
        where = f": {edits.message}" if edits.message else ""
        reasons.append(
            Reason(
                f"the target was changed by something else since it was written{where}",
                changes=edits.examples,
            )
        )
    unknown: list[Reason] = []
    if is_view(dataset) and not record.others.get("beside"):
        pass  # it gives what the rules make of the rows that are there
    elif not prepared.source.can_tell:
        said = f"rows of {prepared.source.shown_name} may have changed: the book names no version of them"
        unknown.append(Reason(said))
    elif not is_source_of(record, prepared.source):
        reasons.append(Reason(source_change(record, prepared.source)))
    if record.semantics != SEMANTICS_VERSION:
        reasons.append(Reason("it was made by another version of Kivvet, which may give other results"))
    if changed := changed_options(record.read_options, dataset.read_options()):
        reasons.append(Reason(f"the way the data is read or written changed: {', '.join(changed)}"))
    demands = demands_of(prepared.plan, book.severity, dataset.key)
    if more := [demand for demand in demands if demand not in record.demands]:
        reasons.append(Reason(f"the rules demand more of the data than when it was made: {'; '.join(more)}"))
    rewritten = rewritten_tables(book, record, prepared.plan)
    if record.where != where_record(prepared.plan, prepared.types, rewritten):
        what = (
            "changed"
            if record.where and dataset.where
            else "are chosen now"
            if dataset.where
            else "are all now"
        )
        reasons.append(Reason(f"the rows that are kept {what}"))
    records = column_records(
        prepared.plan, prepared.types, rewritten, with_classes=shows_classes(dataset.target)
    )
    meanings = {step.name: step.fingerprint for step in prepared.plan.steps}
    column_reasons = _column_reasons(book, record, {record.name: record for record in records}, meanings)
    column_reasons += _type_reasons(record, prepared)
    stale = tuple(dict.fromkeys(name for reason in column_reasons for name in reason.columns))
    if reasons:
        stale = tuple(column.name for column in record.columns)
    reasons += column_reasons
    return DatasetStatus(
        dataset.name,
        target,
        "stale" if reasons else "cannot tell" if unknown else "current",
        stale,
        (*reasons, *unknown),
        record.made_at,
        record.rows - record.left_out,
    )


def _type_reasons(record: Record, prepared: Prepared) -> list[Reason]:
    """Return a reason for each column that today is read as another type; a typed target holds it as that."""
    return [
        Reason(f"column {name} is read as {kind}, and was as {record.types[name]}", (name,))
        for name, kind in changed_types(record, prepared).items()
    ]


def _column_reasons(
    book: OpenBook, record: Record, today: Mapping[str, ColumnRecord], meanings: Mapping[str, str]
) -> list[Reason]:
    """Return a reason for each table or formula by which columns are stale, and for columns that come, go or move.

    Parameters
    ----------
    meanings : mapping of str to str
        By table and formula the hash of its meaning.
    """
    then = {column.name: column for column in record.columns}
    reasons: list[Reason] = []
    if added := tuple(name for name in today if name not in then):
        reasons.append(Reason("new in the dataset", added))
    if removed := tuple(name for name in then if name not in today):
        reasons.append(Reason("no longer in the dataset", removed))
    if not added and not removed and list(then) != list(today):
        reasons.append(Reason("the order of the columns changed"))
    changed: dict[tuple[str, str], list[str]] = {}
    for name, old in then.items():
        if name in today and old.fingerprint != today[name].fingerprint:
            changed.setdefault((today[name].table, old.table_fingerprint), []).append(name)
    for (table, old_fingerprint), names in changed.items():
        if meanings[table] != old_fingerprint:
            changes = _changes(book, record, table, old_fingerprint)
            what = "table " if table in book.tables else "formula " if table in book.formulas else "the "
            who = last_change(book.folder, book.files_that_define(table))
            reasons.append(Reason(f"{what}{table} changed", tuple(names), table, changes, who))
        else:
            reasons.append(Reason("what it reads changed", tuple(names), table))
    return reasons


def _changes(book: OpenBook, record: Record, table: str, old_fingerprint: str) -> tuple[Change, ...]:
    if table in book.formulas:
        definition = past_definition(book, record, old_fingerprint)
        if definition is None or "formula" not in definition:
            return ()
        return (Change("formula", _formula_text(definition), _formula_text(book.formulas[table].meaning)),)
    from kivvet.core.compare.compare import changes_between

    past = past_table(book, record, table, old_fingerprint)
    if past is None:
        return ()
    made = compared_with_past(book, record, table, old_fingerprint)
    if made is not None and made.is_same and past.lookup is None and book.tables[table].lookup is None:
        return shown_changes(past, book.tables[table])
    return changes_between(past, book.tables[table], made)


def _formula_text(meaning: Mapping[str, Any]) -> str:
    options = [f"{name} {meaning[name]}" for name in ("among", "type") if meaning.get(name)]
    return ", ".join([meaning["formula"], *options])
