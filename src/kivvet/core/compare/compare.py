"""Comparing two versions of a table by meaning: whether any value gets another result, and exactly which do.

Rows that both share cannot make a difference where only they decide, so the work is done in the boxes of the rows that
came, went, changed or moved. Nothing is sampled: with one input all cells are walked, with several the boxes are
searched within a budget of steps, and where that ends the answer is "not proven".
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from kivvet.core.check.box_search import DEFAULT_BUDGET
from kivvet.core.check.box_witness import witness_in
from kivvet.core.check.dependent import may_be_empty
from kivvet.core.check.existing_places import ExistingPlaces
from kivvet.core.compare.box_difference import MOST_BOXES, DifferenceSearch, Side
from kivvet.core.compare.change import Change
from kivvet.core.compare.comparison import ChangedRegion, Comparison, Gives
from kivvet.core.compare.line_difference import line_differences
from kivvet.core.compare.lookup_difference import MOST_ROWS_AS_CONDITIONS, LookupPair, rows_of_lookup
from kivvet.core.compare.plain_mappings import without_equal_rows
from kivvet.core.compare.versions import Joint, PriorityRow
from kivvet.core.space.axes import Axis
from kivvet.core.space.boxes import Space
from kivvet.core.space.make_axis import make_axis
from kivvet.core.space.region_text import write_witness
from kivvet.core.space.text_axis import TextAxis
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import WHEN, Table
from kivvet.core.words.conditions import AnyValue, Condition, Equals, IsMissing
from kivvet.core.words.errors import DataError
from kivvet.core.words.regions import Region
from kivvet.core.words.values import write_value
from kivvet.core.words.wording import listed

#: Regions of one input, or keys, that are listed; beyond, they are counted.
MOST_REGIONS = 1_000
#: What stands for an output where how a row of data is decided is compared too.
HOW = "decided"
_INPUT_OPTIONS = ("step", "step_offset", "shape", "fold", "tz")


def compare_tables(
    old: Table,
    new: Table,
    *,
    names: tuple[str, str] = ("before", "after"),
    budget: int = DEFAULT_BUDGET,
    shared: bool = False,
    most: int | None = None,
    every_value: bool = False,
    with_how: bool = False,
) -> Comparison:
    """Return whether two tables mean the same, and the regions whose results differ.

    Parameters
    ----------
    old, new : Table
    names : tuple of (str, str)
        What the two are called.
    budget : int
        Steps that the search may take where there are several inputs.
    shared : bool
        Whether tables of different inputs or outputs are compared on the outputs that both have; an input that one
        lacks is one it never asks about.
    most : int, optional
        Regions that are listed: by default 1,000 of one input or of a lookup, 100 of several inputs.
    every_value : bool
        Whether values count too that are finer than the step of their input, which data may hold all the same.
    with_how : bool
        Whether how a row of data is decided (matched, unfinished, unmatched and so on) counts as one more result. Neither
        holds for lookups that are compared column by column.

    Raises
    ------
    DataError
        If inputs or outputs differ and `shared` is false, or an input has types that cannot be compared.
    """
    outputs, not_compared = _compared(old, new, names, shared=shared)
    options, forms = _options(old, new, outputs)
    made = Comparison(new.name, *names, (), tuple(options), tuple(forms), not_compared)
    if any(change.region == "match" for change in options):
        return made
    if old.lookup is not None and new.lookup is not None and not _differing_inputs(old, new):
        return _of_lookups(made, old, new, outputs, most)
    old, new = without_equal_rows(_as_rows(old), _as_rows(new))
    joint = Joint.of(old, new, outputs, every_value=every_value, with_how=with_how)
    outputs = [*outputs, HOW] if with_how else outputs
    rows, sides = _numbered(joint)
    changed = [bit for bit in range(len(rows)) if not (bit in sides[0].row_of and bit in sides[1].row_of)]
    if not changed:
        return made
    if len(joint.inputs) == 1 and not joint.computed_inputs:
        about = joint.inputs[0]
        axis = make_axis(about, [row.conditions[0] for row in rows])
        if axis.n_bands == 1:
            return _of_line(made, about.name, axis, rows, changed, sides, outputs, most)
    return _of_boxes(made, joint, rows, changed, sides, outputs, budget, most)


def _compared(
    old: Table, new: Table, names: tuple[str, str], *, shared: bool
) -> tuple[list[str], tuple[str, ...]]:
    """Return the outputs that are compared, and the inputs and outputs that one of the two lacks."""
    of_old, of_new = ([output.name for output in table.outputs] for table in (old, new))
    outputs = [name for name in of_new if name in of_old]
    parts = []
    for what, before, after in (
        ("input", [input_.name for input_ in old.inputs], [input_.name for input_ in new.inputs]),
        ("output", of_old, of_new),
    ):
        parts += [f"{what} {name}, only in {names[0]}" for name in before if name not in after]
        parts += [f"{what} {name}, only in {names[1]}" for name in after if name not in before]
    if not outputs:
        raise DataError(
            f"the two versions of {new.name} share no output",
            expected=f"one of: {listed(of_old)}",
            found=listed(of_new),
        )
    if parts and not shared:
        raise DataError(
            f"the two versions of {new.name} have not the same inputs and outputs",
            found="; ".join(parts),
            fix="compare them on what they share: --shared",
        )
    return outputs, tuple(parts)


def _differing_inputs(old: Table, new: Table) -> bool:
    """Whether two lookups cannot be compared column by column: other inputs, types or folds."""
    kinds = [
        {(input_.name, input_.type, frozenset(input_.fold), input_.period is None) for input_ in table.inputs}
        for table in (old, new)
    ]
    return kinds[0] != kinds[1]


def _as_rows(table: Table) -> Table:
    if table.lookup is None:
        return table
    if table.lookup.n_rows > MOST_ROWS_AS_CONDITIONS:
        raise DataError(
            f"a lookup of {table.lookup.n_rows:,} rows is compared with lookups of the same keys only",
            expected=f"at most {MOST_ROWS_AS_CONDITIONS:,} rows otherwise",
        )
    return rows_of_lookup(table)


def _options(old: Table, new: Table, outputs: Sequence[str]) -> tuple[list[Change], list[Change]]:
    """Return the options that differ: those that decide, and those that change no result."""
    decide: list[Change] = []
    forms: list[Change] = []
    of_old = {input_.name: input_ for input_ in old.inputs}
    for after in new.inputs:
        before = of_old.get(after.name)
        which = "input" if len(new.inputs) == 1 else f"input {after.name}"
        for name in _INPUT_OPTIONS if before is not None and before.type == after.type else ():
            was, now = _option(before, name), _option(after, name)
            if was != now:
                decide.append(Change(f"{which} {name}", _option_text(was), _option_text(now)))
    for name in outputs:
        decide += _output_changes(old.output(name), new.output(name))
    if old.match != new.match:
        (decide if "every" in (old.match, new.match) else forms).append(Change("match", old.match, new.match))
    is_lookup = old.lookup is not None and new.lookup is not None
    for word in ("missing", "otherwise"):
        was, now = getattr(old, word), getattr(new, word)
        for name in outputs:
            if was.get(name) != now.get(name):
                texts = ["" if one.get(name) is None else write_value(one[name]) for one in (was, now)]
                (decide if is_lookup else forms).append(Change(f"{word} {name}", *texts))
    return decide, forms


def _option(about: Input | None, name: str) -> object:
    """Return an option of an input; folds in one order, which decides nothing."""
    value = getattr(about, name)
    return tuple(sorted(value)) if name == "fold" else value


def _option_text(value: object) -> str:
    if isinstance(value, tuple):
        return listed(value)
    return "none" if value is None else str(value)


def _output_changes(old: Output, new: Output) -> Iterator[Change]:
    if old.order != new.order or old.type != new.type:
        yield Change(
            f"output {new.name}",
            f"{old.type} {' < '.join(old.order)}".strip(),
            f"{new.type} {' < '.join(new.order)}".strip(),
        )
    if (old.combine, old.separator) != (new.combine, new.separator):
        yield Change(
            f"output {new.name} combine",
            f"{old.combine} {old.separator!r}",
            f"{new.combine} {new.separator!r}",
        )


def _of_lookups(
    made: Comparison, old: Table, new: Table, outputs: Sequence[str], most: int | None
) -> Comparison:
    try:
        found = LookupPair(old, new, outputs).differences(MOST_REGIONS if most is None else most)
    except OverflowError:
        return replace(made, is_settled=False)
    return replace(made, regions=found.regions, n_more=found.n_more)


def _numbered(joint: Joint) -> tuple[list[PriorityRow], tuple[Side, Side]]:
    """Return the rows of both versions that may decide where they differ, each once, in an order right for both, and the
    two sides with the places of their rows in it.
    """
    shared = joint.shared()
    of_new = {new: old for old, new in shared.items()}
    old_rows, new_rows = joint.old.rows, joint.new.rows
    changed = [
        *(row for place, row in enumerate(old_rows) if place not in shared),
        *(row for place, row in enumerate(new_rows) if place not in of_new),
    ]
    meets = _Meeting(joint.inputs, changed, (*old_rows, *new_rows))
    rows: list[PriorityRow] = []
    numbers: tuple[dict[int, PriorityRow], dict[int, PriorityRow]] = ({}, {})

    def add(row: PriorityRow, *versions: tuple[int, PriorityRow]) -> None:
        for version, own in versions:
            numbers[version][len(rows)] = own
        rows.append(row)

    at = [0, 0]

    def add_changed(*upto: int) -> None:
        for version, (own, done) in enumerate(((old_rows, shared), (new_rows, of_new))):
            for place in range(at[version], upto[version]):
                if place not in done:
                    add(own[place], (version, own[place]))
            at[version] = max(at[version], upto[version])

    for new_place in sorted(of_new):
        old_place, row = of_new[new_place], new_rows[new_place]
        if joint.is_ordered or not row.number:  # what is given where no row matches has an order in any case
            add_changed(old_place, new_place)
        if meets.any(row):
            add(row, (0, old_rows[old_place]), (1, row))
    add_changed(len(old_rows), len(new_rows))
    return rows, (Side(joint.old, numbers[0]), Side(joint.new, numbers[1]))


class _Meeting:
    """Which rows may share a place with rows that changed: each declared input is held against what these ask of it."""

    def __init__(
        self, inputs: Sequence[Input], changed: Sequence[PriorityRow], rows: Sequence[PriorityRow]
    ) -> None:
        self.inputs = inputs
        self.axes: list[Axis | None] = []
        self.asked: list[Region | None] = []
        self.known: list[dict[Condition, bool]] = [{} for _ in inputs]
        self.points: list[set[object] | None] = []
        for number, about in enumerate(inputs):
            conditions = list(dict.fromkeys(row.conditions[number] for row in changed))
            is_free = not conditions or any(isinstance(condition, AnyValue) for condition in conditions)
            axis = None
            if not is_free:
                axis = make_axis(replace(about, domain=None), (row.conditions[number] for row in rows))
            self.axes.append(axis)
            self.asked.append(None if axis is None else _span(axis, conditions))
            self.points.append(None if axis is None else _texts_asked(axis, conditions))

    def any(self, row: PriorityRow) -> bool:
        """Whether a row may meet one of them."""
        return all(
            self._meets(number, condition)
            for number, condition in enumerate(row.conditions[: len(self.inputs)])
        )

    def _meets(self, number: int, condition: Condition) -> bool:
        axis, asked = self.axes[number], self.asked[number]
        if axis is None or asked is None or isinstance(condition, AnyValue):
            return True
        if (points := self.points[number]) is not None and isinstance(condition, Equals):
            return axis.place(condition.value) in points
        known = self.known[number]
        if isinstance(condition, Equals):  # most rows of long mappings
            low, high = axis.lower_cut(condition.value, True), axis.upper_cut(condition.value, True)
            return any(start < high and low < end for band in asked.bands for start, end in band)
        if condition not in known:
            shared = axis.region(condition) & asked
            known[condition] = shared.missing or any(shared.bands)
        return known[condition]


def _texts_asked(axis: Axis, conditions: Sequence[Condition]) -> set[object] | None:
    """Return the texts that conditions accept, where each accepts one, or missing; None elsewhere."""
    if not isinstance(axis, TextAxis) or not all(
        isinstance(condition, (Equals, IsMissing)) for condition in conditions
    ):
        return None
    return {axis.place(condition.value) for condition in conditions if isinstance(condition, Equals)}


def _span(axis: Axis, conditions: Sequence[Condition]) -> Region:
    region = axis.region(conditions[0])
    for condition in conditions[1:]:
        region |= axis.region(condition)
    return region


def _of_line(
    made: Comparison,
    name: str,
    axis: Axis,
    rows: Sequence[PriorityRow],
    changed: Sequence[int],
    sides: tuple[Side, Side],
    outputs: Sequence[str],
    most: int | None,
) -> Comparison:
    regions = [axis.region(row.conditions[0]) for row in rows]
    counts = _span(axis, [rows[bit].conditions[0] for bit in changed])
    found: list[ChangedRegion] = []
    n_more = 0
    told: set[tuple[str, object]] = set()
    for text, cell, pair in line_differences(axis, regions, *sides, counts):
        if (text, pair) in told:
            continue
        told.add((text, pair))
        if len(found) == (MOST_REGIONS if most is None else most):
            n_more += 1
            continue
        before, after = (Gives.of(one, outputs) for one in pair)
        witness = write_witness(None if cell is None else cell.witness)
        found.append(ChangedRegion({name: text}, before, after, {name: witness}))
    return replace(made, regions=tuple(found), n_more=n_more)


def _of_boxes(
    made: Comparison,
    joint: Joint,
    rows: Sequence[PriorityRow],
    changed: Sequence[int],
    sides: tuple[Side, Side],
    outputs: Sequence[str],
    budget: int,
    most: int | None,
) -> Comparison:
    space = Space(joint.table_of(rows))
    search = DifferenceSearch(space, *sides, budget)
    existing = ExistingPlaces(space, budget)
    found = []
    for box, place, pair in search.boxes(changed, MOST_BOXES if most is None else most):
        is_whole = [cells == one.whole for cells, one in zip(box, space.dimensions, strict=True)]
        before, after = (Gives.of(one, outputs) for one in pair)
        answer = existing.in_box(box)
        if answer.exists is False and answer.place is None:
            continue  # statements and comparisons leave nothing of it
        witness = witness_in(space, place, box, is_whole)
        if (values := existing.witness(answer.place)) is not None:
            witness = {name: text for name, text in values.items() if name in witness or WHEN in witness}
        found.append(
            ChangedRegion(
                space.region(box, is_whole),
                before,
                after,
                witness,
                WHEN in witness
                or answer.exists is None
                or (bool(space.table.given) and may_be_empty(space, is_whole, only_loose=True)),
            )
        )
    n_more = None if search.has_more else 0
    return replace(made, regions=tuple(found), n_more=n_more, is_settled=search.is_settled)


def compared_rules(old: Table, new: Table, called: str) -> Comparison:
    """Return how a table differs from what it was, which is called so, whatever they have in common: types that cannot be
    compared are a difference too.
    """
    try:
        return compare_tables(old, new, names=(called, "now"), shared=True)
    except DataError as error:
        return Comparison(new.name, called, "now", (), (Change("types", "", error.problem),))


def changes_between(old: Table, new: Table, made: Comparison | None = None) -> tuple[Change, ...]:
    """Return what changed between two versions in short, whatever they have in common; in a search over several inputs
    within a fraction of the usual steps.

    Parameters
    ----------
    made : Comparison, optional
        Of the two, on what they share, where it was made already.
    """
    changes = []
    for what, before, after in (("inputs", old.inputs, new.inputs), ("outputs", old.outputs, new.outputs)):
        names = [", ".join(one.name for one in each) for each in (before, after)]
        if names[0] != names[1]:
            changes.append(Change(what, *names))
    try:
        found = made or compare_tables(old, new, budget=DEFAULT_BUDGET // 10, shared=True)
    except DataError as error:
        return (*changes, Change("types", "", error.problem))
    return (*changes, *found.changes)
