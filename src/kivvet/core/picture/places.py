"""What a table gives at a place of its space, as a picture shows it: a class, a gap, rows that overlap."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Literal

from kivvet.core.picture.paints import NO_CLASS, PLAIN, Paint, paints_of_output
from kivvet.core.space.boxes import bits_of
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.table import UNFINISHED, Computed, Result, Table
from kivvet.core.words.errors import BookError
from kivvet.core.words.values import write_value
from kivvet.core.words.wording import did_you_mean, listed

#: A row gives a class; several rows do, and not the same; no row holds it; no row lists it, which is no gap; no values lie there.
PlaceKind = Literal["class", "overlap", "gap", "open", "excluded"]
GAP = Paint("#ffffff", "////")
OVERLAP = Paint("#ffffff", "xxxx")
OPEN = Paint("#f1f1f1")
EXCLUDED = Paint("#ffffff", "....")


@dataclass(frozen=True, slots=True)
class Given:
    """What stands at a place: its kind, the class as it is shown, its paint, and the rows that hold it, from 1."""

    kind: PlaceKind
    label: str
    paint: Paint
    rows: tuple[int, ...] = ()


#: What stands where statements and comparisons of inputs leave no values.
NEVER = Given("excluded", "cannot be", EXCLUDED)


class Places:
    """What a table gives by the rows that hold a place.

    Parameters
    ----------
    table : Table
    output : Output
        The classes of which are shown.
    """

    def __init__(self, table: Table, output: Output) -> None:
        self.table, self.output = table, output
        self.position = table.outputs.index(output)
        self.paints = paints_of_output(table, output)
        self._known: dict[tuple[int, bool], Given] = {}

    def given(self, rows: int, *, is_open: bool = False) -> Given:
        """Return what stands where some rows (as bits) hold the values.

        Parameters
        ----------
        is_open : bool
            Whether that no row holds it is no gap.
        """
        if (rows, is_open) not in self._known:
            self._known[rows, is_open] = self._given(tuple(bits_of(rows)), is_open=is_open)
        return self._known[rows, is_open]

    def _given(self, rows: tuple[int, ...], *, is_open: bool) -> Given:
        table = self.table
        numbers = tuple(table.rows[row].number for row in rows)
        if not rows:
            if self.output.name in table.otherwise:
                return self._class(write_value(table.otherwise[self.output.name]), ())
            return Given("open", "no row lists it", OPEN) if is_open else Given("gap", "gap", GAP)
        if table.match == "first":
            return self.of_row(rows[0], numbers[:1])
        if table.match == "every":
            labels = list(dict.fromkeys(self.text_of(table.rows[row].results[self.position]) for row in rows))
            return self._class(" + ".join(labels), numbers)
        if len({table.rows[row].results for row in rows}) > 1:
            labels = list(dict.fromkeys(self.text_of(table.rows[row].results[self.position]) for row in rows))
            return Given("overlap", f"overlap: {listed(labels, 3)}", OVERLAP, numbers)
        return self.of_row(rows[0], numbers)

    def of_row(self, row: int, numbers: tuple[int, ...] | None = None) -> Given:
        """Return what a row gives."""
        result = self.table.rows[row].results[self.position]
        shown = (self.table.rows[row].number,) if numbers is None else numbers
        if result is UNFINISHED:
            return Given("class", self.text_of(result), NO_CLASS["unfinished"], shown)
        if result is None:
            return Given("class", self.text_of(result), NO_CLASS["missing"], shown)
        return self._class(self.text_of(result), shown)

    def _class(self, label: str, numbers: tuple[int, ...]) -> Given:
        return Given("class", label, self.paints.get(label, PLAIN), numbers)

    @staticmethod
    def text_of(result: Result) -> str:
        """Return a result as a picture shows it."""
        if result is UNFINISHED:
            return "(unfinished)"
        if result is None:
            return "(missing)"
        return str(result) if isinstance(result, Computed) else write_value(result)


def output_shown(table: Table, name: str | None) -> Output:
    """Return the output whose classes are drawn: the named one, else the first of text, else the first.

    Raises
    ------
    BookError
        With the near name, if there is no such output.
    """
    if name is None:
        return next((output for output in table.outputs if output.type == "text"), table.outputs[0])
    for output in table.outputs:
        if output.name == name:
            return output
    names = [output.name for output in table.outputs]
    raise BookError(
        f"table {table.name!r} has no output {name!r}",
        fix=did_you_mean(name, names) or f"it has {listed(names)}",
    )


def in_order(table: Table, output: Output, labels: Sequence[str]) -> list[str]:
    """Return classes in their order; what is none of the table's comes last."""
    ranks = {write_value(one): rank for rank, one in enumerate(table.classes(output))}
    return sorted(dict.fromkeys(labels), key=lambda one: (ranks.get(one, len(ranks)), one))


def marks(kinds: Collection[PlaceKind]) -> list[tuple[str, Paint]]:
    """Return what is said in the key of the kinds of places that are no class."""
    said = {
        "gap": ("gap: no row holds it", GAP),
        "overlap": ("overlap: rows give several classes", OVERLAP),
        "excluded": ("cannot be: no values lie there", EXCLUDED),
    }
    return [one for kind, one in said.items() if kind in kinds]
