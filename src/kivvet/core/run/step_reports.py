"""What each step of a run did to the data: reports that account for every row, and add up.

Whoever counted which rows, the report on all of them is the same.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from kivvet.core.classify.outcomes import WHY, Why

#: A line of a view of classes: its text, "class" or why there is none, and its rows.
ClassLine = tuple[str, str, int]


@dataclass(frozen=True, slots=True)
class TableReport:
    """What one table did to the data.

    Attributes
    ----------
    table : str
    columns : tuple of str
        The columns its inputs read.
    rows, matched, missing, unmatched, unfinished : int
        ``matched + unfinished + missing + unmatched == rows``: rows that a row of the table decided; rows
        decided by one whose results are still to be filled in; rows with no value, which no row names; rows
        with a value that no row holds.
    classes : mapping of str to tuple of (str or None, int)
        For each class output made, by the name of its column: classes in order with their rows,
        those without rows too; last None, the rows without a class, if there are any. Under ``match = "every"`` a
        row counts for each of its classes.
    classless : mapping of str to mapping of str to int
        For the same columns the rows without a class by why they have none: "unfinished", "unmatched" or "missing".
    several : int
        Of the rows matched, those that several rows of the table decided together.
    no_period : int
        Of the rows unmatched, those whose key a lookup knows, but not at that time or value.
    unmatched_values : tuple of (str, int)
        Values of one input that no row holds, with their rows, most frequent first; values of several
        inputs as ``ph = 6.4, flow = 12``. Of more than 100,000 different ones those that were met first; the rows of all
        others are `unmatched_beyond`.
    first_rows : mapping of str to int
        For unmatched values the first row of data that has them, counted from 1.
    made_missing : mapping of str to (int, int)
        Of results that are formulas: by cause, such as "division by zero", the rows whose values were there and have
        no result, and the first of them, counted from 1.
    rows_by_row : tuple of int
        For each row of the table the data rows it decided, alone or with others.
    unfinished_values : tuple of (str, int)
        As `unmatched_values`, of the rows unfinished.
    """

    table: str
    columns: tuple[str, ...]
    rows: int
    matched: int
    missing: int
    unmatched: int
    classes: Mapping[str, tuple[tuple[str | None, int], ...]]
    unmatched_values: tuple[tuple[str, int], ...]
    rows_by_row: tuple[int, ...] = ()
    several: int = 0
    no_period: int = 0
    first_rows: Mapping[str, int] = field(default_factory=dict)
    made_missing: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    unfinished: int = 0
    unfinished_values: tuple[tuple[str, int], ...] = ()
    classless: Mapping[str, Mapping[Why, int]] = field(default_factory=dict)

    def lines_of(self, column: str) -> tuple[ClassLine, ...]:
        """Return what views tell of a column of classes: each class, then the rows without one by why they have none."""
        why = self.classless.get(column, {})
        classes = ((label, "class", n) for label, n in self.classes[column] if label is not None)
        return (*classes, *((f"({kind})", kind, why[kind]) for kind in WHY if why.get(kind)))

    @property
    def column(self) -> str:
        """The columns as one text."""
        return ", ".join(self.columns)

    @property
    def unmatched_beyond(self) -> int:
        """Of the rows unmatched, those whose values are none of `unmatched_values`, since there are too many."""
        return self.unmatched - sum(n for _, n in self.unmatched_values)

    @property
    def unfinished_beyond(self) -> int:
        """Of the rows unfinished, those whose values are none of `unfinished_values`, since there are too many."""
        return self.unfinished - sum(n for _, n in self.unfinished_values)

    def merged(self, later: TableReport) -> TableReport:
        """Return the report on these rows and on those of another, which follow them.

        Everything is added up by what it is about, a class, a value or a row of the table; so it does not matter who
        counted which rows.
        """
        labels = {
            name: dict.fromkeys([label for label, _ in (*counted, *later.classes[name]) if label is not None])
            for name, counted in self.classes.items()
            if name in later.classes
        }
        return TableReport(
            self.table,
            self.columns,
            self.rows + later.rows,
            self.matched + later.matched,
            self.missing + later.missing,
            self.unmatched + later.unmatched,
            {
                name: _added(self.classes[name], later.classes[name], [*in_order, None])
                for name, in_order in labels.items()
            },
            _most_frequent_first(self.unmatched_values, later.unmatched_values),
            tuple(map(sum, zip(self.rows_by_row, later.rows_by_row, strict=True))),
            self.several + later.several,
            self.no_period + later.no_period,
            {value: row + self.rows for value, row in later.first_rows.items()} | dict(self.first_rows),
            _causes(self.made_missing, later.made_missing, self.rows),
            self.unfinished + later.unfinished,
            _most_frequent_first(self.unfinished_values, later.unfinished_values),
            {
                name: {
                    why: n
                    for why in WHY
                    if (n := held.get(why, 0) + later.classless.get(name, {}).get(why, 0))
                }
                for name, held in self.classless.items()
            },
        )

    def as_dict(self) -> dict[str, Any]:
        return {
            "table": self.table,
            "columns": list(self.columns),
            "rows": self.rows,
            "matched": self.matched,
            "several": self.several,
            "no_period": self.no_period,
            "unfinished": self.unfinished,
            "missing": self.missing,
            "unmatched": self.unmatched,
            "classes": {
                name: [
                    {
                        "class": label if kind == "class" else None,
                        "rows": n,
                        "why": None if kind == "class" else kind,
                    }
                    for label, kind, n in self.lines_of(name)
                ]
                for name in self.classes
            },
            "made_missing": [
                {"cause": cause, "rows": n, "first_row": row} for cause, (n, row) in self.made_missing.items()
            ],
            "unmatched_values": [{"value": value, "rows": n} for value, n in self.unmatched_values],
            "unmatched_beyond": self.unmatched_beyond,
            "unfinished_values": [{"value": value, "rows": n} for value, n in self.unfinished_values],
            "unfinished_beyond": self.unfinished_beyond,
        }


@dataclass(frozen=True, slots=True)
class FormulaReport:
    """What one formula made of the data.

    Attributes
    ----------
    formula : str
    columns : tuple of str
        The names of the column it made.
    type : str
    rows, missing : int
        Rows in all, and those without a value.
    made_missing : mapping of str to (int, int)
        By cause, such as "division by zero", the rows whose values were there and have no result, and the first of
        them, counted from 1; they are among the missing.
    without_group, without_order, split_ties : int
        Rows with a missing value in PARTITION BY or in ORDER BY, and rows equal in the order that NTILE
        parted.
    spellings : tuple of tuples of str
        Groups of PARTITION BY that differ only in how they are spelled.
    misspelt : int
        Rows in these groups, but for the largest of each.
    """

    formula: str
    columns: tuple[str, ...]
    type: str
    rows: int
    missing: int
    made_missing: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    without_group: int = 0
    without_order: int = 0
    split_ties: int = 0
    spellings: tuple[tuple[str, ...], ...] = ()
    misspelt: int = 0

    def merged(self, later: FormulaReport) -> FormulaReport:
        """Return the report on these rows and on those of another, which follow them.

        What calculations within groups note was found in all rows, and is the same in both.
        """
        return replace(
            self,
            rows=self.rows + later.rows,
            missing=self.missing + later.missing,
            made_missing=_causes(self.made_missing, later.made_missing, self.rows),
        )

    def as_dict(self) -> dict[str, Any]:
        causes = [
            {"cause": cause, "rows": n, "first_row": row} for cause, (n, row) in self.made_missing.items()
        ]
        return {
            "formula": self.formula,
            "columns": list(self.columns),
            "type": self.type,
            "rows": self.rows,
            "missing": self.missing,
            "made_missing": causes,
            "without_group": self.without_group,
            "without_order": self.without_order,
            "split_ties": self.split_ties,
            "spellings": [list(spelling) for spelling in self.spellings],
            "misspelt": self.misspelt,
        }


@dataclass(frozen=True, slots=True)
class ClassReport:
    """What the columns made one for each class hold.

    Attributes
    ----------
    column : str
        The column that has the classes.
    columns : tuple of (str, int)
        The columns made, in class order, each with the rows that are of its class; a row may be of several.
    rows, classless : int
        Rows in all, and those of no class: without a value, or with one that is none of the classes.
    outside : int
        Of the rows without a class those that have a value.
    outside_values : tuple of (str, int)
        Such values with their rows, most frequent first.
    amount : str or None
        The column whose values stand in them; None: 1 and 0 do.
    """

    column: str
    columns: tuple[tuple[str, int], ...]
    rows: int
    classless: int
    outside: int = 0
    outside_values: tuple[tuple[str, int], ...] = ()
    amount: str | None = None

    def merged(self, later: ClassReport) -> ClassReport:
        """Return the report on these rows and on those of another, which follow them."""
        return ClassReport(
            self.column,
            tuple((name, n + m) for (name, n), (_, m) in zip(self.columns, later.columns, strict=True)),
            self.rows + later.rows,
            self.classless + later.classless,
            self.outside + later.outside,
            _most_frequent_first(self.outside_values, later.outside_values),
            self.amount,
        )

    def as_dict(self) -> dict[str, Any]:
        return {
            "column": self.column,
            "amount": self.amount,
            "columns": [{"column": name, "rows": n} for name, n in self.columns],
            "rows": self.rows,
            "classless": self.classless,
            "outside": self.outside,
            "outside_values": [{"value": value, "rows": n} for value, n in self.outside_values],
        }


StepReport = TableReport | FormulaReport | ClassReport
Counted = tuple[tuple[str | None, int], ...]
Causes = Mapping[str, tuple[int, int]]


def _added(first: Counted, later: Counted, in_order: Sequence[str | None]) -> Counted:
    """Return the sums of two counts in an order; None, the rows without a class, only where there are some."""
    counts = Counter(dict(first))
    counts.update(dict(later))
    return tuple((label, counts[label]) for label in in_order if label is not None or counts[None])


def _most_frequent_first(
    first: tuple[tuple[str, int], ...], later: tuple[tuple[str, int], ...]
) -> tuple[tuple[str, int], ...]:
    counts = Counter(dict(first))
    counts.update(dict(later))
    return tuple(sorted(counts.items(), key=lambda pair: (-pair[1], pair[0])))


def _causes(first: Causes, later: Causes, rows_before: int) -> Causes:
    """Return by cause the rows of both, and the first of them."""
    found = dict(first)
    for cause, (number, row) in later.items():
        before, first_row = found.get(cause, (0, rows_before + row))
        found[cause] = before + number, first_row
    return found
