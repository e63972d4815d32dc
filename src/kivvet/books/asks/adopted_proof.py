"""What was taken over held against what was there, on data: row by row, by two evaluations, and against an old column."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.books.asks.data_read import DataRead
from kivvet.books.runs.expressions import ask, column_formula, of_tree
from kivvet.books.runs.other_rules import OtherRules
from kivvet.books.runs.run import Run
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.tree import Tree
from kivvet.core.run.entries import Entry
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import write_plain
from kivvet.core.words.wording import did_you_mean, listed
from kivvet.io.csv_target import as_text

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

_TAKEN = "\0taken"
_MOST_EXAMPLES = 5
#: What is shown where there is no result.
NOTHING = "(nothing)"


@dataclass(frozen=True)
class Differing:
    """A row in which two results differ: its number, what was given, what the table gives, and why, where that is known."""

    row: int
    before: str
    now: str
    why: str = ""


@dataclass(frozen=True)
class Proof:
    """A table held against what it was taken over from.

    Attributes
    ----------
    name : str
    rows : int
    differing : int
        Rows in which the table gives otherwise than the rule it was made of, evaluated on its own.
    column : str
        The column of the data that holds old results; empty where none was named.
    odd : int
        Rows in which that column holds something else.
    pairs : tuple of (str, str, int)
        What it holds and what the table gives, with the rows, most first.
    examples : tuple of Differing
    unmatched : int
        Rows to which nothing is given: no branch holds, and there is no ELSE.
    """

    name: str
    rows: int
    differing: int
    column: str = ""
    odd: int = 0
    pairs: tuple[tuple[str, str, int], ...] = ()
    examples: tuple[Differing, ...] = ()
    unmatched: int = 0

    def as_dict(self) -> dict[str, Any]:
        return {
            "name": self.name,
            "rows": self.rows,
            "differing": self.differing,
            "column": self.column,
            "odd": self.odd,
            "pairs": [list(pair) for pair in self.pairs],
            "examples": [
                {"row": example.row, "before": example.before, "now": example.now, "why": example.why}
                for example in self.examples
            ],
            "unmatched": self.unmatched,
        }


def proved(
    book: OpenBook,
    data: DataRead,
    name: str,
    table: Table,
    rule: Tree | None,
    against: str,
    on_rows: Callable[[int], None],
    helpers: Mapping[str, Table] | None = None,
    formulas: Mapping[str, Formula] | None = None,
    why: Callable[[int, str, str], str] = lambda *_: "",
) -> Proof:
    """Return a table held against the rule that it was made of, and against a column of old results.

    Parameters
    ----------
    rule : Tree or None
        What it was made of, which is evaluated on its own.
    helpers, formulas : mapping by name
        What else the table and the rule read.
    why : callable
        Gives for the number of a row, from 1, its old result and that of the table why the old one may be another.

    Raises
    ------
    DataError, TableError
        If the data lacks a column, or types do not fit.
    """
    output = table.outputs[0]
    taken = replace(
        table,
        name=_TAKEN,
        outputs=(replace(output, name=_TAKEN),),
        missing={_TAKEN: value for value in table.missing.values()},  # noqa: B035 - there is one output
        otherwise={_TAKEN: value for value in table.otherwise.values()},  # noqa: B035
    )
    helpers, formulas = dict(helpers or {}), dict(formulas or {})
    other = OtherRules({_TAKEN: taken, **helpers}, formulas).of(book)
    entries = (Entry(one, is_written=False) for one in (*formulas, *helpers, _TAKEN))
    dataset = replace(data.dataset, entries=(*data.dataset.entries, *entries))
    source = data.open()
    wanted: dict[str, Formula] = {"table": column_formula(_TAKEN)}
    if rule is not None:
        wanted["rule"] = of_tree("rule", rule)
    if against:
        if against not in source.names and not data.is_of_book:
            raise DataError(
                f"{data.dataset.name} has no column {against!r}",
                expected=listed(source.names, 20),
                fix=did_you_mean(against, source.names),
            )
        wanted["old"] = column_formula(against)
    asked = ask(other, dataset, source, wanted)
    run = Run(asked.prepared, plan=asked.plan, with_report=False, on_rows=on_rows)
    n_rows = differing = odd = unmatched = 0
    pairs: Counter[tuple[str, str]] = Counter()
    examples: list[Differing] = []
    for batch in run.batches(asked.plan.source_columns or None):
        columns = {name: batch.made[made].as_arrow() for name, made in asked.columns.items()}
        texts = {name: _texts(array) for name, array in columns.items()}
        now = texts["table"]
        unmatched += now.null_count
        unlike = _unlike(texts.get("rule", now), now)
        differing += int(unlike.sum())
        before = texts.get("old", texts.get("rule", now))
        if against:
            unlike = _unlike(before, now)
            odd += int(unlike.sum())
        rows = np.flatnonzero(unlike)
        pairs.update(
            (_shown(before[int(row)].as_py()), _shown(now[int(row)].as_py())) for row in rows[:100_000]
        )
        for row in rows[: max(0, _MOST_EXAMPLES - len(examples))]:
            number = n_rows + int(row) + 1
            was, gives = (_shown(one[int(row)].as_py()) for one in (before, now))
            examples.append(Differing(number, was, gives, why(number, was, gives)))
        n_rows += batch.n_rows
    run.stop_at_faults()
    most = tuple((before, now, number) for (before, now), number in pairs.most_common(12))
    return Proof(name, n_rows, differing, against, odd, most, tuple(examples), unmatched)


def _texts(array: pa.Array) -> pa.Array:
    """Return values as texts in one way of writing, whole numbers alike in all types."""
    if pa.types.is_dictionary(array.type):
        array = array.dictionary_decode()
    if pa.types.is_floating(array.type):
        array = pc.if_else(pc.is_nan(array), pa.scalar(None, array.type), array)
    texts = as_text(array)
    if pa.types.is_string(array.type):
        return pc.utf8_trim_whitespace(texts)
    return pc.replace_substring_regex(texts, r"\.0+$", "")


def _unlike(before: pa.Array, now: pa.Array) -> Any:
    before, now = (pc.if_else(pc.equal(pc.fill_null(one, ""), ""), None, one) for one in (before, now))
    same = pc.fill_null(pc.equal(before, now), False)
    both = pc.and_(pc.is_null(before), pc.is_null(now))
    return ~np.asarray(pc.or_(same, both).to_numpy(zero_copy_only=False))


def _shown(value: Any) -> str:
    return NOTHING if value is None or value == "" else write_plain(value)
