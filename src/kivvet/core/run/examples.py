"""Running the examples of tables and formulas: which come out otherwise, and which row decides them now."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any

import pyarrow as pa

from kivvet.core.classify.combined import Combined
from kivvet.core.classify.compiled import compile_table
from kivvet.core.columns.column import Column, column_from_arrow
from kivvet.core.columns.convert import arrow_type, convert_text, fitting_types
from kivvet.core.compare.versions import as_one
from kivvet.core.formulas.formula import Formula
from kivvet.core.run.formula_step import FormulaStep
from kivvet.core.run.steps import Read
from kivvet.core.run.table_step import TableStep
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError
from kivvet.core.words.examples import Example
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.kept import kept
from kivvet.core.words.values import ValueType, write_plain
from kivvet.core.words.wording import did_you_mean, listed

_INFERRED: list[ValueType] = ["integer", "number", "date", "datetime", "boolean"]
_NEAR = 1e-9  # floats that a calculation gives are held equal within this share
_ROW = "\0row"


@dataclass(frozen=True)
class ExampleRun:
    """What became of an example: the results by output, and the rows that decide, counted from 1."""

    example: Example
    got: Mapping[str, Any]
    rows: tuple[int, ...] = ()

    @property
    def broken(self) -> tuple[str, ...]:
        """The outputs that come out otherwise than expected."""
        return tuple(
            name for name, value in self.example.expected.items() if not is_same(value, self.got.get(name))
        )

    @property
    def title(self) -> str:
        """The example as messages name it."""
        values = {name: write_plain(value) for name, value in self.example.values.items()}
        said = listed((f"{name} = {value}" for name, value in values.items()), 6) if values else "all missing"
        return f"example {self.example.number} ({self.example.note or said})"


@kept
def example_findings(table: Table) -> tuple[Finding, ...]:
    """Return a finding for each example of a table that comes out otherwise."""
    if not table.examples or not table.is_complete:
        return ()
    return tuple(
        _of_table(table, example) for example in run_examples(table, table.examples) if example.broken
    )


@kept
def formula_example_findings(formula: Formula) -> tuple[Finding, ...]:
    """Return a finding for each example of a formula that comes out otherwise."""
    return tuple(_of_formula(formula))


def run_examples(table: Table, examples: Sequence[Example]) -> list[ExampleRun]:
    """Return what a table gives for examples, which may be those of another version of it."""
    columns = columns_of_examples(table, examples)
    if table.match == "every":
        return _run_every(table, examples, columns)
    reads = tuple(Read(name, name, from_source=True) for name in columns)
    outputs = tuple((output.name, output.name) for output in table.outputs)
    stage = TableStep(table, reads, outputs, row=_ROW).start(with_report=False, refuses_overlaps=False)
    made = {name: one.as_arrow().to_pylist() for name, one in stage.apply(columns, 0, len(examples)).items()}
    return [
        ExampleRun(
            example,
            {name: made[name][place] for name, _ in outputs},
            () if made[_ROW][place] is None else (made[_ROW][place],),
        )
        for place, example in enumerate(examples)
    ]


def columns_of_examples(table: Table, examples: Sequence[Example]) -> dict[str, Column]:
    """Return the values of examples as columns, by the names that a table reads."""
    types = {name: None if about is None else about.type for name, about in table.reads.items()}
    return _columns(types, examples)


def _run_every(table: Table, examples: Sequence[Example], columns: Mapping[str, Column]) -> list[ExampleRun]:
    compiled = compile_table(table)
    labels = compiled.classify(columns, refuses_overlaps=False).labels.tolist()
    combined = {output.name: Combined(table, output) for output in table.outputs}
    runs = []
    for example, outcome in zip(examples, labels, strict=True):
        rows = compiled.outcomes.rows_of(outcome)
        ends = table.missing if compiled.outcomes.decided(outcome) == "missing" else table.otherwise
        got: dict[str, Any] = {}
        for output in table.outputs:
            if rows or output.name not in ends:
                made = as_one(output, combined[output.name].of_rows(rows))
                got[output.name] = list(made) if isinstance(made, (tuple, frozenset)) else made
            else:
                got[output.name] = ends[output.name]
        runs.append(ExampleRun(example, got, tuple(row + 1 for row in rows)))
    return runs


def _columns(types: Mapping[str, ValueType | None], examples: Sequence[Example]) -> dict[str, Column]:
    """Return the values of examples as columns, by name."""
    made = {}
    for name, kind in types.items():
        values: list[Any] = [example.values.get(name) for example in examples]
        if kind is None:
            texts = pa.array([None if value is None else write_plain(value) for value in values], pa.string())
            found = [*fitting_types(texts.drop_null(), _INFERRED), "text"][0]
            array = convert_text(texts, found).array
        elif kind in ("number", "decimal"):
            array = _numbers(values)
        else:
            array = pa.array(values, arrow_type(kind))
        made[name] = column_from_arrow(array, name)
    return made


def _numbers(values: Sequence[Any]) -> pa.Array:
    """Return numbers as whole ones where all are, so that long ones stay exact."""
    present = [value for value in values if value is not None]
    if all(value == int(value) and abs(value) < 2**63 for value in present):
        return pa.array([None if value is None else int(value) for value in values], pa.int64())
    return pa.array([None if value is None else float(value) for value in values], pa.float64())


def is_same(expected: Any, got: Any) -> bool:
    """Whether a result is what an example expects."""
    if isinstance(got, list):
        texts = list(map(write_plain, got))
        said = [] if expected is None else [text.strip() for text in write_plain(expected).split(";")]
        return texts == said or (sorted(texts) == sorted(said) and len(texts) == len(set(texts)))
    if expected is None or got is None:
        return expected is None and (got is None or got == "")
    if isinstance(got, float) or isinstance(expected, float):
        return isinstance(expected, (int, float, Decimal)) and math.isclose(
            float(expected), float(got), rel_tol=_NEAR, abs_tol=0.0
        )
    return bool(expected == got)


def _of_table(table: Table, run: ExampleRun) -> Finding:
    example = run.example
    parts = []
    fix = ""
    for name in run.broken:
        expected, got = example.expected[name], run.got.get(name)
        parts.append(f"{name} is to be {write_plain(expected)} and is {_said(got)}")
        output = table.output(name)
        is_listed = output.type == "text" and table.match != "every"
        if is_listed and expected is not None and not (table.lookup is None and table.computed(output)):
            classes = [str(one) for one in table.classes(output)]
            if expected not in classes:
                parts[-1] = f"{name} is to be {expected!r}, which the table never gives"
                fix = did_you_mean(str(expected), classes) or f"it gives: {listed(classes)}"
    rows = f"row {run.rows[0]}" if len(run.rows) == 1 else f"rows {listed(run.rows)}"
    by = f"{rows} decide{'s' if len(run.rows) == 1 else ''}" if run.rows else "no row matches"
    places = [example.place, *(_place_of_row(table, number) for number in run.rows)]
    return finding(
        "example",
        f"{run.title}: {', '.join(parts)}; {by}",
        table=table.name,
        rows=run.rows,
        places=tuple(place for place in places if place is not None),
        witness={name: write_plain(example.values.get(name)) for name in table.reads},
        remedy=fix
        or (f"correct {rows}, or the example" if run.rows else "add a row, or correct the example"),
    )


def _place_of_row(table: Table, number: int) -> Any:
    return table.rows[number - 1].place if table.lookup is None else table.lookup.locate_row(number)


def _said(got: Any) -> str:
    return "nothing" if got is None or got == [] else write_plain(got)


def _of_formula(formula: Formula) -> Iterator[Finding]:
    examples = formula.examples
    if not examples:
        return
    places = (formula.place,) if formula.place else ()
    if formula.has_windows:
        yield finding(
            "example",
            "it looks at other rows, so examples of single rows say nothing of it",
            table=formula.name,
            is_of_formula=True,
            places=places,
            remedy="leave its examples out",
        )
        return
    columns = _columns(dict.fromkeys(formula.reads), examples)
    reads = tuple(Read(name, name, from_source=True) for name in columns)
    step, fault = FormulaStep(formula, reads, (formula.name,)).typed(lambda read: columns[read.name].kind)
    if fault is not None:
        yield replace(fault, kind="example", message=f"its examples: {fault.message}")
        return
    # A strict formula would stop at the first value without a result: here each is told.
    stage = replace(step, formula=replace(formula, is_strict=False)).start(
        with_report=False, refuses_overlaps=False
    )
    try:
        made = stage.apply(columns, 0, len(examples))[formula.name].as_arrow().to_pylist()
    except DataError as error:
        yield finding("example", error.problem, table=formula.name, is_of_formula=True, places=places)
        return
    for example, value in zip(examples, made, strict=True):
        expected = example.expected[formula.name]
        if isinstance(expected, str) and not isinstance(value, str):
            expected = _typed_like(expected, step.type)
        run = ExampleRun(replace(example, expected={formula.name: expected}), {formula.name: value})
        if run.broken:
            yield finding(
                "example",
                f"{run.title}: it is to be {write_plain(expected)} and is {_said(value)}",
                table=formula.name,
                is_of_formula=True,
                places=(example.place,) if example.place else places,
                witness={name: write_plain(example.values.get(name)) for name in formula.reads},
                remedy="correct the formula, or the example",
            )


def _typed_like(text: str, kind: ValueType | None) -> Any:
    converted = convert_text(pa.array([text]), kind or "text")
    return text if converted.bad is not None else converted.array[0].as_py()


def examples_apart(old: Table, new: Table) -> tuple[str, ...]:
    """Return the examples of two versions that tell them apart, in words."""
    told: dict[str, None] = {}
    for table in (new, old):
        if not table.examples:
            continue
        pair = [run_examples(one, table.examples) for one in (old, new)]
        for before, after in zip(*pair, strict=True):
            changed = [
                name
                for name in after.got
                if name in before.got and not is_same(before.got[name], after.got[name])
            ]
            parts = [f"{name} {_said(before.got[name])} -> {_said(after.got[name])}" for name in changed]
            if parts:
                told.setdefault(f"{before.title}: {', '.join(parts)}")
    return tuple(told)
