"""The space of a table of several inputs: each dimension cut into cells, each row a box of them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from kivvet.core.formulas.tree import And, Constant, IsNull, Not, Or, write_formula, write_name
from kivvet.core.formulas.tree import Condition as FormulaCondition
from kivvet.core.space.axes import Axis, WholeAxis
from kivvet.core.space.cells import CellCut, row_masks
from kivvet.core.space.table_space import axes_of, open_dimensions, row_regions
from kivvet.core.space.text_axis import TextAxis
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import WHEN, ComputedInput, Table
from kivvet.core.words.conditions import (
    AnyOf,
    AnyValue,
    Condition,
    Equals,
    IsMissing,
    Negation,
    write_condition,
)
from kivvet.core.words.regions import HIGH, LOW, Cut, Region, complement, union
from kivvet.core.words.values import Value

_MOST_VALUES = 50
_SIGN_WORDS = {
    frozenset((-1,)): "<",
    frozenset((-1, 0)): "<=",
    frozenset((0,)): "=",
    frozenset((-1, 1)): "<>",
    frozenset((0, 1)): ">=",
    frozenset((1,)): ">",
}


@dataclass(frozen=True)
class Dimension:
    """One input, or one computed input, cut into cells; the last cell is missing.

    Attributes
    ----------
    about, axis, test
        The input; `test` is None for a declared one.
    cut : CellCut
    conditions : tuple of Condition
        What each row asks.
    masks : tuple of int
        For each cell the rows that accept it, row k as bit k.
    names_missing : bool
        Whether some row asks for missing: only then missing takes part in gaps.
    is_open : bool
        Whether what no row lists is no gap.
    """

    about: Input
    axis: Axis
    test: ComputedInput | None
    cut: CellCut
    conditions: tuple[Condition, ...]
    masks: tuple[int, ...]
    names_missing: bool
    is_open: bool

    @property
    def missing(self) -> int:
        """The number of the cell of missing values."""
        return len(self.cut.cells)

    @cached_property
    def possible(self) -> int:
        """All cells, as bits, but for missing where what is asked is never unknown."""
        is_known = (
            self.test is not None and self.test.whole is not None and _is_never_unknown(self.test.whole)
        )
        return self.present if is_known else self.whole

    @cached_property
    def whole(self) -> int:
        """All cells, as bits."""
        return (1 << len(self.masks)) - 1

    @cached_property
    def present(self) -> int:
        """All cells but missing, as bits."""
        return self.whole >> 1

    @cached_property
    def inside(self) -> int:
        """The present cells of the domain, as bits."""
        return sum(1 << number for number, cell in enumerate(self.cut.cells) if cell.in_domain)

    @cached_property
    def free_rows(self) -> int:
        """The rows that ask nothing."""
        return sum(
            1 << row for row, condition in enumerate(self.conditions) if isinstance(condition, AnyValue)
        )

    @cached_property
    def unlisted(self) -> tuple[int, ...]:
        """Of an open dimension the cells of the values that no row names."""
        if not self.is_open:
            return ()
        return tuple(
            number
            for number, cell in enumerate(self.cut.cells)
            if cell.in_domain and not self.masks[number] & ~self.free_rows
        )

    @cached_property
    def sought(self) -> tuple[int, ...]:
        """The cells where gaps are sought."""
        unlisted = set(self.unlisted)
        found = [n for n, cell in enumerate(self.cut.cells) if cell.in_domain and n not in unlisted]
        return (*found, *([self.missing] if self.names_missing else []))

    @cached_property
    def cells_of_row(self) -> tuple[int, ...]:
        """For each row the cells it accepts, as bits."""
        return tuple(
            sum(((1 << end) - (1 << start)) for start, end in spans) | (1 << self.missing if accepts else 0)
            for spans, accepts in zip(self.cut.spans, self.cut.accepts_missing, strict=True)
        )

    @property
    def is_plain(self) -> bool:
        """Whether it is a column: declared, or named in `when` and compared with plain values."""
        return self.test is None or (self.test.compared is None and self.test.whole is None)

    @property
    def is_ordered(self) -> bool:
        """Whether neighbouring cells make a readable range."""
        return self.about.type not in ("text", "boolean") and (
            self.test is None or self.test.compared is None
        )

    def edges(self) -> list[Value]:
        """Return the values of the domain that tell its cells apart: where each begins and ends, and one within it."""
        found: dict[Value, None] = {}
        for cell in self.cut.cells:
            if not cell.in_domain:
                continue
            for end in (cell.low, cell.high):
                value = (
                    None
                    if end in (LOW, HIGH)
                    else self.axis.witness(cell.band, (0, end[1], 0), (0, end[1], 1))
                )
                if value is not None and any(
                    one.in_domain
                    and one.band == cell.band
                    and one.low < (0, end[1], 1)
                    and (0, end[1], 0) < one.high
                    for one in self.cut.cells
                ):
                    found[value] = None
            found[cell.witness] = None
        return list(found)

    def touching(self, cells: int) -> int:
        """Return the rows that accept one of some cells."""
        rows = 0
        for cell in bits_of(cells):
            rows |= self.masks[cell]
        return rows

    def holding(self, cells: int) -> int:
        """Return the rows that accept every one of some cells."""
        rows = -1
        for cell in bits_of(cells):
            rows &= self.masks[cell]
        return rows

    def witness(self, cell: int) -> Value | None:
        """Return a value of a cell; None is missing."""
        return None if cell == self.missing else self.cut.cells[cell].witness

    # Writing

    def write(self, cells: int) -> str:
        """Return some cells (bits) as a condition, or for a computed input as a condition formula."""
        if self.test is not None:
            return self._write_test(cells)
        parts = []
        present = cells & self.present
        if present and present == self.present:
            parts = ["present"]
        elif isinstance(self.axis, TextAxis):
            parts = [self._write_texts(list(bits_of(present)))] if present else []
        elif self.is_open:
            parts = [text for cell in bits_of(present) for text in self._write_values(cell)]
        else:
            parts = [self.axis.write_interval(low, high) for low, high in self._runs(present)]
        return " | ".join([*dict.fromkeys(parts), *(["missing"] if cells >> self.missing & 1 else [])])

    def _write_values(self, number: int) -> Iterator[str]:
        """Yield the values of a cell one by one, where they are few: a range would say that all are known."""
        cell = self.cut.cells[number]
        is_counted = isinstance(self.axis, WholeAxis) and cell.low != LOW and cell.high != HIGH
        if is_counted and cell.high[1] - cell.low[1] <= _MOST_VALUES:
            yield from map(self.axis.write_place, range(int(cell.low[1]), int(cell.high[1])))
            return
        yield self.axis.write_interval(cell.low, cell.high)

    def _runs(self, present: int) -> Iterator[tuple[Cut, Cut]]:
        """Yield the stretches that cells next to each other make."""
        while present:
            first = (present & -present).bit_length() - 1
            shifted = present >> first
            end = first + (~shifted & (shifted + 1)).bit_length() - 1
            yield self.cut.cells[first].low, self.cut.cells[end - 1].high
            present &= -1 << end

    def _write_texts(self, present: Sequence[int]) -> str:
        axis = self.axis
        assert isinstance(axis, TextAxis)
        chosen = set(present)
        if axis.n_bands == 1:
            held = union((self.cut.cells[n].low, self.cut.cells[n].high) for n in present)
            # Stretches between cells hold no value; they belong to either side.
            if held[0][0] == LOW and held[-1][1] == HIGH:
                outside = complement(held)
                others = " | ".join(axis.write_interval(*pair) for pair in outside)
                return f"not ({others})" if len(outside) > 1 or " | " in others else f"not {others}"
            return axis.write_region(Region((held,)))
        by_row = [{n for n in bits_of(cells) if n != self.missing} for cells in self.cells_of_row]
        for row, cells in enumerate(by_row):
            if cells == chosen and not isinstance(self.conditions[row], (AnyValue, IsMissing)):
                asked = self.conditions[row]
                accepts_missing = self.cut.accepts_missing[row]
                return write_condition(_of_present(asked) if accepts_missing else asked)
        everything = set(range(self.missing))
        apart = {
            self.conditions[row]: cells for row, cells in enumerate(by_row) if cells and not cells & chosen
        }
        if apart and everything - set().union(*apart.values()) == chosen:
            return write_condition(Negation(_any_of(list(apart))))
        parts: dict[str, None] = {}
        for cell in present:
            inside = {one: None for one, cells in zip(self.conditions, by_row, strict=True) if cell in cells}
            outside_of = {
                one: None
                for one, cells in zip(self.conditions, by_row, strict=True)
                if cells and cell not in cells
            }
            both = [*(Negation(one) for one in inside if not isinstance(one, AnyValue)), *outside_of]
            parts[write_condition(Negation(_any_of(both))) if both else "present"] = None
        return " | ".join(parts)

    def _write_test(self, cells: int) -> str:
        test = self.test
        assert test is not None
        is_missing = bool(cells >> self.missing & 1)
        values = [self.cut.cells[cell].witness for cell in bits_of(cells) if cell != self.missing]
        parts = []
        if test.compared is not None:
            left, right = (write_formula(side) for side in test.compared)
            word = _SIGN_WORDS.get(frozenset(int(value) for value in values))  # type: ignore[arg-type]
            parts = (
                [f"{left} {word} {right}"]
                if word
                else [f"{left} = {right}", f"{left} <> {right}"]
                if values
                else []
            )
            parts += [
                f"{write_formula(IsNull(side))}"
                for side in test.compared
                if is_missing and not isinstance(side, Constant)
            ]
        elif test.whole is not None:
            text = write_formula(test.whole)
            shown = f"({text})" if isinstance(test.whole, (And, Or)) else text
            parts = [shown if value else f"NOT ({text})" for value in values]
            parts = [f"({text}) IS NOT UNKNOWN"] if len(parts) > 1 else parts
            parts += [f"({text}) IS UNKNOWN"] if is_missing else []
        else:
            name = write_name(test.about.name)
            if values and len(values) == len(self.cut.cells):
                parts = [f"{name} IS NOT NULL"]
            else:
                parts = [
                    _write_between(name, self.axis, low, high)
                    for low, high in self._runs(cells & self.present)
                ]
            parts += [f"{name} IS NULL"] if is_missing else []
        return parts[0] if len(parts) == 1 else "(" + " OR ".join(parts) + ")"


def _is_never_unknown(tree: FormulaCondition) -> bool:
    """Whether a condition is true or false whatever the values."""
    match tree:
        case IsNull():
            return True
        case Not(part):
            return _is_never_unknown(part)
        case And(parts) | Or(parts):
            return all(map(_is_never_unknown, parts))
    return False


def _any_of(parts: Sequence[Condition]) -> Condition:
    return parts[0] if len(parts) == 1 else AnyOf(tuple(parts))


def _write_between(name: str, axis: Axis, low: Cut, high: Cut) -> str:
    """Return an interval of a column as comparisons."""

    def written(cut: Cut) -> str:
        value = axis.witness(0, (0, cut[1], 0), (0, cut[1], 1))
        return write_formula(Constant(cut[1] if value is None else value))

    if low != LOW and high != HIGH and low[1] == high[1]:
        return f"{name} = {written(low)}"
    ends = []
    if low != LOW:
        ends.append(f"{name} {'>' if low[2] else '>='} {written(low)}")
    if high != HIGH:
        ends.append(f"{name} {'<=' if high[2] else '<'} {written(high)}")
    return " AND ".join(ends)


def bits_of(mask: int) -> Iterator[int]:
    """Yield the numbers of the bits that are set, from the lowest."""
    while mask:
        lowest = mask & -mask
        yield lowest.bit_length() - 1
        mask ^= lowest


class Space:
    """All dimensions of a table."""

    def __init__(self, table: Table) -> None:
        self.table = table
        self.dimensions = tuple(self._dimension(number) for number in range(len(table.dimensions)))

    def _dimension(self, number: int) -> Dimension:
        table = self.table
        axis, regions = axes_of(table)[number], row_regions(table, number)
        test = table.computed_inputs[number - len(table.inputs)] if number >= len(table.inputs) else None
        # Less, equal and greater are three places, whether or not rows tell them apart.
        signs = (
            [axis.region(Equals(sign)) for sign in (-1, 0, 1)] if test is not None and test.compared else []
        )
        cut = CellCut.of(axis, [*regions, *signs], axis.domain)
        cut = replace(
            cut, spans=cut.spans[: len(regions)], accepts_missing=cut.accepts_missing[: len(regions)]
        )
        missing = sum(1 << row for row, accepts in enumerate(cut.accepts_missing) if accepts)
        asked = tuple(table.asked(row, number) for row in table.rows)
        return Dimension(
            table.dimensions[number],
            axis,
            test,
            cut,
            asked,
            (*row_masks(cut.spans, len(cut.cells)), missing),
            any(region.missing and _names_missing(one) for region, one in zip(regions, asked, strict=True)),
            open_dimensions(table)[number],
        )

    def region(self, box: Sequence[int], is_whole: Iterable[bool]) -> dict[str, str]:
        """Return a box (cells of each dimension, as bits) in the condition syntax, whole dimensions left out."""
        region: dict[str, str] = {}
        whens = []
        for dimension, cells, whole in zip(self.dimensions, box, is_whole, strict=True):
            if whole:
                continue
            if dimension.test is None:
                region[dimension.about.name] = dimension.write(cells)
            else:
                whens.append(dimension.write(cells))
        return {**region, WHEN: " AND ".join(whens)} if whens else region


def _of_present(condition: Condition) -> Condition:
    """Return a condition that accepts missing as one that does not: its negation, negated, speaks of values only."""
    if isinstance(condition, AnyOf):
        values = tuple(part for part in condition.parts if not isinstance(part, IsMissing))
        if values and not any(map(_names_missing, values)):
            return _any_of(values)
    return Negation(Negation(condition))


def _names_missing(condition: Condition) -> bool:
    if isinstance(condition, AnyOf):
        return any(map(_names_missing, condition.parts))
    return isinstance(condition, IsMissing)
