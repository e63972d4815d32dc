"""Rule tables as users see them: made in code, checked, explained, applied to frames."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, TypeVar

from kivvet.core.read.table_parser import parse_table
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import Match, Row, Table
from kivvet.core.words.conditions import Equals, write_condition
from kivvet.core.words.errors import DataError, TableError
from kivvet.core.words.examples import Example
from kivvet.core.words.findings import Report
from kivvet.core.words.printed import ShownInNotebooks
from kivvet.core.words.values import Value

if TYPE_CHECKING:
    from kivvet.core.compare.comparison import Comparison
    from kivvet.core.draft.from_examples import DraftReport
    from kivvet.core.picture.of_table import TableChart
    from kivvet.core.run.explanation import Explanation
    from kivvet.core.run.reports import Applied
    from kivvet.draw.chart import Chart

FrameT = TypeVar("FrameT")


class RuleTable(ShownInNotebooks):
    """A rule table: rows of conditions on inputs, giving outputs.

    Parameters
    ----------
    name : str
    inputs, outputs : mapping of str to (str or mapping)
        By name, the type or a mapping of `type` and options, as in a table's file:
        ``{"ph": {"type": "number", "step": 0.1}}``.
    rows : sequence of sequences of str, numbers, dates, booleans or None
        Conditions, then results. With several inputs or outputs the first row names them. Of one input and one output also a
        mapping: of the values as they are, ``{"PR": "probe", "a | b": "kit"}``, to their results; None stands for missing.
    lookup : sequence of mappings, or a frame of pandas, polars or Arrow
        Instead of `rows`: keys and outputs as plain values, columns found by name.
    match : {"one", "first", "every"}
        "one": rows that meet and differ are an error; "first": the first match wins; "every": all rows that
        match give their results, which each output combines.
    given : str or sequence of str
        Statements about columns that always hold: ``"low <= high"``.
    examples : sequence of sequences
        Cases that must come out so: the names of inputs and outputs, then a row each.
    promises : sequence of str
        What must hold of the results for all values: ``"as ph rises, status never falls"``.
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

    _table: Table
    _drafted: DraftReport | None

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
        examples: Sequence[Sequence[Any]] | None = None,
        promises: Sequence[str] | None = None,
        title: str = "",
        owner: str = "",
    ) -> None:
        definition = {
            "inputs": inputs,
            "outputs": outputs,
            "rows": _rows_of(rows, inputs, outputs) if isinstance(rows, Mapping) else rows,
            "lookup": lookup,
            "match": match,
            "missing": missing,
            "otherwise": otherwise,
            "severity": severity,
            "given": given,
            "examples": examples,
            "promises": promises,
            "title": title,
            "owner": owner,
        }
        said = {
            word: value
            for word, value in definition.items()
            if not (value is None or (isinstance(value, str) and not value))
        }
        table, findings = parse_table(name, said)
        errors = [found for found in findings if found.severity == "error"]
        if errors or table is None:
            raise TableError(errors)
        self._table, self._drafted = table, None

    def __setattr__(self, name: str, value: object) -> None:
        if name in self.__dict__ or name not in RuleTable.__annotations__:
            raise AttributeError("a RuleTable does not change; make a new one")
        super().__setattr__(name, value)

    def __eq__(self, other: object) -> bool:
        """Whether another table has the same content: places in files do not count."""
        return self._table == other._table if isinstance(other, RuleTable) else NotImplemented

    def __hash__(self) -> int:
        return hash(self._table)

    def __repr__(self) -> str:
        return f"<Rule{repr(self._table)[1:]}"

    def __str__(self) -> str:
        """Return the table as its file."""
        from kivvet.core.read.table_text import table_text

        return table_text(self._table)

    @property
    def name(self) -> str:
        return self._table.name

    @property
    def title(self) -> str:
        return self._table.title

    @property
    def owner(self) -> str:
        return self._table.owner

    @property
    def inputs(self) -> tuple[Input, ...]:
        return self._table.inputs

    @property
    def outputs(self) -> tuple[Output, ...]:
        return self._table.outputs

    @property
    def rows(self) -> tuple[Row, ...]:
        """The rows of conditions; empty for a lookup, whose keys and results are columns."""
        return self._table.rows

    @property
    def n_rows(self) -> int:
        return self._table.n_rows

    @property
    def match(self) -> Match:
        return self._table.match

    @property
    def missing(self) -> Mapping[str, Value]:
        return self._table.missing

    @property
    def otherwise(self) -> Mapping[str, Value]:
        return self._table.otherwise

    @property
    def examples(self) -> tuple[Example, ...]:
        """The cases kept with the table that must come out so."""
        return self._table.examples

    @property
    def promises(self) -> tuple[str, ...]:
        """What must hold of the results for all values, as it is written."""
        return tuple(promise.text for promise in self._table.promises)

    @property
    def drafted(self) -> DraftReport | None:
        """For a table drafted from classes that data holds: how well it reproduces them."""
        return self._drafted

    def classes(self, output: str) -> tuple[Value, ...]:
        """Return the different results of an output, in class order; KeyError if there is no such output.

        The declared order; else the order of the rows, then `otherwise`, then `missing`.
        """
        return self._table.classes(self._table.output(output))

    def check(self, *, budget: int | None = None) -> Report:
        """Return a `Report` of what is wrong with the table itself; nothing is sampled, all is proven.

        Parameters
        ----------
        budget : int, optional
            How many steps each question over several inputs may take; a question that is then still open is a
            finding ``not-proven``. 200,000 by default.
        """
        from kivvet.core.run.own_findings import own_findings

        return Report.of(own_findings(self._table, budget), tables=[self.name])

    def explain(self, values: Mapping[str, Any], *, wanted: str = "") -> Explanation:
        """Return why `values` get the class they get.

        Parameters
        ----------
        values : mapping of str to value
            By input, and by any column that `when` reads: a plain value, None for missing. Names that are
            left out are missing; others are left alone.
        wanted : str
            A result, or ``output=result``: the least change of inputs that gives it is sought too.

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
        from kivvet.core.run.explain import columns_of_values, explain_columns
        from kivvet.core.run.least_change import with_wanted

        columns = columns_of_values(self._table, values)
        explained = explain_columns(self._table, columns)
        return with_wanted(self._table, columns, explained, wanted) if wanted else explained

    def compare(self, against: RuleTable, *, shared: bool = False, budget: int | None = None) -> Comparison:
        """Return how the meaning of this table differs from that of an earlier version.

        Parameters
        ----------
        against : RuleTable
        shared : bool
            Whether tables of different inputs or outputs are compared on the outputs that both have; an input that one
            lacks is one it never asks about.
        budget : int, optional
            How many steps the search may take where there are several inputs; what is then still open is not
            proven. 200,000 by default.

        Returns
        -------
        Comparison
            Its `regions` are the regions whose results differ, with both results and an example each.

        Raises
        ------
        DataError
            If inputs or outputs differ and `shared` is false, or an input has types that cannot be compared.
        """
        from kivvet.core.check.box_search import DEFAULT_BUDGET
        from kivvet.core.compare.compare import compare_tables
        from kivvet.core.promises.decide import promises_apart
        from kivvet.core.run.examples import examples_apart

        steps = DEFAULT_BUDGET if budget is None else budget
        made = compare_tables(
            against._table, self._table, names=("before", "now"), budget=steps, shared=shared
        )
        return replace(
            made,
            examples=examples_apart(against._table, self._table),
            promises=promises_apart(against._table, self._table),
        )

    def same_meaning(self, other: RuleTable, *, budget: int | None = None) -> bool:
        """Return whether another table gives the same results for all values, however it is written.

        Content that is the same, as ``==`` asks, is more than that.

        Raises
        ------
        DataError
            If inputs or outputs differ, or it cannot be told within the budget of steps.
        """
        made = self.compare(other, budget=budget)
        if not made.is_same and not made.is_different:
            raise DataError(
                f"whether the two versions of {self.name} mean the same is not proven",
                found=made.summary,
                fix="allow more steps: budget=2_000_000",
            )
        return made.is_same

    def simplified(self, *, budget: int | None = None) -> RuleTable:
        """Return a table of fewer rows that means the same, which is proved; an equal one where there is none.

        Rows that never decide are left out; rows that give the same and differ in one input only are joined.

        Raises
        ------
        TableError
            If the table has errors.
        DataError
            If it is a lookup, or nothing can be proved within the budget of steps.
        """
        from kivvet.core.check.box_search import DEFAULT_BUDGET
        from kivvet.core.compare.simplify import simplify

        return rule_table(simplify(self._table, DEFAULT_BUDGET if budget is None else budget).after)

    def chart(
        self,
        frame: Any = None,
        kind: TableChart | None = None,
        *,
        output: str | None = None,
        axes: Sequence[str] = (),
        panels: str | None = None,
        set: Mapping[str, Any] | None = None,  # noqa: A002 (the word of the command line)
        title: str = "",
    ) -> Chart:
        """Return a chart of the table: by itself its bounds or its regions; with data how that falls between them.

        Parameters
        ----------
        frame : pandas.DataFrame, pyarrow.Table, or any frame that gives an Arrow stream; optional
        kind : {"bars", "histogram", "map", "triangle"}, optional
            Without it, what suits the table.
        output : str, optional
            Whose classes are drawn.
        axes, panels, set
            Of a map: the two inputs along its axes; the one of which each part has a panel; values of others by input.
        title : str

        Raises
        ------
        BookError
            If there is no such input or output.
        DataError, TableError
            If it cannot be drawn so; gaps and overlaps are drawn.
        """
        from kivvet.core.picture.of_table import picture_of_table
        from kivvet.draw.chart import Chart

        picture = picture_of_table(
            self._table,
            frame,
            kind,
            output=output,
            axes=axes,
            each=panels,
            fixed={name: "missing" if value is None else str(value) for name, value in (set or {}).items()},
            title=title,
        )
        return Chart(picture, self.name)

    def apply(self, frame: FrameT) -> FrameT:
        """Return `frame` with this table's outputs as new columns on the right.

        Parameters
        ----------
        frame : pandas.DataFrame, pyarrow.Table, or any frame that gives an Arrow stream
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
        from kivvet.core.run.frames import apply_tables

        return apply_tables(frame, [self._table], with_report=False).frame

    def apply_with_report(self, frame: FrameT) -> Applied[FrameT]:
        """Do as `apply` does, and return an `Applied`: the frame and a report that accounts for every row."""
        from kivvet.core.run.frames import apply_tables

        return apply_tables(frame, [self._table])


def _rows_of(
    mapping: Mapping[Any, Any], inputs: Mapping[str, Any], outputs: Mapping[str, Any]
) -> list[list[Any]]:
    """Return the rows of a mapping: its keys are values, not conditions."""
    if len(inputs) != 1 or len(outputs) != 1:
        raise DataError(
            "a mapping of values is for one input and one output", fix="give rows, the first with names"
        )
    (about,) = inputs.values()
    kind = about.get("type") if isinstance(about, Mapping) else about

    def cell(key: Any) -> Any:
        if key is None or key == "" or key != key:  # noqa: PLR0124 (not a number)
            return "missing"
        return write_condition(Equals(key)) if isinstance(key, str) and kind == "text" else key

    return [[cell(key), "missing" if result is None else result] for key, result in mapping.items()]


def rule_table(table: Table, drafted: DraftReport | None = None) -> RuleTable:
    """Return a table that has been read already as users see it."""
    made = RuleTable.__new__(RuleTable)
    made._table, made._drafted = table, drafted
    return made


def value_of(made: RuleTable) -> Table:
    """Return the value behind a table as users see it."""
    return made._table
