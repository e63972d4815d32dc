"""What stands for a class in a picture: a colour and a pattern, the same wherever the class is drawn.

They are chosen from all classes that a table can give, never from those that some data happens to hold. A class that
the table says is good or bad has the colour of that; others that have an order go from light to dark; the rest have
the colours of Okabe and Ito (2008), which eyes of all kinds tell apart. Where two colours would look alike to some eyes,
or in grey, the later class gets a pattern too.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache

from kivvet.core.picture.colour_sight import are_told_apart, ramp
from kivvet.core.run.cross_table import Label
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.table import Table
from kivvet.core.words.values import Value, write_value


@dataclass(frozen=True, slots=True)
class Paint:
    """A colour as ``#rrggbb``, and a pattern drawn over it, in Matplotlib's words for hatches; empty for none."""

    colour: str
    pattern: str = ""


#: What is drawn for rows without a class, and for what is no class.
NO_CLASS: Mapping[str, Paint] = {
    "missing": Paint("#ffffff"),
    "unfinished": Paint("#ffffff", "..."),
    "unmatched": Paint("#ffffff", "xxx"),
    "rest": Paint("#b4b4b4", "---"),
}
PLAIN = Paint("#4477aa")
#: The words of `meaning` that choose colours, and the line that several classes of one word go along.
MEANINGS: Mapping[str, tuple[str, ...]] = {
    "good": ("#2166ac", "#8fc0e3"),
    "fair": ("#f4dd7e", "#fbf3c8"),
    "bad": ("#e58a3c", "#9c2f14"),
    "unknown": ("#b8b8b8", "#8f8f8f"),
}
_ORDERED = ("#f5e3a1", "#d9a04c", "#9a6a6e", "#4f5d91", "#152f57")
_SEVERAL = ("#0072b2", "#e69f00", "#009e73", "#f0e442", "#cc79a7", "#56b4e9", "#d55e00", "#6b6b9e")
_PATTERNS = ("", "///", "...", "\\\\\\", "xxx", "---", "ooo", "|||", "+++", "***")
#: Classes of one output that are told apart; of more, colours and patterns repeat.
MOST_TOLD_APART = 80
_MOST_RANKED = 9  # classes in order that a line from light to dark is cut into; more repeat it


def paints_of_output(table: Table, output: Output) -> dict[str, Paint]:
    """Return by class of an output what stands for it."""
    classes = tuple(map(write_value, table.classes(output)))
    order = classes if table.is_ordered(output) else tuple(sorted(classes))
    meaning = dict(output.meaning)
    if (of_missing := _class_of_missing(table, output)) is not None:
        meaning.setdefault(of_missing, "unknown")
    return dict(paints(order, tuple(sorted(meaning.items())), is_ordered=table.is_ordered(output)))


def _class_of_missing(table: Table, output: Output) -> str | None:
    """Return the class that rows get only where an input is missing; None where there is none."""
    given = table.missing.get(output.name)
    place = table.outputs.index(output)
    others = {row.results[place] for row in table.rows} | {table.otherwise.get(output.name)}
    if given is None or given in others or (table.lookup is not None and _holds(table, place, given)):
        return None
    return write_value(given)


def _holds(table: Table, place: int, given: Value) -> bool:
    assert table.lookup is not None
    return given in table.lookup.results[place].unique().to_pylist()


def paints_of_labels(labels: Iterable[Label]) -> dict[Label, Paint]:
    """Return what stands for labels of something that is no class of a table."""
    labels = list(labels)
    values = tuple(str(label) for label in labels if label.kind == "value")
    is_ordered = not any(isinstance(label.value, str) for label in labels if label.kind == "value")
    known = paints(values, (), is_ordered=is_ordered)
    return {label: known[str(label)] if label.kind == "value" else NO_CLASS[label.kind] for label in labels}


def plain_paints(labels: Iterable[Label]) -> dict[Label, Paint]:
    """Return one paint for all that is no class, where each label is written beside what is drawn."""
    return {label: PLAIN if label.kind == "value" else NO_CLASS[label.kind] for label in labels}


def paints(
    classes: tuple[str, ...], meaning: tuple[tuple[str, str], ...], *, is_ordered: bool
) -> Mapping[str, Paint]:
    """Return by class a colour and a pattern, no two alike as far as patterns go.

    Parameters
    ----------
    classes : tuple of str
        All of them, in order.
    meaning : tuple of (str, str)
        By class its word in the table.
    is_ordered : bool
    """
    if len(classes) > MOST_TOLD_APART:
        colours = _colours(classes, dict(meaning), is_ordered=is_ordered)
        return {
            one: Paint(colours[one], _PATTERNS[place // len(_SEVERAL) % len(_PATTERNS)])
            for place, one in enumerate(classes)
        }
    return _told_apart(classes, meaning, is_ordered=is_ordered)


@lru_cache(maxsize=256)
def _told_apart(
    classes: tuple[str, ...], meaning: tuple[tuple[str, str], ...], *, is_ordered: bool
) -> Mapping[str, Paint]:
    """Return paints of which each has another pattern than those before that some eyes would take for it."""
    colours = _colours(classes, dict(meaning), is_ordered=is_ordered)
    made: dict[str, Paint] = {}
    taken: dict[str, list[str]] = {}
    for paint in NO_CLASS.values():
        taken.setdefault(paint.pattern, []).append(paint.colour)
    for place, one in enumerate(classes):
        free = (
            pattern
            for pattern in _PATTERNS
            if all(are_told_apart(colours[one], other) for other in taken.get(pattern, ()))
        )
        pattern = next(free, _PATTERNS[place % len(_PATTERNS)])
        taken.setdefault(pattern, []).append(colours[one])
        made[one] = Paint(colours[one], pattern)
    return made


def _colours(classes: Sequence[str], meaning: Mapping[str, str], *, is_ordered: bool) -> dict[str, str]:
    found: dict[str, str] = {}
    for word, stops in MEANINGS.items():
        of_word = [one for one in classes if meaning.get(one, "").lower() == word]
        if of_word:
            several = (
                ramp(stops, len(of_word)) if len(of_word) > 1 else [stops[0] if word != "bad" else "#c0512a"]
            )
            found |= dict(zip(of_word, several, strict=True))
    others = [one for one in classes if one not in found]
    if is_ordered and all(meaning.get(one, "").lower() == "unknown" for one in found):
        line = ramp(_ORDERED, min(max(len(others), 2), _MOST_RANKED))
    else:
        line = list(_SEVERAL)
    return found | {one: line[place % len(line)] for place, one in enumerate(others)}
