"""Rule tables as values: inputs, outputs, rows. Immutable; no data, no files."""

from __future__ import annotations

import enum
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal

from kivvet.core.axes import Axis, SignAxis, make_axis
from kivvet.core.conditions import AllOf, AnyOf, AnyValue, Condition, Equals, IsMissing
from kivvet.core.findings import Finding, Report, Severity
from kivvet.core.values import Value, ValueType
from kivvet.errors import Place

if TYPE_CHECKING:
    from kivvet.core.compiled import CompiledTable
    from kivvet.core.draft import DraftReport
    from kivvet.core.explain import Explanation
    from kivvet.core.formulas.tree import Condition as FormulaCondition
    from kivvet.core.formulas.tree import Expression
    from kivvet.core.lookup_index import LookupIndex
    from kivvet.core.lookup_rows import LookupRows
    from kivvet.core.regions import Region

#: The heading of the column of conditions over any columns; where an input has the name, it is the input.
WHEN = "when"
Match = Literal["one", "first", "every"]
#: How the results of several rows become one, under ``match = "every"``.
Combine = Literal["list", "join", "sum", "min", "max", "count", "flags"]


class Unfinished(enum.Enum):
    """A result that is still blank."""

    UNFINISHED = "unfinished"

    def __repr__(self) -> str:
        return self.name


UNFINISHED = Unfinished.UNFINISHED


@dataclass(frozen=True, slots=True)
class Computed:
    """A result that is a formula, worked out for each row of data that the row decides; `text` is its canonical form."""

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
class Period:
    """Which columns of a lookup hold the ends of a range, and whether the ends are in.

    Attributes
    ----------
    start, end : str, str or None
        Headings; without `end` each row holds until the next start of the same key.
    closed : tuple of (bool or str, bool or str)
        For each end whether it is in; or the heading of a column of true and false that says so row by row.
    """

    start: str
    end: str | None = None
    closed: tuple[bool | str, bool | str] = (True, True)


@dataclass(frozen=True, slots=True)
class Input:
    """An input of a table: what is asked about.

    Attributes
    ----------
    name : str
        Its name in the table, and of the column it reads unless a dataset says otherwise.
    type : str
        "text", "integer", "number", "boolean", "date" or "datetime".
    step, step_offset : Decimal or None, Decimal
        How fine the values are: multiples of `step` counted from `step_offset`. None: continuous
        numbers; whole numbers and days have step 1 by their type.
    domain : Condition or None
        Where gaps are sought.
    shape : str or None
        How codes look: ``A`` a letter, ``9`` a digit, more may follow.
    fold : tuple of str
        Which differences of text do not count: "case", "space", "unicode".
    required : bool
        Whether a missing value matches no row, not even `any`.
    column : str or None
        The heading of its column in the table's own file, where it is not `name`.
    tz : str or None
        The time zone that bounds are in, for columns that have one.
    period : Period or None
        For a lookup: the row holds a range of values, not one.
    domain_of : str
        The key or the classes of another table that the domain was taken from: ``station.station``.
    is_domain_fed : bool
        Whether nobody declared the domain: it is what the table is fed.
    """

    name: str
    type: ValueType
    step: Decimal | None = None
    step_offset: Decimal = Decimal(0)
    domain: Condition | None = None
    shape: str | None = None
    fold: tuple[str, ...] = ()
    required: bool = False
    column: str | None = None
    tz: str | None = None
    period: Period | None = None
    domain_of: str = ""
    is_domain_fed: bool = False


@dataclass(frozen=True, slots=True)
class Output:
    """An output of a table: a column it makes.

    Attributes
    ----------
    name, type : str
    width : int or None
        The most characters a text may have.
    order : tuple of str
        The classes in order; empty where the rows give the order, or there is none.
    meaning : mapping of str to str
        What a class means to the reader: "good", "bad" and the like.
    column : str or None
        The heading of its column in the table's own file, where it is not `name`.
    combine, separator : str
        Under ``match = "every"``: how the results of all matching rows become one.
    """

    name: str
    type: ValueType
    width: int | None = None
    order: tuple[str, ...] = ()
    meaning: Mapping[str, str] = field(default_factory=dict)
    column: str | None = None
    combine: Combine = "list"
    separator: str = ", "


@dataclass(frozen=True, slots=True)
class Test:
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


def columns_of(inputs: Sequence[Input], outputs: Sequence[Output]) -> list[Input | Output]:
    """Return inputs and outputs as one list, in the order of a row's cells."""
    return [*inputs, *outputs]


@dataclass(frozen=True, slots=True)
class Row:
    """A row: one condition for each input, one result for each output.

    `number` counts from 1, the header left out; `place` is where it stands, if in a file; `note` is a
    comment that is printed beside it. `when` is the text of its `when` cell, and `tests` what that asks of
    each dimension of the table; empty where it asks nothing.
    """

    number: int
    conditions: tuple[Condition, ...]
    results: tuple[Result, ...]
    place: Place | None = field(default=None, compare=False)
    note: str = ""
    when: str = ""
    tests: tuple[Condition, ...] = ()


@dataclass(frozen=True)
class TableParts:
    """What a rule table is made of, every text in it already understood."""

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
    drafted: DraftReport | None = None
    tests: tuple[Test, ...] = ()
    given: tuple[Given, ...] = ()
    header: tuple[str, ...] = ()  # the headings of the rows in their order; empty where there are none
    has_rows_file: bool = False
    is_complete: bool = True  # False where rows had to be left out because they could not be read


class RuleTable:
    """A rule table: rows of conditions on inputs, giving outputs.

    Parameters
    ----------
    name : str
    inputs, outputs : mapping of str to (str or mapping)
        By name, the type or a mapping of `type` and options, as in a table's file:
        ``{"ph": {"type": "number", "step": 0.1}}``.
    rows : sequence of sequences of str, numbers, dates, booleans or None
        Conditions, then results. With several inputs or outputs the first row names them.
    lookup : sequence of mappings, pandas.DataFrame or pyarrow.Table
        Instead of `rows`: keys and outputs as plain values, columns found by name.
    match : {"one", "first", "every"}
        "one": rows that meet and differ are an error; "first": the first match wins; "every": all rows that
        match give their results, which each output combines.
    given : str or sequence of str
        Statements about columns that always hold: ``"low <= high"``.
    missing, otherwise : mapping of str to value
        By output: the result where no row matches, for missing inputs and for all others.
    severity : mapping of str to {"error", "warning", "note"}
        By kind of finding.
    title, owner : str

    Raises
    ------
    TableError
        With every fault found, if the definition cannot be understood. What can be understood but
        leaves gaps or overlaps is no exception: ask `check`.
    """

    def __init__(
        self,
        name: str,
        inputs: Mapping[str, Any],
        outputs: Mapping[str, Any],
        rows: Any = None,
        *,
        lookup: Any = None,
        match: str = "one",
        missing: Mapping[str, Any] | None = None,
        otherwise: Mapping[str, Any] | None = None,
        severity: Mapping[str, str] | None = None,
        given: str | Sequence[str] | None = None,
        title: str = "",
        owner: str = "",
    ) -> None:
        from kivvet.core.table_parser import parse_table
        from kivvet.errors import TableError

        definition = {
            "inputs": inputs,
            "outputs": outputs,
            "rows": rows,
            "lookup": lookup,
            "match": match,
            "missing": missing,
            "otherwise": otherwise,
            "severity": severity,
            "given": given,
            "title": title,
            "owner": owner,
        }
        known = {
            key: value
            for key, value in definition.items()
            if not (value is None or (isinstance(value, str) and not value))
        }
        parts, findings = parse_table(name, known)
        errors = [item for item in findings if item.severity == "error"]
        if errors or parts is None:
            raise TableError(errors)
        self.parts = parts

    @classmethod
    def from_parts(cls, parts: TableParts) -> RuleTable:
        """Return the table of parts that have been read already."""
        table = cls.__new__(cls)
        table.parts = parts
        return table

    def __setattr__(self, name: str, value: object) -> None:
        if name == "parts" and "parts" in self.__dict__:
            raise AttributeError("a RuleTable does not change; make a new one")
        super().__setattr__(name, value)

    def __getstate__(self) -> dict[str, Any]:
        """Return its parts alone: what was worked out of them is worked out again."""
        return {"parts": self.parts}

    def __eq__(self, other: object) -> bool:
        """Whether another table has the same content: places in files do not count."""
        return self.parts == other.parts if isinstance(other, RuleTable) else NotImplemented

    def __hash__(self) -> int:
        return hash((self.name, self.n_rows))

    def __repr__(self) -> str:
        inputs, outputs = ", ".join(i.name for i in self.inputs), ", ".join(o.name for o in self.outputs)
        return f"<RuleTable {self.name}: {inputs} -> {outputs}, {self.n_rows} rows, match {self.match}>"

    def __str__(self) -> str:
        """Return the table as its file."""
        from kivvet.core.table_text import table_text

        return table_text(self)

    @property
    def name(self) -> str:
        return self.parts.name

    @property
    def drafted(self) -> DraftReport | None:
        """For a table drafted from classes that data holds: how well it reproduces them."""
        return self.parts.drafted

    @property
    def inputs(self) -> tuple[Input, ...]:
        return self.parts.inputs

    @property
    def outputs(self) -> tuple[Output, ...]:
        return self.parts.outputs

    @property
    def rows(self) -> tuple[Row, ...]:
        """The rows of conditions; empty for a lookup, whose rows are in `lookup`."""
        return self.parts.rows

    @property
    def lookup(self) -> LookupRows | None:
        return self.parts.lookup

    @property
    def match(self) -> Match:
        return self.parts.match

    @property
    def missing(self) -> Mapping[str, Value]:
        return self.parts.missing

    @property
    def otherwise(self) -> Mapping[str, Value]:
        return self.parts.otherwise

    @property
    def n_rows(self) -> int:
        return len(self.rows) if self.lookup is None else self.lookup.n_rows

    def output(self, name: str) -> Output:
        """Return the output of that name; KeyError if there is none."""
        return next((one for one in self.outputs if one.name == name), None) or _no_output(name)

    @property
    def tests(self) -> tuple[Test, ...]:
        """What `when` cells ask beyond the declared inputs."""
        return self.parts.tests

    @cached_property
    def dimensions(self) -> tuple[Input, ...]:
        """The inputs, then what `when` cells ask: all that decides which row wins."""
        return (*self.inputs, *(test.about for test in self.tests))

    @cached_property
    def reads(self) -> Mapping[str, Input | None]:
        """The names of all columns it reads: inputs, then those of `when` and `given`; an Input where the type is known."""
        read: dict[str, Input | None] = {about.name: about for about in self.inputs}
        for test in self.tests:
            if test.compared is None and test.whole is None:
                read[test.about.name] = test.about
        for names in (
            *(test.reads for test in self.tests),
            *(one.reads for one in self.parts.given),
            self.reads_of_results,
        ):
            for name in names:
                read.setdefault(name, None)
        return read

    @cached_property
    def deciding_reads(self) -> frozenset[str]:
        """The names of the columns that decide results; what only `given` names does not."""
        of_tests = (n for test in self.tests for n in test.reads)
        return frozenset((*(about.name for about in self.inputs), *of_tests, *self.reads_of_results))

    @cached_property
    def reads_of_results(self) -> tuple[str, ...]:
        """The names of the columns that results which are formulas read."""
        found: dict[str, None] = {}
        for row in self.rows:
            for result in row.results:
                if isinstance(result, Computed):
                    from kivvet.core.formulas.tree import columns_read

                    found.update(dict.fromkeys(columns_read(result.tree)))
        return tuple(found)

    def computed(self, output: Output) -> dict[Computed, tuple[int, ...]]:
        """Return the formulas among the results of an output, each with the places of its rows, from 0."""
        position = self.outputs.index(output)
        found: dict[Computed, tuple[int, ...]] = {}
        for place, row in enumerate(self.rows):
            result = row.results[position]
            if isinstance(result, Computed):
                found[result] = (*found.get(result, ()), place)
        return found

    def asked(self, row: Row, dimension: int) -> Condition:
        """Return what a row asks of one dimension, by its cell and its `when` together."""
        cell = row.conditions[dimension] if dimension < len(self.inputs) else AnyValue()
        test = row.tests[dimension] if row.tests else AnyValue()
        if isinstance(test, AnyValue):
            return cell
        return test if isinstance(cell, AnyValue) else AllOf((cell, test))

    @cached_property
    def axes(self) -> tuple[Axis, ...]:
        """The axis of each dimension."""
        return tuple(self._axis(number) for number in range(len(self.dimensions)))

    def _axis(self, number: int) -> Axis:
        about = self.dimensions[number]
        if number >= len(self.inputs) and self.tests[number - len(self.inputs)].compared is not None:
            return SignAxis(about.domain, about.type)
        if self.lookup is not None:
            return make_axis(about)
        domain = () if about.domain is None else (about.domain,)
        return make_axis(about, [*(self.asked(row, number) for row in self.rows), *domain])

    def regions(self, number: int) -> list[Region]:
        """Return what each row accepts of one dimension; a required input's missing is accepted by none."""
        known = self.__dict__.setdefault("_regions", {})
        if number not in known:
            axis = self.axes[number]
            made = [axis.region(self.asked(row, number)) for row in self.rows]
            is_required = self.dimensions[number].required
            known[number] = [one.without_missing() for one in made] if is_required else made
        found: list[Region] = known[number]
        return found

    @property
    def axis(self) -> Axis:
        """The axis of the only dimension."""
        (axis,) = self.axes
        return axis

    @cached_property
    def open_dimensions(self) -> tuple[bool, ...]:
        """For each dimension whether what no row lists is no gap: single values only, and no domain."""
        return tuple(self._is_open(number) for number in range(len(self.dimensions)))

    def _is_open(self, number: int) -> bool:
        column = self.dimensions[number]
        if column.domain is not None or column.shape or column.type == "boolean" or not self.rows:
            return False
        asked = [self.asked(row, number) for row in self.rows]
        if len(self.dimensions) > 1:
            asked = [one for one in asked if not isinstance(one, AnyValue)]
        return bool(asked) and all(_is_single_values(one) for one in asked)

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """All findings about the table itself, worked out once."""
        from kivvet.core.check import check_table

        return tuple(check_table(self))

    @cached_property
    def index(self) -> LookupIndex:
        """The rows of a lookup by key and range, worked out once."""
        from kivvet.core.lookup_index import LookupIndex

        assert self.lookup is not None
        return LookupIndex(self.lookup)

    @cached_property
    def compiled(self) -> CompiledTable:
        """The table ready for data, worked out once."""
        from kivvet.core.compiled import CompiledTable

        return CompiledTable(self)

    def classes(self, output: Output) -> tuple[Value, ...]:
        """Return the different results of an output, in class order.

        The declared order; else the order of the rows, then `otherwise`, then `missing`.
        """
        position = self.outputs.index(output)
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
            return tuple(f"{name}_{one}" for one in self.classes(output))
        return (name,)

    def is_ordered(self, output: Output) -> bool:
        """Whether the classes of an output have an order."""
        if self.match == "every":
            return False
        return bool(output.order) or (self.lookup is None and len(self.dimensions) == 1)

    def check(self, *, budget: int | None = None) -> Report:
        """Return a `Report` of what is wrong with the table itself; nothing is sampled, all is proven.

        Parameters
        ----------
        budget : int, optional
            How many steps each question over several inputs may take; a question that is then still open is a
            finding ``not-proven``. 200,000 by default.
        """
        from kivvet.core.check import check_table

        found = self.findings if budget is None else check_table(self, budget)
        return Report.of(found, tables=[self.name])

    def explain(self, values: Mapping[str, Any]) -> Explanation:
        """Return why `values` get the class they get.

        Parameters
        ----------
        values : mapping of str to value
            By input, and by any column that `when` reads: a plain value, None for missing. Names that are
            left out are missing; others are left alone.

        Returns
        -------
        Explanation
            The row that decides, what each row before it asks that does not hold and by how much, which
            others match too, and the nearest change of each input that gives another result.

        Raises
        ------
        DataError
            If a value is not of its input's type.
        """
        from kivvet.core.explain import explain

        return explain(self, values)

    def apply(self, frame: Any) -> Any:
        """Return `frame` with this table's outputs as new columns on the right.

        Parameters
        ----------
        frame : pandas.DataFrame or pyarrow.Table
            Has a column of the name of each input. It is not changed.

        Returns
        -------
        The same kind of frame, rows in the same order. Text outputs are categorical (dictionary in
        Arrow), ordered where the classes have an order; missing results are missing.

        Raises
        ------
        TableError
            If `check` finds errors.
        DataError
            If a column is absent or of a type the table does not read.
        """
        from kivvet.core.apply_frame import apply_tables

        return apply_tables(frame, [self], with_report=False).frame

    def apply_with_report(self, frame: Any) -> Any:
        """Do as `apply` does, and return an `Applied`: the frame and a report that accounts for every row."""
        from kivvet.core.apply_frame import apply_tables

        return apply_tables(frame, [self])


def _no_output(name: str) -> Output:
    raise KeyError(name)


def _is_single_values(condition: Condition) -> bool:
    if isinstance(condition, AnyOf):
        return all(_is_single_values(part) for part in condition.parts)
    return isinstance(condition, (Equals, IsMissing))
