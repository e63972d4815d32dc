"""A dataset summed up, as a source of data: it is read when its rows are asked for, once."""

from __future__ import annotations

import json
from collections.abc import Container, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import pyarrow as pa
import xxhash

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.cross_tables import CrossAsked, Wanted, ask_cross
from kivvet.books.runs.fingerprints import column_records, definitions_of
from kivvet.core.columns.convert import arrow_type
from kivvet.core.read.meaning import fingerprint, formula_meaning, table_fingerprint
from kivvet.core.run.cross_table import TOTAL, Label
from kivvet.core.run.steps import Step
from kivvet.core.tables.table import Table
from kivvet.core.words.values import ValueType
from kivvet.io.files import FileMarks, FileState
from kivvet.io.source_and_target import Source

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


class SummarySource(Source):
    """The lines of a summary as rows: keys, then values; totals are left out.

    Parameters
    ----------
    book : OpenBook
    summary : Dataset
        With `of`.
    below : Dataset
        What it sums up.
    source : Source
        Of that.
    """

    def __init__(self, book: OpenBook, summary: Dataset, below: Dataset, source: Source) -> None:
        assert summary.of is not None
        self.book, self.path = book, source.path
        self.below, self.source = below, source
        self.wanted = Wanted(summary.of.by, None, summary.of.values, None, None)
        self.ready: CrossAsked = ask_cross(book, below, source, self.wanted)
        kinds = {**self.ready.key_types, **self.ready.kinds}
        names = [name for name, _ in (*summary.of.by, *summary.of.values)]
        self.stored_schema: pa.Schema = pa.schema([(name, _stored(kinds[name])) for name in names])
        self.schema = dict(zip(names, self.stored_schema.types, strict=True))
        self._rows: pa.RecordBatch | None = None

    @property
    def shown_name(self) -> str:
        return f"summary of {self.below.name}"

    @property
    def tables(self) -> Mapping[str, Table]:
        """The tables that it rests on, by name."""
        below = self.source.tables if isinstance(self.source, SummarySource) else {}
        return {**below, **self.ready.asked.plan.tables}

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        if self._rows is None:
            self._rows = self._made()
        yield self._rows if names is None else self._rows.select(list(names) or self.names[:1])

    def _made(self) -> pa.RecordBatch:
        found = self.ready.made(tells_why=False)
        lines = [line for line in found.lines if TOTAL not in line or not line]
        cells = [found.cell(line) for line in lines]
        columns = [[_value(line[place]) for line in lines] for place in range(len(found.by))]
        columns += [
            [None if cell is None else cell.values[place] for cell in cells]
            for place in range(len(found.values))
        ]
        arrays = [pa.array(one, field.type) for one, field in zip(columns, self.stored_schema, strict=True)]
        return pa.RecordBatch.from_arrays(arrays, schema=self.stored_schema)

    def n_rows(self) -> int:
        return sum(batch.num_rows for batch in self.batches())

    def identity(self) -> FileState:
        """Return what tells its content from any other: that of what it sums up, and the rules that it rests on."""
        state = self.source.identity()
        marks = self.marks()
        assert marks is not None
        together = xxhash.xxh3_128_hexdigest((state.hash + self._rules()).encode())
        return FileState(together, marks, state.looked_at)

    def marks(self) -> FileMarks | None:
        below = self.source.marks()
        if below is None:
            return None
        rules = xxhash.xxh3_64_intdigest(self._rules().encode()) >> 2
        return replace(below, inode=below.inode ^ rules)

    @property
    def below_it(self) -> dict[str, Any]:
        """The hash of the data that is summed up, and the fingerprints of the rules that it rests on, by name."""
        deeper = self.source.below_it if isinstance(self.source, SummarySource) else {}
        rules = {step.name: step.fingerprint for step in self._rule_steps}
        data = deeper.get("hash") or self.source.identity().hash
        return {"hash": data, "rules": {**deeper.get("rules", {}), **rules}}

    @property
    def _rule_steps(self) -> list[Step]:
        """The tables and formulas of the book that it rests on: expressions of the summary itself are none of them."""
        plan = self.ready.asked.plan
        rules = {table_fingerprint(table) for table in plan.tables.values()}
        rules |= {fingerprint(formula_meaning(formula)) for formula in self.book.formulas.values()}
        named = {*plan.tables, *self.book.formulas}
        return [step for step in plan.steps if step.name in named and step.fingerprint in rules]

    def definitions(self, remembered: Container[str]) -> dict[str, tuple[str, dict[str, Any]]]:
        """Return the definitions of the rules that it rests on, by their fingerprints."""
        deeper = self.source.definitions(remembered) if isinstance(self.source, SummarySource) else {}
        return {**deeper, **definitions_of(self._rule_steps, remembered)}

    def _rules(self) -> str:
        """Return all that decides its rows, but the data."""
        asked = self.ready.asked
        records = [
            one.fingerprint for one in column_records(asked.plan, asked.prepared.types, with_classes=True)
        ]
        said = [
            self.wanted.by,
            self.wanted.values,
            records,
            self.below.read_options(),
            sorted(self.ready.conditions),
        ]
        return json.dumps(said, default=str)


def _value(label: Label) -> object:
    return label.value if label.kind == "value" else None


def _stored(kind: ValueType) -> pa.DataType:
    return pa.float64() if kind == "decimal" else arrow_type(kind)
