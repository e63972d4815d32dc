"""Rule tables as values: inputs, outputs, rows. Immutable; no data, no files."""

from __future__ import annotations

import enum
from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from functools import cached_property
from typing import Literal

from kivvet.core.formulas.tree import Condition as FormulaCondition
from kivvet.core.formulas.tree import Expression, columns_read
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.lookup_rows import LookupRows
from kivvet.core.tables.origin import Origin
from kivvet.core.tables.review import Review
from kivvet.core.words.conditions import AllOf, AnyValue, Condition
from kivvet.core.words.examples import Example
from kivvet.core.words.findings import Severity
from kivvet.core.words.kept import KeepsWork, kept
from kivvet.core.words.places import Place
from kivvet.core.words.promises import Promise
from kivvet.core.words.values import Value

#: The heading of the column of conditions over any columns; where an input has the name, it is the input.
WHEN = "when"
Match = Literal["one", "first", "every"]


class Unfinished(enum.Enum):
    """A result that is still blank."""

    UNFINISHED = "unfinished"

    def __repr__(self) -> str:
        return self.name


UNFINISHED = Unfinished.UNFINISHED


@dataclass(frozen=True, slots=True)
class Computed:
    """A result that is a formula, worked out for each row of data that the row decides; `text` is its
    canonical form.
    """

    text: str
    tree: Expression = field(compare=False)

    def __str__(self) -> str:
        return f"= {self.text}"


#: A result: a value, None for missing, UNFINISHED, or a formula.
Result = Value | None | Unfinished | Computed


def value_or_none(result: Result) -> Value | None:
    """Return a result as a value: what is unfinished is missing."""
    return None if isinstance(result, (Unfinished, Computed)) else result


@dataclass(frozen=True, slots=True)
class ComputedInput:
    """What `when` cells ask beyond single inputs: a computed input.

    Attributes
    ----------
    about : Input
        Its name and type: a column that is no declared input; the sign of a comparison of two expressions
        (integer, -1 less, 0 equal, 1 greater); or a condition that is taken as a whole (boolean).
    compared : tuple of two expressions, or None
        For a comparison: its sides.
    whole : condition, or None
        For a condition taken as a whole.
    reads : tuple of str
        The names of the columns it needs.
    """

    about: Input
    compared: tuple[Expression, Expression] | None = None
    whole: FormulaCondition | None = None
    reads: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Given:
    """A statement that always holds, as `given` writes it, and the columns it speaks of."""

    text: str
    condition: FormulaCondition
    reads: tuple[str, ...]
    place: Place | None = field(default=None, compare=False)


@dataclass(frozen=True, slots=True)
class Row:
    """A row: one condition for each input, one result for each output.

    `number` counts from 1, the header left out; `place` is where it stands, if in a file; `note` is a comment
    that is printed beside it. `when` is the text of its `when` cell, and `when_asks` what that asks of each
    dimension of the table; empty where it asks nothing.
    """

    number: int
    conditions: tuple[Condition, ...]
    results: tuple[Result, ...]
    place: Place | None = field(default=None, compare=False)
    note: str = ""
    when: str = ""
    when_asks: tuple[Condition, ...] = ()


@dataclass(frozen=True)
class Table(KeepsWork):
    """A rule table as a value: what it is made of, every text in it already understood.

    `rows` are the rows of conditions, empty for a lookup, whose rows are in `lookup`; `computed_inputs`, what
    `when` cells ask beyond the declared inputs. What is worked out of a table is kept with it (see `kept`)
    and is no part of the value.
    """

    name: str
    inputs: tuple[Input, ...]
    outputs: tuple[Output, ...]
    rows: tuple[Row, ...] = ()
    lookup: LookupRows | None = None
    match: Match = "one"
    missing: Mapping[str, Value] = field(default_factory=dict)
    otherwise: Mapping[str, Value] = field(default_factory=dict)
    severity: Mapping[str, Severity] = field(default_factory=dict)
    title: str = ""
    owner: str = ""
    place: Place | None = field(default=None, compare=False)
    computed_inputs: tuple[ComputedInput, ...] = ()
    given: tuple[Given, ...] = ()
    header: tuple[str, ...] = ()  # the headings of the rows in their order; empty where there are none
    has_rows_file: bool = False
    is_complete: bool = True  # False where rows had to be left out because they could not be read
    note: str = field(default="", compare=False)
    origin: Origin | None = field(default=None, compare=False)
    examples: tuple[Example, ...] = ()
    promises: tuple[Promise, ...] = ()
    reviewed: Review | None = field(default=None, compare=False)

    def __hash__(self) -> int:
        return hash((self.name, self.n_rows))

    def __repr__(self) -> str:
        inputs, outputs = ", ".join(i.name for i in self.inputs), ", ".join(o.name for o in self.outputs)
        return f"<Table {self.name}: {inputs} -> {outputs}, {self.n_rows} rows, match {self.match}>"

    @property
    def n_rows(self) -> int:
        return len(self.rows) if self.lookup is None else self.lookup.n_rows

    def output(self, name: str) -> Output:
        """Return the output of that name; KeyError if there is none."""
        return next((output for output in self.outputs if output.name == name), None) or _no_output(name)

    @cached_property
    def dimensions(self) -> tuple[Input, ...]:
        """The inputs, then what `when` cells ask: all that decides which row wins."""
        return (*self.inputs, *(test.about for test in self.computed_inputs))

    @cached_property
    def steps(self) -> Mapping[str, tuple[Decimal, Decimal]]:
        """By input whose values are multiples of a step this, and the value they are counted from."""
        whole = {about.name: (Decimal(1), Decimal(0)) for about in self.inputs if about.type == "integer"}
        return whole | {
            about.name: (about.step, about.step_offset) for about in self.inputs if about.step is not None
        }

    @cached_property
    def reads(self) -> Mapping[str, Input | None]:
        """The names of all columns it reads: inputs, then those of `when` and `given`; an Input where the
        type is known.
        """
        read: dict[str, Input | None] = {about.name: about for about in self.inputs}
        for test in self.computed_inputs:
            if test.compared is None and test.whole is None:
                read[test.about.name] = test.about
        for names in (
            *(test.reads for test in self.computed_inputs),
            *(one.reads for one in self.given),
            self.reads_of_results,
        ):
            for name in names:
                read.setdefault(name, None)
        return read

    @cached_property
    def deciding_reads(self) -> frozenset[str]:
        """The names of the columns that decide results; what only `given` names does not."""
        of_tests = (n for test in self.computed_inputs for n in test.reads)
        return frozenset((*(about.name for about in self.inputs), *of_tests, *self.reads_of_results))

    @cached_property
    def reads_of_results(self) -> tuple[str, ...]:
        """The names of the columns that results which are formulas read."""
        found: dict[str, None] = {}
        for row in self.rows:
            for result in row.results:
                if isinstance(result, Computed):
                    found.update(dict.fromkeys(columns_read(result.tree)))
        return tuple(found)

    def computed(self, output: Output) -> dict[Computed, tuple[int, ...]]:
        """Return the formulas among the results of an output, each with the places of its rows, from 0."""
        known = _known_formulas(self)
        if output.name not in known:
            position = self.outputs.index(output)
            places: dict[Computed, list[int]] = {}
            for place, row in enumerate(self.rows):
                if isinstance(result := row.results[position], Computed):
                    places.setdefault(result, []).append(place)
            known[output.name] = {result: tuple(each) for result, each in places.items()}
        return known[output.name]

    def asked(self, row: Row, dimension: int) -> Condition:
        """Return what a row asks of one dimension, by its cell and its `when` together."""
        cell = row.conditions[dimension] if dimension < len(self.inputs) else AnyValue()
        test = row.when_asks[dimension] if row.when_asks else AnyValue()
        if isinstance(test, AnyValue):
            return cell
        return test if isinstance(cell, AnyValue) else AllOf((cell, test))

    def classes(self, output: Output) -> tuple[Value, ...]:
        """Return the different results of an output, in class order.

        The declared order; else the order of the rows, then `otherwise`, then `missing`.
        """
        known = _known_classes(self)
        if output.name not in known:
            known[output.name] = self._classes(output)
        return known[output.name]

    def _classes(self, output: Output) -> tuple[Value, ...]:
        position = [output.name for output in self.outputs].index(output.name)
        found: dict[Value, None] = dict.fromkeys(output.order)
        if self.lookup is not None:
            found.update(dict.fromkeys(self.lookup.distinct_results(position)))
        for row in self.rows:
            result = row.results[position]
            if (value := value_or_none(result)) is not None:
                found[value] = None
        for results in (self.otherwise, self.missing):
            if output.name in results:
                found[results[output.name]] = None
        return tuple(found)

    def names_made(self, output: Output, name: str) -> tuple[str, ...]:
        """Return the names of the columns that an output makes, when it is called `name`."""
        if self.match == "every" and output.combine == "flags":
            return tuple(f"{name}_{class_}" for class_ in self.classes(output))
        return (name,)

    def is_ordered(self, output: Output) -> bool:
        """Whether the classes of an output have an order."""
        if self.match == "every":
            return False
        return bool(output.order) or (self.lookup is None and len(self.dimensions) == 1)


@kept
def _known_classes(_: Table) -> dict[str, tuple[Value, ...]]:
    return {}


@kept
def _known_formulas(_: Table) -> dict[str, dict[Computed, tuple[int, ...]]]:
    return {}


def _no_output(name: str) -> Output:
    raise KeyError(name)
