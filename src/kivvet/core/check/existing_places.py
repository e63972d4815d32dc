"""Which places among the cells of several inputs exist, where statements and comparisons tie inputs to each other.

Searches that take inputs as independent are a relaxation: what they prove absent is absent. What they find is asked here.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace

from kivvet.core.check.box_search import BudgetSpentError, Steps
from kivvet.core.check.dependent import may_be_empty
from kivvet.core.linear.tied_columns import TiedColumns, stated
from kivvet.core.linear.tied_search import FoundPlace, Judge, anywhere, tied_place
from kivvet.core.linear.tied_values import witness_of
from kivvet.core.space.boxes import Space

#: Of the steps of a search over cells those that its questions about ties may take: each is far dearer.
_OF_BUDGET = 8
#: And how many more for each row: whether anything meets it takes a few.
_STEPS_A_ROW = 20


@dataclass(frozen=True)
class Answer:
    """Whether a box holds a place that exists.

    Attributes
    ----------
    exists : bool or None
        None where it is not settled, or was not asked.
    place : FoundPlace or None
    missing : frozenset of str
        Where there is a place only if some columns are missing, these.
    """

    exists: bool | None
    place: FoundPlace | None = None
    missing: frozenset[str] = frozenset()


class ExistingPlaces:
    """Questions about the tied columns of a space, within a budget of steps.

    Attributes
    ----------
    tied : TiedColumns or None
        None where no columns are tied in a way that is decided here.
    """

    def __init__(self, space: Space, budget: int) -> None:
        self.space = space
        self.tied = TiedColumns.of(space)
        self.steps = Steps(max(1, budget // _OF_BUDGET) + _STEPS_A_ROW * len(space.table.rows))

    def in_box(self, box: Sequence[int]) -> Answer:
        """Return whether a box, cells of each dimension as bits, holds a place of the domains that exists, as far as it takes
        linear statements and comparisons to say.
        """
        if self.tied is None or not self._is_tied(box):
            return Answer(True)
        try:
            within = self.in_domain(box)
            return self.of_question(lambda may_miss: self.sought(within, 0, anywhere, may_miss=may_miss))
        except BudgetSpentError:
            return Answer(None)

    def in_domain(self, box: Sequence[int]) -> list[int]:
        """Return what a box holds of the domains; of an input of which it holds nothing else, all it holds."""
        return [
            cells & (one.inside | 1 << one.missing) or cells
            for cells, one in zip(box, self.space.dimensions, strict=True)
        ]

    def _is_tied(self, box: Sequence[int]) -> bool:
        """Whether what a box constrains is tied at all."""
        assert self.tied is not None
        dimensions = self.space.dimensions
        is_whole = [cells == one.whole for cells, one in zip(box, dimensions, strict=True)]
        is_compared = any(
            form is not None and not one.is_plain and not whole
            for form, one, whole in zip(self.tied.forms, dimensions, is_whole, strict=True)
        )
        return is_compared or may_be_empty(self.space, is_whole)

    def of_question(self, ask: Callable[[frozenset[str]], FoundPlace | None]) -> Answer:
        """Return what is answered where columns may be missing: some that no statement reads at all, others only so that
        statements about them are off.
        """
        assert self.tied is not None
        stated, every = self.tied.names_stated, self.tied.names_in_rows
        if (place := ask(frozenset())) is not None or (place := ask(every - stated)) is not None:
            return Answer(True, place)
        place = ask(every)
        if place is None:
            return Answer(False)
        needed = place.missing & stated
        for name in sorted(needed):
            if (other := ask((every - stated) | needed - {name})) is not None:
                place, needed = other, needed - {name}
        return Answer(False, place, needed)

    def sought(
        self,
        within: Sequence[int],
        rows: int,
        judge: Judge,
        *,
        may_miss: Collection[str] = (),
        boxes: Sequence[Sequence[int]] = (),
    ) -> FoundPlace | None:
        """Return a place that a judge seeks; None where there is none (see `tied_place`)."""
        assert self.tied is not None
        return tied_place(self.tied, within, rows, judge, self.steps, may_miss=may_miss, boxes=boxes)

    def witness(self, place: FoundPlace | None) -> dict[str, str] | None:
        """Return the values at a place as they are written; None where they cannot be."""
        return None if place is None or self.tied is None else witness_of(self.tied, place)


def clashing(space: Space, budget: int) -> tuple[tuple[str, ...], bool]:
    """Return the fewest statements that leave no values, none of which could be left out, and whether domains take part.

    Statements are tried one by one, since steps may clash where lines do not.
    """
    domains = [
        dimension.inside if dimension.is_plain else dimension.present for dimension in space.dimensions
    ]
    everywhere = [dimension.present for dimension in space.dimensions]
    table = space.table
    texts = tuple(dict.fromkeys(given.text for _, given in stated(table)[0]))

    def is_empty(kept: Collection[str], within: Sequence[int]) -> bool:
        fewer = replace(table, given=tuple(one for one in table.given if one.text in kept))
        places = ExistingPlaces(Space(fewer), budget)
        try:
            return places.tied is not None and places.sought(within, 0, anywhere) is None
        except BudgetSpentError:
            return False

    for within in (everywhere, domains):
        if is_empty(texts, within):
            kept = texts
            for text in texts:
                fewer = tuple(one for one in kept if one != text)
                kept = fewer if is_empty(fewer, within) else kept
            return kept, within is domains
    return (), False
