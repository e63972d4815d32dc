"""Rows of a dataset or a file, with all that the dataset makes: those that meet a condition, in an order, some of each
class; and for each which row of a table decided it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.books.asks.data_read import DataRead, data_read
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.cross_tables import (
    column_of,
    read_expression,
    refuse_no_condition,
    rows_kept,
)
from kivvet.books.runs.expressions import Asked, ask, column_formula
from kivvet.books.runs.run import Run, RunBatch
from kivvet.books.runs.table_findings import refuse_faults
from kivvet.core.columns.column import arrow_from_column
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.tree import And, ColumnName, Comparison, Constant, Tree, write_formula
from kivvet.core.read.table_text import result_text
from kivvet.core.run.plan import Plan
from kivvet.core.run.table_step import TableStep
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import AnyValue, write_condition
from kivvet.core.words.errors import DataError
from kivvet.core.words.printed import Printed
from kivvet.core.words.values import LiteralError, ValueType, parse_value
from kivvet.core.words.wording import count, listed, repeated

if TYPE_CHECKING:
    import pandas as pd

OnRows = Callable[[int], None]
#: The column of the numbers of rows.
ROW = "row"
_MOST_EACH = 1_000  # classes of which rows are shown


@dataclass(frozen=True)
class RowsShown(Printed):
    """Some rows of a dataset or a file.

    Attributes
    ----------
    source : str
    table : pyarrow.Table
        The rows, each with its number in the source, from 1, as the first column ``row``.
    made : tuple of str
        The columns that the dataset makes.
    n_rows, n_matching : int
        All rows, and those that meet the conditions.
    left_out : tuple of (str, int)
        For each condition, in order, the rows that it left out of those before it.
    why : mapping of str to tuple of str
        By table, for each row shown what decided it.
    hidden : tuple of str
        Columns there are besides.
    """

    source: str
    table: pa.Table
    made: tuple[str, ...]
    n_rows: int
    n_matching: int
    left_out: tuple[tuple[str, int], ...] = ()
    why: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    def why_none(self) -> str:
        """Return why there is nothing to show: what the last condition that left rows out took away."""
        if not self.n_rows:
            return "the source has no rows"
        told = [(text, n) for text, n in self.left_out if n]
        if not told:
            return "there is nothing to show"
        text, n = told[-1]
        before = self.n_rows - sum(n for _, n in told[:-1])
        return f"no row meets the conditions: of {count(before, 'row')} left before it, {text} left out {n:,}"

    def as_dict(self) -> dict[str, Any]:
        """Return them as plain values; dates and times as text."""
        rows = [{name: _plain(value) for name, value in row.items()} for row in self.table.to_pylist()]
        for name, said in self.why.items():
            for row, text in zip(rows, said, strict=True):
                row.setdefault("why", {})[name] = text
        return {
            "version": 1,
            "source": self.source,
            "n_rows": self.n_rows,
            "n_matching": self.n_matching,
            "left_out": [{"condition": text, "rows": n} for text, n in self.left_out],
            "made": list(self.made),
            "rows": rows,
        }

    def to_frame(self) -> pd.DataFrame:
        """Return a pandas frame; its index is the number of the row, from 1."""
        frame: pd.DataFrame = self.table.to_pandas().set_index(ROW)
        return frame


def _plain(value: Any) -> Any:
    if isinstance(value, list):
        return [_plain(one) for one in value]
    return value if isinstance(value, (int, float, str, bool)) or value is None else str(value)


@dataclass(frozen=True)
class RowsWanted:
    """Which rows are wanted.

    Attributes
    ----------
    where : str or None
        A condition over anything that the source holds or the dataset makes.
    keys : mapping of str to str
        By column the value that the rows are to have.
    columns : tuple of str
        Columns and formulas to show; empty: all.
    sort : tuple of (str, bool)
        Columns or formulas, and whether the greatest come first; missing values come last.
    first : int
        At most so many rows; with `each`, of each class.
    each : str or None
        A column of whose classes rows are shown.
    why : bool
        Whether it is told which row of a table decided.
    """

    where: str | None = None
    keys: Mapping[str, str] = field(default_factory=dict)
    columns: tuple[str, ...] = ()
    sort: tuple[tuple[str, bool], ...] = ()
    first: int = 20
    each: str | None = None
    why: bool = False


def rows_of(
    book: OpenBook | None,
    on: str | Path,
    wanted: RowsWanted,
    *,
    read_as: str = "",
    on_rows: OnRows = lambda _: None,
) -> RowsShown:
    """Return rows of a dataset or a file; see `Book.show`."""
    data = data_read(book, on, read_as)
    source = data.open()
    made = _made_names(book, data)
    names = list(wanted.columns) or [*source.names, *(one for one in made if one not in source.names)]
    if not names:
        raise DataError("there are no columns to show", expected="columns in the source")
    trees = {
        f"show {name}": read_expression(name, name) if wanted.columns else ColumnName(name) for name in names
    }
    trees |= {f"sort {name}": read_expression(name, name) for name, _ in wanted.sort}
    if wanted.each is not None:
        trees["each"] = read_expression(wanted.each, wanted.each)
    formulas = {
        key: replace(column_formula(tree.name), name=key.partition(" ")[2] or "each")
        if isinstance(tree, ColumnName)
        else Formula(key.partition(" ")[2] or "each", write_formula(tree), tree)
        for key, tree in trees.items()
    }
    conditions = _conditions(book, data, wanted)
    asked = ask(book, data.dataset, source, {**formulas, **conditions})
    refuse_faults(book, asked.plan.tables.values())
    refuse_no_condition(asked, conditions)
    plan = asked.to_run(conditions)
    deciding: dict[str, tuple[str, Table]] = {}
    if wanted.why:
        plan, deciding = _with_rows(asked, plan, names)
    of_rows = {name: table for name, (_, table) in deciding.items()}
    run = Run(asked.prepared, plan=plan, with_report=False, on_rows=on_rows)
    gathered = _Gathered(wanted, asked, names, {name: row for name, (row, _) in deciding.items()})
    left = dict.fromkeys(conditions, 0)
    total = matching = 0
    for batch in run.batches(asked.plan.source_columns or None):
        kept = np.ones(batch.n_rows, bool)
        for name in conditions:
            one = rows_kept(asked, batch, [name])
            assert one is not None
            left[name] += int(np.count_nonzero(kept & ~one))
            kept &= one
        total += batch.n_rows
        matching += int(np.count_nonzero(kept))
        gathered.see(batch, np.flatnonzero(kept))
    run.stop_at_faults()
    table, why = gathered.result(of_rows)
    told = tuple((_said(name, conditions[name]), n) for name, n in left.items())
    return RowsShown(
        str(on), table, tuple(name for name in names if name in made), total, matching, told, why
    )


def _said(name: str, condition: Formula) -> str:
    return f"where of the dataset: {condition.text}" if name == "where of the dataset" else condition.text


def _made_names(book: OpenBook | None, data: DataRead) -> list[str]:
    """Return the columns that a dataset writes besides those of its source."""
    if book is None or not data.is_of_book:
        return []
    from kivvet.books.runs.plans import plan_of

    plan, _ = plan_of(book, data.dataset)
    return list(plan.written)


def _conditions(book: OpenBook | None, data: DataRead, wanted: RowsWanted) -> dict[str, Formula]:
    """Return the conditions of the rows, one for each part of an AND, so that it can be told which leaves none."""
    found: dict[str, Formula] = {}
    if data.dataset.where is not None:
        found["where of the dataset"] = data.dataset.where
    trees: list[Tree] = []
    for name, text in wanted.keys.items():
        kind = ask(book, data.dataset, data.open(), {name: column_formula(name)}).types[name] or "text"
        trees.append(Comparison("=", ColumnName(name), Constant(_value(name, text, kind))))
    if wanted.where is not None:
        tree = read_expression("where", wanted.where)
        trees += tree.parts if isinstance(tree, And) else (tree,)
    for number, tree in enumerate(trees, 1):
        found[f"where {number}"] = Formula("where", write_formula(tree), tree)
    return found


def _value(name: str, text: str, kind: ValueType) -> Any:
    try:
        return parse_value(text, "number" if kind in ("integer", "decimal") else kind)
    except LiteralError as error:
        raise DataError(
            f"{name} = {text!r} is no {kind}", expected=error.expected, fix=error.fix or None
        ) from None


def _with_rows(asked: Asked, plan: Plan, names: Sequence[str]) -> tuple[Plan, dict[str, tuple[str, Table]]]:
    """Return the plan with a column of the deciding row for each table of which a column is shown; and these columns,
    with their tables, by the name of the table, or of its column where the table is applied again.
    """
    deciding: dict[str, tuple[str, Table]] = {}
    shown = {behind.column for name in names if (behind := asked.behind(f"show {name}")) is not None}
    rows: dict[int, str] = {}
    for step in plan.table_steps:
        if shown.intersection(step.made_names):
            rows[id(step)] = step.row or f"\0row of {step.made_names[0]}"
            name = step.made_names[0] if step.name in deciding else step.name
            deciding[name] = rows[id(step)], step.table
    steps = (
        replace(step, row=rows[id(step)]) if isinstance(step, TableStep) and id(step) in rows else step
        for step in plan.steps
    )
    return replace(plan, steps=tuple(steps)), deciding


class _Gathered:
    """The rows that are to be shown, as batches are seen; no more are held than are shown."""

    def __init__(
        self, wanted: RowsWanted, asked: Asked, names: Sequence[str], deciding: Mapping[str, str]
    ) -> None:
        self.wanted, self.asked, self.names, self.deciding = wanted, asked, names, deciding
        self.parts: list[pa.Table] = []
        self.held = 0
        self.of_class: dict[Any, int] = {}

    def see(self, batch: RunBatch, rows: Any) -> None:
        """Take what is to be shown of the rows of a batch that meet the conditions."""
        wanted = self.wanted
        if wanted.each is not None and not wanted.sort:
            rows = self._some_of_each(batch, rows)
        elif not wanted.sort:
            rows = rows[: max(0, wanted.first - self.held)]
        if not len(rows) and self.parts:
            return
        part = self._taken(batch, rows)
        self.held += len(part)
        self.parts.append(part)
        if wanted.sort:
            self.parts = [self._sorted(pa.concat_tables(self.parts))]

    def _some_of_each(self, batch: RunBatch, rows: Any) -> Any:
        array = arrow_from_column(column_of(self.asked, batch, "each")).take(pa.array(rows))
        encoded = array.dictionary_encode() if not pa.types.is_dictionary(array.type) else array
        codes = pc.fill_null(encoded.indices, -1).to_numpy(zero_copy_only=False)
        labels = encoded.dictionary.to_pylist()
        chosen = []
        for code in np.unique(codes).tolist():
            label = None if code < 0 else labels[code]
            room = self.wanted.first - self.of_class.get(label, 0)
            if room <= 0 or (label not in self.of_class and len(self.of_class) >= _MOST_EACH):
                continue
            some = np.flatnonzero(codes == code)[:room]
            self.of_class[label] = self.of_class.get(label, 0) + len(some)
            chosen.append(some)
        return rows[np.sort(np.concatenate(chosen))] if chosen else rows[:0]

    def _taken(self, batch: RunBatch, rows: Any) -> pa.Table:
        at = pa.array(rows)
        columns: dict[str, pa.Array] = {ROW: pa.array(rows + batch.rows_before + 1)}
        for name in self.names:
            columns[name] = _plain_array(self._array(batch, f"show {name}").take(at))
        for place, (name, _) in enumerate(self.wanted.sort):
            columns[f"\0sort {place}"] = self._places(
                f"sort {name}", self._array(batch, f"sort {name}").take(at)
            )
        if self.wanted.each is not None:
            columns["\0each"] = _plain_array(self._array(batch, "each").take(at))
        for row in self.deciding.values():
            columns[row] = batch.made[row].as_arrow().take(at)
        return pa.table(columns)

    def _array(self, batch: RunBatch, name: str) -> pa.Array:
        behind = self.asked.behind(name)
        if behind is not None and not behind.from_source:
            return batch.made[behind.column].as_arrow()
        return arrow_from_column(column_of(self.asked, batch, name))

    def _places(self, name: str, array: pa.Array) -> pa.Array:
        """Return what values are sorted by: classes by their order, where they have one, all else by itself."""
        behind = self.asked.behind(name)
        found = None if behind is None or behind.from_source else self.asked.table_output(behind.column)
        if found is not None:
            step, output = found
            about = step.table.output(output)
            if about.type == "text" and step.table.is_ordered(about) and not step.table.computed(about):
                return pc.index_in(
                    _plain_array(array), value_set=pa.array(map(str, step.table.classes(about)), pa.string())
                )
        return _plain_array(array)

    def _sorted(self, table: pa.Table) -> pa.Table:
        keys = []
        sorting = table
        for place, (_, is_down) in enumerate(self.wanted.sort):
            name = f"\0sort {place}"
            sorting = sorting.append_column(f"{name} gone", pc.is_null(table[name], nan_is_null=True))
            keys += [(f"{name} gone", "ascending"), (name, "descending" if is_down else "ascending")]
        table = table.take(pc.sort_indices(sorting, sort_keys=[*keys, (ROW, "ascending")]))
        if self.wanted.each is None:
            return table.slice(0, self.wanted.first)
        seen: dict[Any, int] = {}
        kept = []
        for place, label in enumerate(table["\0each"].to_pylist()):
            seen[label] = seen.get(label, 0) + 1
            if seen[label] <= self.wanted.first:
                kept.append(place)
        return table.take(pa.array(kept, pa.int64()))

    def _by_class(self, labels: Sequence[Any]) -> pa.Array:
        """Return the order of rows by class, as the classes are ordered; those without one last."""
        behind = self.asked.behind("each")
        found = None if behind is None else self.asked.table_output(behind.column)
        classes = [] if found is None else list(found[0].table.classes(found[0].table.output(found[1])))
        ranks = {label: rank for rank, label in enumerate(classes)}
        others = sorted({label for label in labels if label is not None and label not in ranks})
        ranks |= {label: len(classes) + rank for rank, label in enumerate(others)}
        places = sorted(range(len(labels)), key=lambda place: ranks.get(labels[place], len(ranks)))
        return pa.array(places, pa.int64())

    def result(self, tables: Mapping[str, Table]) -> tuple[pa.Table, dict[str, tuple[str, ...]]]:
        """Return the rows, and by table what decided each."""
        if not self.parts:
            empty = {
                ROW: pa.array([], pa.int64()),
                **{name: pa.array([], pa.string()) for name in self.names},
            }
            return pa.table(empty), {}
        table = pa.concat_tables(self.parts, promote_options="permissive").combine_chunks()
        if self.wanted.each is not None:
            table = table.take(self._by_class(table["\0each"].to_pylist()))
        why = {}
        for name, row in self.deciding.items():
            why[name] = tuple(_decided(tables[name], value) for value in table[row].to_pylist())
        return table.select([ROW, *self.names]), why


def _plain_array(array: pa.Array) -> pa.Array:
    """Return an array that can be joined with those of other batches."""
    return array.dictionary_decode() if pa.types.is_dictionary(array.type) else array


def _decided(table: Table, row: int | list[int] | None) -> str:
    """Return which row of a table decided, and what it asks."""
    if row is None:
        return "no row"
    if isinstance(row, list):
        return f"rows {listed(map(str, row), 8)}"
    if table.lookup is not None:
        return f"row {row:,}: {table.lookup.shown_key(row - 1)}"
    asks = [
        f"{about.name} {write_condition(condition)}"
        for about, condition in zip(table.inputs, table.rows[row - 1].conditions, strict=True)
        if not isinstance(condition, AnyValue)
    ]
    when = table.rows[row - 1].when
    asks += [when] if when else []
    results = ", ".join(map(result_text, table.rows[row - 1].results))
    return f"row {row}: {', '.join(asks) or 'any'}: {results}"


_SORT = re.compile(r"^(?P<text>.*\S)\s+(?P<way>asc|desc)$", re.IGNORECASE | re.DOTALL)


def sort_of(text: str) -> tuple[str, bool]:
    """Return the expression that rows are sorted by, and whether the greatest come first: ``load DESC``."""
    found = _SORT.match(text.strip())
    return (text.strip(), False) if found is None else (found["text"], found["way"].lower() == "desc")


def key_of(text: str) -> tuple[str, str]:
    """Return the column and the value of a text such as ``sample_id=S00812``.

    Raises
    ------
    DataError
        If there is no ``=`` in it.
    """
    name, sign, value = text.partition("=")
    if not sign or not name.strip():
        raise DataError(f"{text!r} is no key", expected="COLUMN=VALUE", fix="for example sample_id=S00812")
    return name.strip(), value.strip()


def wanted_rows(
    where: str | None,
    keys: Sequence[str] | Mapping[str, str],
    columns: Sequence[str],
    sort: Sequence[str],
    first: int,
    each: str | None,
    *,
    why: bool,
) -> RowsWanted:
    """Return which rows are wanted, from texts such as ``load DESC`` and ``sample_id=S00812``; see `Book.rows`."""
    keys = [keys] if isinstance(keys, str) else keys
    pairs = list(keys.items()) if isinstance(keys, Mapping) else [key_of(key) for key in keys]
    if twice := repeated([name for name, _ in pairs]):
        raise DataError(f"two values are asked of {twice[0]!r}", fix=f"where = {twice[0]} IN ('...', '...')")
    given = dict(pairs)
    return RowsWanted(where, given, tuple(columns), tuple(map(sort_of, sort)), first, each, why)
