"""What has to be known of all rows before the first is made: gathered batch by batch, no more of it than is looked at.

Steps that look at one row at a time are run as batches come, and of what these make, as of the source, only the
columns are held that a step which looks at other rows reads.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.column import Column, column_from_arrow
from kivvet.core.columns.convert import is_text_type
from kivvet.core.columns.gathered import Gathered
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.run.execution import Execution
from kivvet.core.run.formula_step import FormulaStep
from kivvet.core.run.plan import Plan
from kivvet.core.run.steps import Step


@dataclass(frozen=True)
class AllRows:
    """The columns that steps which look at other rows read, and the steps which make what these read besides.

    Attributes
    ----------
    steps : tuple of Step
        Those that are still to be run, in order.
    source : dict of str to Column
    made : dict of str to MadeColumn
    n_rows : int
    """

    steps: tuple[Step, ...]
    source: dict[str, Column]
    made: dict[str, MadeColumn]
    n_rows: int


class LookAhead:
    """All rows of what steps that look at other rows read; given batch by batch.

    Parameters
    ----------
    plan : Plan
    """

    def __init__(self, plan: Plan) -> None:
        steps = plan.leading_to(plan.needing_all_rows)
        early = _of_single_rows(steps)
        self.steps = tuple(step for step in steps if step not in early)
        self.source_columns = Plan(steps, ()).source_columns
        self._early = Execution(Plan(early, ()), with_report=False, refuses_overlaps=False)
        made = {name for step in early for name in step.made_names}
        self._source = {name: Gathered() for name in Plan(self.steps, ()).source_columns}
        self._made = {
            read.column: _GatheredMade()
            for step in self.steps
            for read in step.reads
            if not read.from_source and read.column in made
        }
        self._by_codes: set[str] = set()  # columns of text that are held as codes into their different values
        self.n_rows = 0

    @property
    def is_of_early_steps(self) -> bool:
        """Whether all is known of what steps that look at other rows read once the steps of single rows were run."""
        return all(step.needs_all_rows for step in self.steps)

    def see(
        self,
        array_named: Callable[[str], pa.Array],
        n_rows: int,
        made: Mapping[str, MadeColumn] | None = None,
    ) -> None:
        """Take what is needed of the next rows.

        Parameters
        ----------
        array_named : callable
            By its name, a column of the source for these rows.
        made : mapping of str to MadeColumn, optional
            What the steps made of them that look at one row at a time; without it these are run.
        """
        for name, gathered in self._source.items():
            array = array_named(name)
            if not gathered.n_parts and _repeats(array):
                self._by_codes.add(name)
            gathered.add(array.dictionary_encode() if name in self._by_codes else array)
        if self._made:
            if made is None:
                made = self._early.apply(lambda name: column_from_arrow(array_named(name), name), n_rows)
            for name, columns in self._made.items():
                columns.add(made[name])
        self.n_rows += n_rows

    def all_rows(self) -> AllRows:
        """Return the columns with all their rows, and let go of the parts."""
        source = {name: column_from_arrow(one.whole(), name) for name, one in self._source.items()}
        made = {name: one.whole() for name, one in self._made.items() if one.first is not None}
        pa.default_memory_pool().release_unused()
        return AllRows(self.steps, source, made, self.n_rows)


def _of_single_rows(steps: Sequence[Step]) -> tuple[Step, ...]:
    """Return those steps, in order, of which the rows can be made apart from each other, and joined as they are."""
    found: list[Step] = []
    others: set[str] = set()
    for step in steps:
        reads_others = any(read.column in others for read in step.reads if not read.from_source)
        if step.needs_all_rows or reads_others or not _is_joined(step):
            others.update(step.made_names)
        else:
            found.append(step)
    return tuple(found)


def _is_joined(step: Step) -> bool:
    """Whether columns made of some rows each have one form, so that they can be put together."""
    if isinstance(step, FormulaStep):
        # One that stops at the first value without a result says of all rows how many there are.
        return step.type in ("number", "integer", "boolean", "date") and not step.formula.is_strict
    return all(made.type is not None for made in step.made)


class _GatheredMade:
    """One column made, part by part."""

    def __init__(self) -> None:
        self.first: MadeColumn | None = None
        self.values = Gathered()

    def add(self, part: MadeColumn) -> None:
        self.first = self.first or part
        self.values.add(part.values if part.codes is None else pa.array(part.codes))

    def whole(self) -> MadeColumn:
        assert self.first is not None
        values = self.values.whole()
        if self.first.codes is None:
            return replace(self.first, values=values)
        return replace(self.first, codes=values.to_numpy(), validity=None)


def _repeats(texts: pa.Array) -> bool:
    """Whether codes take less room than some texts do."""
    return is_text_type(texts.type) and 2 * pc.count_distinct(texts).as_py() <= len(texts)
