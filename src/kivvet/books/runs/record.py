"""The record that travels with a target: which rules, which source and which options made it.

Where it stands, the format of the target decides: in Parquet in the footer, beside CSV in
``TARGET.kivvet.json``.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, fields
from functools import cached_property
from pathlib import Path
from typing import Any

from kivvet.books.runs.noted_content import noted_content
from kivvet.core.read.forms import (
    ANYTHING,
    FLAG,
    INTEGER,
    TEXT,
    Keywords,
    by_name,
    list_of,
    options_of,
    whole,
)
from kivvet.core.words.errors import OutputError
from kivvet.core.words.places import Place
from kivvet.core.words.values import ValueType
from kivvet.io.files import FileMarks
from kivvet.io.kept_records import KeptRecords
from kivvet.io.locations import Location, is_there, marks_of, records_at, shown_location

RECORD_VERSION = 2
_COLUMN: Keywords = {
    "name": TEXT,
    "table": TEXT.says("the table or formula that made it"),
    "fingerprint": TEXT.says("of all that decides the column, as far as rules go"),
    "table_fingerprint": TEXT.says("of the table's meaning"),
}
#: Of the record of a target, as it stands in the target or beside it.
RECORD_FORM = options_of(
    {
        "dataset": TEXT,
        "made_at": TEXT.says("UTC, ISO 8601"),
        "rows": whole(0).says("of the source"),
        "source_name": TEXT,
        "source_hash": TEXT,
        "read_options": by_name(ANYTHING).says("all that decides how the source is read, but types"),
        "columns": list_of(options_of(_COLUMN, *_COLUMN, is_open=True)),
        "types": by_name(TEXT).says("by column of the source, the type its text was read as"),
        "inferred": list_of(TEXT).says("those of them whose type the data gave"),
        "demands": list_of(TEXT),
        "definitions": by_name(ANYTHING).says(
            "by fingerprint, the name and the definition of tables and formulas"
        ),
        "semantics": whole(1).says("the version of the evaluation"),
        "source_marks": list_of(INTEGER),
        "is_settled": FLAG,
        "parts": list_of(by_name(ANYTHING)).says("of a source of many files, each one's name, hash and rows"),
        "class_orders": by_name(ANYTHING),
        "class_counts": by_name(ANYTHING).says("by column, the rows of each class"),
        "left_out": whole(0).says("rows that were not written"),
        "no_data": whole(0).says("rows of the source that were no data"),
        "where": TEXT,
        "below": by_name(ANYTHING).says("of a summary, what it rests on"),
        "target_hash": TEXT,
        "version": whole(1),
    },
    *("dataset", "made_at", "rows", "source_name", "source_hash", "read_options", "columns"),
    is_open=True,
)


@dataclass(frozen=True, slots=True)
class ColumnRecord:
    """How one column of a target was made.

    Attributes
    ----------
    name : str
    table : str
    fingerprint : str
        Of all that decides the column, as far as rules go.
    table_fingerprint : str
        Of the table's meaning, under which the journal keeps it.
    """

    name: str
    table: str
    fingerprint: str
    table_fingerprint: str


@dataclass(frozen=True, slots=True)
class Record:
    """How a target was made.

    Attributes
    ----------
    dataset, made_at, source_name : str
    rows : int
        Of the source.
    source_hash : str
    source_marks : tuple of int
        The size, the time of change (ns), the inode, and the time of change of its marks (ns) of the source then.
    is_settled : bool
        Whether whoever changed the source since has left other marks for certain.
    read_options : mapping
        All that decides how the source is read, but types.
    columns : tuple of ColumnRecord
    types : mapping of str to str
        By column of the source, the type its text was read as.
    inferred : tuple of str
        Those of the columns whose type the data itself gave.
    demands : tuple of str
        What the rules demanded of the data besides: formulas that are strict, kinds of findings that are
        errors.
    definitions : mapping of str to (str, mapping)
        By fingerprint, the name and the definition of tables and formulas, as far as they are small.
    semantics : int
        The version of Kivvet's evaluation.
    parts : tuple of mapping
        Of a source of many files each one's `name`, `hash` and `rows`.
    class_orders : mapping of str to sequence of str
        By written column whose classes have an order, these classes.
    class_counts : mapping of str to sequence of (str or None, int)
        By column the rows of each class; of columns with very many classes nothing.
    left_out : int
        Of the rows those that were not written.
    no_data : int
        The rows of the source that were left out as it was read; they are none of `rows`.
    where : str
        The fingerprint of the condition of the rows that were.
    below : mapping
        Of a summary: the `hash` of the data that is summed up, and the fingerprints of the `rules` that it rests on, by name.
    source_version : object
        Of a source in a database the highest value of the column that grows with each change, where the book names one.
    others : mapping
        Fields of a later version, which are kept.
    """

    dataset: str
    made_at: str
    rows: int
    source_name: str
    source_hash: str
    read_options: Mapping[str, Any]
    columns: tuple[ColumnRecord, ...]
    types: Mapping[str, ValueType] = field(default_factory=dict)
    inferred: tuple[str, ...] = ()
    demands: tuple[str, ...] = ()
    definitions: Mapping[str, Any] = field(default_factory=dict)
    semantics: int = 1
    source_marks: tuple[int, ...] = ()
    is_settled: bool = False
    parts: tuple[Mapping[str, Any], ...] = ()
    class_orders: Mapping[str, Any] = field(default_factory=dict)
    class_counts: Mapping[str, Any] = field(default_factory=dict)
    left_out: int = 0
    no_data: int = 0
    where: str = ""
    below: Mapping[str, Any] = field(default_factory=dict)
    source_version: Any = None
    target_hash: str = ""
    version: int = RECORD_VERSION
    others: Mapping[str, Any] = field(default_factory=dict)

    def as_dict(self) -> dict[str, Any]:
        """Return the record as plain values."""
        values = {one.name: getattr(self, one.name) for one in fields(self)}
        values["columns"] = [asdict(column) for column in self.columns]
        return {**values.pop("others"), **values}

    @property
    def rule_versions(self) -> dict[str, str]:
        """By table and formula of the dataset itself the fingerprint of its meaning, as far as the record tells."""
        told = {name: key for key, (name, _) in self.definitions.items()}
        return {**told, **{column.table: column.table_fingerprint for column in self.columns}}

    @property
    def all_rule_versions(self) -> dict[str, str]:
        """Those, and of a summary the fingerprints of what makes the columns of the data that is summed up."""
        return {**self.below.get("rules", {}), **self.rule_versions}

    @property
    def data_hash(self) -> str:
        """The hash of the data, whatever rules stand between it and what was read."""
        return str(self.below.get("hash", self.source_hash))

    def to_json(self) -> str:
        return json.dumps(self.as_dict(), ensure_ascii=False)

    @classmethod
    def from_values(cls, values: Any) -> Record | None:
        """Return the record of plain values; None where they are none. Fields it does not know are kept."""
        try:
            columns = tuple(
                ColumnRecord(
                    *(str(one[name]) for name in ("name", "table", "fingerprint", "table_fingerprint"))
                )
                for one in values["columns"]
            )
            known = {one.name for one in fields(cls)} - {"others", "columns"}
            given = {name: value for name, value in values.items() if name in known}
            for name in ("inferred", "demands", "source_marks", "parts"):
                given[name] = tuple(given.get(name, ()))
            others = {
                name: value for name, value in values.items() if name not in known and name != "columns"
            }
            return cls(**given, columns=columns, others=others)
        except (KeyError, TypeError, AttributeError):
            return None


class HeldRecord:
    """The record that is kept with a target; its bytes are looked at only where that is asked, and once."""

    def __init__(
        self, target: Location, kept: KeptRecords | None, marks: FileMarks | None, folder: Path | None
    ) -> None:
        self._target, self._kept, self._marks, self._folder = target, kept, marks, folder
        values = [] if kept is None else kept.values
        self._records = [record for value in values if (record := Record.from_values(value)) is not None]

    @property
    def record(self) -> Record | None:
        """The record that speaks of what the target holds, else the newest; None where there is none: then no Kivvet wrote it."""
        newest = self._records[0] if self._records else None
        return (self._fitting if len(self._records) > 1 else None) or newest

    @property
    def is_true(self) -> bool:
        """Whether the target's bytes are still those that the record speaks of."""
        return self._fitting is not None

    def now(self) -> HeldRecord:
        """Return what is kept with the target by now; this, if it is a file that has its marks still."""
        is_same = self._marks is not None and self._marks == marks_of(self._target)
        return self if is_same else read_record(self._target, self._folder)

    @cached_property
    def _fitting(self) -> Record | None:
        if self._kept is None or not self._records:
            return None
        noted = None if self._folder is None else noted_content(self._folder, self._target, self._marks)
        actual = noted or self._kept.content_hash
        return next((record for record in self._records if record.target_hash == actual), None)


def read_record(target: Location, folder: Path | None = None) -> HeldRecord:
    """Return what is kept with a target.

    Parameters
    ----------
    folder : Path, optional
        Of the book, where it may have noted what the target held when it was written; without it the target's bytes are
        looked at.
    """
    marks = marks_of(target) if isinstance(target, Path) else None
    return HeldRecord(target, records_at(target), marks, folder)


def refuse_edited(target: Location, held: HeldRecord) -> None:
    """Raise where what Kivvet wrote was changed since by something else."""
    record = held.record
    if record is not None and not held.is_true:
        raise OutputError(
            "was changed by something else since Kivvet wrote it",
            place=Place(shown_location(target)),
            found=f"written {record.made_at[:16].replace('T', ' ')} UTC by dataset {record.dataset}",
            fix="keep a copy if it is wanted, then write over it with --replace-edited (in Python replace_edited=True)",
        )


def refuse_strange(target: Location, held: HeldRecord) -> None:
    """Raise unless a target is new, or some Kivvet wrote what is there: it carries a record, true or not."""
    if is_there(target) and held.record is None:
        raise OutputError(
            "is there already, and was not written by Kivvet",
            place=Place(shown_location(target)),
            fix="name another target; or write over it with --replace (in Python replace=True)",
        )
