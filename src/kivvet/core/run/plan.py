"""A plan: the steps that make the columns of a dataset, in the order they need, as a value."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from kivvet.core.run.formula_step import FormulaStep
from kivvet.core.run.steps import Read, Step
from kivvet.core.run.table_step import TableStep
from kivvet.core.tables.table import Table
from kivvet.core.words.findings import Finding
from kivvet.core.words.values import ValueType

TypeOfSource = Callable[[str], ValueType | None]


@dataclass(frozen=True, slots=True)
class Plan:
    """The steps in the order of computation, and the columns written, in the order listed.

    `where` is the column of true and false that tells which rows are kept; None: all are.
    """

    steps: tuple[Step, ...]
    written: tuple[str, ...]
    where: str | None = None

    @property
    def table_steps(self) -> tuple[TableStep, ...]:
        """Those of tables."""
        return tuple(step for step in self.steps if isinstance(step, TableStep))

    @property
    def formula_steps(self) -> tuple[FormulaStep, ...]:
        """Those of formulas."""
        return tuple(step for step in self.steps if isinstance(step, FormulaStep))

    @property
    def tables(self) -> Mapping[str, Table]:
        """The tables used, by name."""
        return {step.name: step.table for step in self.table_steps}

    @property
    def class_orders(self) -> Mapping[str, tuple[str, ...]]:
        """The classes in order of each written column that has such an order."""
        return {
            column: tuple(str(one) for one in step.table.classes(about))
            for step in self.table_steps
            for output, column in step.outputs
            if column in self.written
            and (about := step.table.output(output)).type == "text"
            and step.table.is_ordered(about)
        }

    def maker_of(self, column: str) -> tuple[TableStep, str] | None:
        """Return the step of the table that makes a column as an output, and which; None where none does."""
        for step in self.table_steps:
            for output, name in step.outputs:
                if name == column:
                    return step, output
        return None

    @property
    def needing_all_rows(self) -> tuple[Step, ...]:
        """Those that look at other rows."""
        return tuple(step for step in self.steps if step.needs_all_rows)

    @property
    def made_last(self) -> tuple[str, ...]:
        """The columns of steps that look at other rows, where nothing else reads these or chooses rows by them: they can be made
        when all others are; empty where they cannot, or there are none.
        """
        made = {name for step in self.needing_all_rows for name in step.made_names}
        is_read = any(
            read.column in made and not read.from_source
            for step in self.steps
            if not step.needs_all_rows
            for read in step.reads
        )
        return () if is_read or self.where is not None else tuple(sorted(made))

    def leading_to(self, wanted: Sequence[Step]) -> tuple[Step, ...]:
        """Return the wanted steps and those that make what they read, in order."""
        needed: set[str] = set()
        kept = []
        for step in reversed(self.steps):
            if step in wanted or needed.intersection(step.made_names):
                kept.append(step)
                needed.update(read.column for read in step.reads if not read.from_source)
        return tuple(reversed(kept))

    @property
    def source_columns(self) -> tuple[str, ...]:
        """The columns of the source that are read, each once."""
        return tuple(
            dict.fromkeys(read.column for step in self.steps for read in step.reads if read.from_source)
        )

    def typed(self, type_of_source: TypeOfSource) -> tuple[Plan, list[Finding]]:
        """Return the plan with the types of all that is made, and a finding for each step whose types do not
        fit.

        Types are decided here, from those of the source's columns, and nowhere else. A step whose types do not fit is
        left out, and so are those that read what it would have made.
        """
        made: dict[str, ValueType | None] = {}
        steps: list[Step] = []
        faults: list[Finding] = []
        lost: set[str] = set()

        def type_of(read: Read) -> ValueType | None:
            return read.found_in(type_of_source, made.get)

        for step in self.steps:
            if any(read.column in lost for read in step.reads if not read.from_source):
                lost.update(step.made_names)
                continue
            typed, fault = step.typed(type_of)
            if fault is not None:
                faults.append(fault)
                lost.update(step.made_names)
                continue
            made |= {column.name: column.type for column in typed.made}
            steps.append(typed)
        written = tuple(name for name in self.written if name not in lost)
        return Plan(tuple(steps), written, None if self.where in lost else self.where), faults

    @property
    def types(self) -> Mapping[str, ValueType | None]:
        """The type of each column made; None where it cannot be known."""
        return {column.name: column.type for step in self.steps for column in step.made}
