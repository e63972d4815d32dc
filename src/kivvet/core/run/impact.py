"""What other rules make of the same data: which rows change class, from what to what, with examples."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.arrays import Array
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.columns.pair_counts import count_pairs
from kivvet.core.compare.change import Change
from kivvet.core.compare.comparison import Comparison
from kivvet.core.run.differing import differing, plain_values
from kivvet.core.words.printed import Printed
from kivvet.core.words.values import write_plain
from kivvet.core.words.wording import count, listed

IMPACT_VERSION = 1
_MOST_CLASSES = 1_000  # of a column, that pairs are counted of
_MOST_PAIRS = 20  # of values that change, of a column without classes, that are counted
_MOST_EXAMPLES = 3  # of a column without classes

ValuesAt = Callable[[int], Mapping[str, str]]


@dataclass(frozen=True, slots=True)
class MovedRow:
    """A row of data that gets something else.

    Attributes
    ----------
    row : int or None
        Counted from 1 in the source; None for a line of a summary.
    values : mapping of str to str
        What decides it now, by name; for a line of a summary its keys.
    before, after : str
    """

    row: int | None
    values: Mapping[str, str]
    before: str
    after: str

    def as_dict(self) -> dict[str, Any]:
        return {"row": self.row, "values": dict(self.values), "before": self.before, "after": self.after}


@dataclass(frozen=True, slots=True)
class Move:
    """Rows that go from one class to another: None is no class."""

    before: str | None
    after: str | None
    count: int
    example: MovedRow

    def as_dict(self) -> dict[str, Any]:
        return {
            "before": self.before,
            "after": self.after,
            "count": self.count,
            "example": self.example.as_dict(),
        }


@dataclass(frozen=True)
class ColumnImpact:
    """What becomes of one column.

    Attributes
    ----------
    column, made_by : str
        The column, and the table or formula that makes it.
    follows : bool
        Whether it changes only since what it reads does.
    rows, changed : int
        Rows looked at, and those whose value is another one.
    moves : tuple of Move
        Of a column of classes, or of few values: from what to what, the most frequent first.
    classes : tuple of (str or None, int, int)
        Of a column of classes each class in order with its rows before and after.
    pairs : mapping of (str or None, str or None) to int
        Of a column of classes the rows by class before and after, those that stay included.
    examples : tuple of MovedRow
        Of any other column, the first rows that change.
    """

    column: str
    made_by: str
    follows: bool
    rows: int
    changed: int
    moves: tuple[Move, ...] = ()
    classes: tuple[tuple[str | None, int, int], ...] = ()
    pairs: Mapping[tuple[str | None, str | None], int] = field(default_factory=dict)
    examples: tuple[MovedRow, ...] = ()

    @property
    def share(self) -> float:
        """The rows that change, as a share of those looked at."""
        return self.changed / self.rows if self.rows else 0.0

    def as_dict(self) -> dict[str, Any]:
        return {
            "column": self.column,
            "made_by": self.made_by,
            "follows": self.follows,
            "rows": self.rows,
            "changed": self.changed,
            "share": self.share,
            "moves": [move.as_dict() for move in self.moves],
            "pairs": [{"before": one, "after": two, "rows": n} for (one, two), n in self.pairs.items()],
            "classes": [{"class": name, "before": n, "after": m} for name, n, m in self.classes],
            "examples": [example.as_dict() for example in self.examples],
        }


@dataclass(frozen=True)
class DatasetImpact:
    """What becomes of one dataset.

    Attributes
    ----------
    dataset : str
    rows : int
        That were looked at; 0 where no column can change.
    columns : tuple of ColumnImpact
        Those that other rules make, whether a row changes or not.
    added, gone : tuple of str
        Columns that come or go.
    entering, leaving : int
        Rows that are kept now and were not, and the other way round; of a summary lines.
    same : int
        Columns that stay as they are, since nothing that decides them changed.
    why_not : str
        Why it cannot be told; empty where it can.
    stopped_by : str
        Errors that would keep it from being written.
    """

    dataset: str
    rows: int = 0
    columns: tuple[ColumnImpact, ...] = ()
    added: tuple[str, ...] = ()
    gone: tuple[str, ...] = ()
    entering: int = 0
    leaving: int = 0
    same: int = 0
    why_not: str = ""
    stopped_by: str = ""

    @property
    def is_nothing(self) -> bool:
        """Whether it is certain that nothing changes."""
        moved = any(column.changed for column in self.columns)
        return not (moved or self.added or self.gone or self.entering or self.leaving or self.why_not)

    @property
    def largest_share(self) -> float:
        """The largest share of rows that change in a column, or come, or go."""
        total = max(self.rows, 1)
        return max(
            [(self.entering + self.leaving) / total, *(column.share for column in self.columns)],
        )

    def as_dict(self) -> dict[str, Any]:
        return {
            "dataset": self.dataset,
            "rows": self.rows,
            "columns": [column.as_dict() for column in self.columns],
            "added": list(self.added),
            "gone": list(self.gone),
            "entering": self.entering,
            "leaving": self.leaving,
            "same": self.same,
            "why_not": self.why_not,
            "stopped_by": self.stopped_by,
        }


@dataclass(frozen=True)
class Impact(Printed):
    """What rules that changed do to data, before anything is written.

    Attributes
    ----------
    against : str
        What today's rules are held against.
    tables : tuple of Comparison
        The tables that changed: same meaning, or where results differ.
    formulas : tuple of Change
        The formulas that changed, by name.
    new : tuple of str
        Tables and formulas that were not there.
    datasets : tuple of DatasetImpact
    """

    against: str
    tables: tuple[Comparison, ...] = ()
    formulas: tuple[Change, ...] = ()
    new: tuple[str, ...] = ()
    datasets: tuple[DatasetImpact, ...] = ()

    @property
    def is_nothing(self) -> bool:
        """Whether it is certain that no value of any dataset changes."""
        return all(dataset.is_nothing for dataset in self.datasets)

    @property
    def largest_share(self) -> float:
        """The largest share of the rows of a dataset that change in one column, or come, or go."""
        return max((dataset.largest_share for dataset in self.datasets), default=0.0)

    @property
    def summary(self) -> str:
        """The answer in a sentence."""
        unknown = [dataset.dataset for dataset in self.datasets if dataset.why_not]
        rest = f"; it cannot be told for {listed(unknown)}" if unknown else ""
        moved = {
            dataset.dataset: max((c.changed for c in dataset.columns), default=0) for dataset in self.datasets
        }
        told = [f"{count(n, 'row')} of {name}" for name, n in moved.items() if n]
        others = [
            dataset.dataset
            for dataset in self.datasets
            if not dataset.is_nothing and not moved[dataset.dataset]
        ]
        if told:
            return f"values change in {listed(told)}{rest}"
        others = [name for name in others if name not in unknown]
        if others:
            return f"columns or rows come or go in {listed(others)}{rest}"
        is_form = self.tables and all(table.is_same for table in self.tables) and not self.formulas
        why = ": rules are written otherwise and mean the same" if is_form else ""
        return f"no value is known to change{rest}" if unknown else f"nothing changes{why}"

    def as_dict(self) -> dict[str, Any]:
        return {
            "version": IMPACT_VERSION,
            "against": self.against,
            "nothing": self.is_nothing,
            "summary": self.summary,
            "tables": [table.as_dict() for table in self.tables],
            "formulas": [formula.as_dict() for formula in self.formulas],
            "new": list(self.new),
            "datasets": [dataset.as_dict() for dataset in self.datasets],
        }


class ColumnTally:
    """Counts, batch by batch, what becomes of the values of one column."""

    def __init__(self, column: str, made_by: str, *, follows: bool) -> None:
        self.column, self.made_by, self.follows = column, made_by, follows
        self.rows = self.changed = 0
        self.pairs: dict[tuple[str | None, str | None], int] = {}
        self.examples: dict[tuple[str | None, str | None], MovedRow] = {}
        self.first: list[MovedRow] = []
        self.order: dict[str | None, None] = {}
        self.has_classes = self.has_few = True

    def see(
        self,
        old: MadeColumn,
        new: MadeColumn,
        kept: npt.NDArray[np.bool_] | None,
        rows_before: int | None,
        values_at: ValuesAt,
    ) -> None:
        """Count one batch.

        Parameters
        ----------
        kept : ndarray of bool, optional
            The rows that count.
        rows_before : int or None
            Rows of the source before the batch; None for lines of a summary.
        values_at : callable
            Gives what decides a row of the batch, by name.
        """
        unlike = differing(old, new)
        if kept is not None:
            unlike &= kept
        self.rows += len(unlike) if kept is None else int(np.count_nonzero(kept))
        self.changed += int(np.count_nonzero(unlike))
        self.has_classes = self.has_classes and _has_classes(old) and _has_classes(new)

        def moved(row: int, before: Any, after: Any) -> MovedRow:
            number = None if rows_before is None else rows_before + row + 1
            return MovedRow(number, values_at(row), write_plain(before), write_plain(after))

        if self.has_classes:
            self._see_classes(old, new, kept, unlike, moved)
            if len(self.pairs) > _MOST_CLASSES:
                self.has_classes = self.has_few = False
                self.first = list(self.examples.values())[:_MOST_EXAMPLES]
        if self.has_classes:
            return
        rows = np.flatnonzero(unlike)
        if len(self.first) < _MOST_EXAMPLES:
            few = rows[: _MOST_EXAMPLES - len(self.first)]
            pair = [plain_values(one).take(pa.array(few)).to_pylist() for one in (old, new)]
            self.first += [moved(int(row), *values) for row, *values in zip(few, *pair, strict=True)]
        if self.has_few:
            self._see_values(old, new, rows, moved)
            self.has_few = len(self.pairs) <= _MOST_PAIRS

    def _see_values(
        self,
        old: MadeColumn,
        new: MadeColumn,
        rows: npt.NDArray[np.int64],
        moved: Callable[[int, Any, Any], MovedRow],
    ) -> None:
        """Count the pairs of values of rows that change, where these are few."""
        arrays = [plain_values(one).take(pa.array(rows)) for one in (old, new)]
        if any(pa.types.is_nested(array.type) for array in arrays):
            self.has_few = False
            return
        codes = [array.dictionary_encode(null_encoding="encode") for array in arrays]
        together = codes[0].indices.to_numpy(zero_copy_only=False).astype(np.int64) * len(codes[1].dictionary)
        together += codes[1].indices.to_numpy(zero_copy_only=False)
        found, first, counts = np.unique(together, return_index=True, return_counts=True)
        if len(found) > _MOST_PAIRS:
            self.has_few = False
            return
        for at, n in zip(first.tolist(), counts.tolist(), strict=True):
            values = [array[at].as_py() for array in arrays]
            pair = tuple(None if value is None else write_plain(value) for value in values)
            self.pairs[pair[0], pair[1]] = self.pairs.get((pair[0], pair[1]), 0) + n
            if (pair[0], pair[1]) not in self.examples:
                self.examples[pair[0], pair[1]] = moved(int(rows[at]), *values)

    def _see_classes(
        self,
        old: MadeColumn,
        new: MadeColumn,
        kept: npt.NDArray[np.bool_] | None,
        unlike: npt.NDArray[np.bool_],
        moved: Callable[[int, Any, Any], MovedRow],
    ) -> None:
        (codes, classes), (new_codes, new_classes) = (_coded(one) for one in (old, new))
        self.order.update(dict.fromkeys([*new_classes, *classes]))
        n_classes = len(classes), len(new_classes)
        if kept is None:
            counts = count_pairs(codes, new_codes, n_classes)
        else:
            counts = count_pairs(codes[kept], new_codes[kept], n_classes)
        waiting = {}
        for before, after in np.argwhere(counts).tolist():
            pair = [*classes, None][before], [*new_classes, None][after]
            self.pairs[pair] = self.pairs.get(pair, 0) + int(counts[before, after])
            if pair[0] != pair[1] and pair not in self.examples:
                waiting[before, after] = pair
        if not waiting:
            return
        rows = np.flatnonzero(unlike)
        pairs = [one[rows].astype(np.intp) for one in (codes, new_codes)]
        places = np.ravel_multi_index(
            (pairs[0] % (n_classes[0] + 1), pairs[1] % (n_classes[1] + 1)), counts.shape
        )
        found, first = np.unique(places, return_index=True)
        for number, row in zip(found.tolist(), rows[first].tolist(), strict=True):
            place = divmod(number, counts.shape[1])
            if place in waiting:
                self.examples[waiting[place]] = moved(row, *waiting[place])

    def _place_of(self, counted: tuple[tuple[str | None, str | None], int]) -> tuple[int, int]:
        """Return where a pair stands: by the classes in order, or where there are none, by the row in which it is met first."""
        pair = counted[0]
        if not self.has_classes:
            example = self.examples.get(pair)
            return (0 if example is None else example.row or 0), 0
        order = {name: place for place, name in enumerate(self.order)}
        before, after = (order.get(name, len(order)) for name in pair)
        return before, after

    def result(self) -> ColumnImpact:
        """Return what all batches came to, however rows were divided among them."""
        self.pairs = dict(sorted(self.pairs.items(), key=self._place_of))
        moves = [
            Move(*pair, n, self.examples[pair]) for pair, n in self.pairs.items() if pair in self.examples
        ]
        if not self.has_classes:
            return ColumnImpact(
                self.column,
                self.made_by,
                self.follows,
                self.rows,
                self.changed,
                tuple(sorted(moves, key=lambda one: -one.count)) if self.has_few else (),
                examples=tuple(self.first),
            )
        names: Sequence[str | None] = [
            *self.order,
            *([None] if any(None in pair for pair in self.pairs) else []),
        ]
        totals = [
            {name: sum(n for pair, n in self.pairs.items() if pair[side] == name) for name in names}
            for side in (0, 1)
        ]
        classes = [(name, totals[0][name], totals[1][name]) for name in names]
        return ColumnImpact(
            self.column,
            self.made_by,
            self.follows,
            self.rows,
            self.changed,
            tuple(sorted(moves, key=lambda one: -one.count)),
            tuple(one for one in classes if one[1] or one[2]),
            dict(self.pairs),
        )


def _has_classes(made: MadeColumn) -> bool:
    if made.codes is not None:
        return made.classes is not None and len(made.classes) <= _MOST_CLASSES
    kind = plain_values(made).type
    return bool(pa.types.is_boolean(kind))


def _coded(made: MadeColumn) -> tuple[Array, list[str]]:
    """Return a column as codes into classes, -1 for none."""
    if made.codes is not None:
        assert made.classes is not None
        return made.codes, made.classes.to_pylist()
    values = pc.cast(plain_values(made), pa.int8())
    return pc.fill_null(values, -1).to_numpy(zero_copy_only=False), ["false", "true"]
