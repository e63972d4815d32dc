"""Flows as values: how many rows go from which class to which when rules change."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from kivvet.core.picture.paints import NO_CLASS, PLAIN, Paint
from kivvet.core.run.impact import ColumnImpact
from kivvet.core.words.errors import DataError
from kivvet.core.words.wording import NO_CLASS as NO_CLASS_SAID
from kivvet.core.words.wording import count, shell_word

_MOST_CLASSES = 15
_REST = "(other)"


@dataclass(frozen=True)
class Flows:
    """Rows that go from classes to classes.

    Attributes
    ----------
    title : str
    before, after : str
        What the two sides are called.
    classes : tuple of (str, Paint, int, int)
        Each class in order, with its rows before and after.
    pairs : tuple of (str, str, int)
        From which class to which, with the rows; those that stay are among them.
    rows, changed : int
    notes : tuple of str
    """

    title: str
    before: str
    after: str
    classes: tuple[tuple[str, Paint, int, int], ...]
    pairs: tuple[tuple[str, str, int], ...]
    rows: int
    changed: int
    notes: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        return {
            "kind": "flows",
            "title": self.title,
            "before": self.before,
            "after": self.after,
            "rows": self.rows,
            "changed": self.changed,
            "classes": [
                {"class": name, "colour": paint.colour, "before": one, "after": two}
                for name, paint, one, two in self.classes
            ],
            "pairs": [{"before": one, "after": two, "rows": n} for one, two, n in self.pairs],
            "notes": list(self.notes),
        }

    @property
    def words(self) -> str:
        told = [f"{n:,} from {one} to {two}" for one, two, n in self.pairs if one != two]
        return f"{self.title}. {self.changed:,} of {self.rows:,} rows change. " + "; ".join(told)


def flows_of(impact: ColumnImpact, title: str, paints: Mapping[str, Paint], before: str, after: str) -> Flows:
    """Return what becomes of a column of classes as flows.

    Raises
    ------
    DataError
        If the column has no classes, or nothing of it changes.
    """
    if not impact.classes or not impact.pairs:
        raise DataError(
            f"{impact.column} has no classes that could be told apart",
            fix=f"see the rows that change: kivvet impact {shell_word(impact.column)}",
        )
    largest = sorted(impact.classes, key=lambda one: -(one[1] + one[2]))
    kept = {label for label, *_ in largest[: _MOST_CLASSES - 1]} if len(largest) > _MOST_CLASSES else None

    def shown(label: str | None) -> str:
        if kept is not None and label not in kept:
            return _REST
        return NO_CLASS_SAID if label is None else label

    sums: dict[str, tuple[int, int]] = {}
    for label, one, two in impact.classes:
        old, new = sums.get(shown(label), (0, 0))
        sums[shown(label)] = old + one, new + two
    pairs: dict[tuple[str, str], int] = {}
    for (one_label, other), number in impact.pairs.items():
        key = shown(one_label), shown(other)
        pairs[key] = pairs.get(key, 0) + number
    order = [name for name in sums if name != _REST] + [name for name in sums if name == _REST]
    special = {NO_CLASS_SAID: NO_CLASS["missing"], _REST: NO_CLASS["rest"]}
    notes = []
    if kept is not None:
        notes.append(
            f"the {len(kept)} largest of {len(impact.classes)} classes; the others are joined, and so are moves among them"
        )
    if impact.follows:
        notes.append("it changes only since what it reads does")
    return Flows(
        title,
        before,
        after,
        tuple(
            (name, special.get(name) or paints.get(name, PLAIN), *sums[name])
            for name in order
            if any(sums[name])
        ),
        tuple((one, two, n) for (one, two), n in pairs.items() if n),
        impact.rows,
        impact.changed,
        (f"{count(impact.changed, 'row')} of {impact.rows:,} change", *notes),
    )
