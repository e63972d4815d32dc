"""What is found of the statements of `given` themselves: those that leave no values, and those that are not linear."""

from __future__ import annotations

from collections.abc import Iterable

from kivvet.core.check.box_rows import BoxRows
from kivvet.core.check.existing_places import clashing
from kivvet.core.formulas.tree import write_formula
from kivvet.core.linear.tied_columns import stated
from kivvet.core.words.findings import Finding
from kivvet.core.words.wording import listed


def clashing_statements(check: BoxRows) -> Iterable[Finding]:
    """Tell statements that leave no values at all: the fewest that clash."""
    if not check.table.given or check.existing.tied is None:
        return
    texts, domains = clashing(check.space, check.budget)
    if texts:
        places = tuple(one.place for one in check.table.given if one.text in texts and one.place)
        also = " and the domains of its inputs" if domains else ""
        yield check.of_rows(
            "impossible",
            f"no values meet what is given, {listed(texts, len(texts))}{also}: "
            + ("they contradict each other" if len(texts) > 1 or domains else "it contradicts itself"),
            [],
            severity="error",
            places=places or check.table_place,
            remedy="correct a statement, or leave one out",
        )


def loose_statements(check: BoxRows) -> Iterable[Finding]:
    """Tell the parts of statements that are not linear: they are held against data, and exclude nothing here."""
    for part, given in stated(check.table)[1]:
        what = write_formula(part)
        of_it = "" if what == given.text else f", a part of {given.text},"
        yield check.of_rows(
            "not-proven",
            f"what {what}{of_it} excludes is not looked into: it is no sum of numbers or dates",
            [],
            severity="note",
            places=(given.place,) if given.place else check.table_place,
            remedy="findings about these inputs are possible only; data is held against it all the same",
        )
