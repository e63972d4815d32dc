"""Reading promises: a grammar of a few plain sentences, conditions in them as cells write them.

    [where INPUT CONDITION [and INPUT CONDITION]...,] OUTPUT CONDITION
    [where ...,] OUTPUT is never CONDITION
    [where ...,] OUTPUT is at least CLASS   (at most, by the order of the classes)
    [where ...,] OUTPUT means WORD          (the classes of that meaning)
    every class of OUTPUT can occur
    as INPUT rises, OUTPUT never falls      (never rises; as INPUT and INPUT rise)

A condition begins with ``<``, ``<=``, ``>`` or ``>=``, or with ``is``: ``ph is 6.5 to 8.5``, ``method is PR | KN``.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from typing import TypeVar

from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import Table
from kivvet.core.words.condition_parser import ConditionError, parse_condition
from kivvet.core.words.conditions import AllOf, AnyOf, Condition, Equals, Negation
from kivvet.core.words.places import Place
from kivvet.core.words.promises import OccursPromise, OrderPromise, Promise, ResultPromise
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import did_you_mean, listed

_NAME = r"""(?:"[^"]+"|[^\s",<>=]+)"""
_ORDER = re.compile(
    rf"as (?P<inputs>{_NAME}(?: and {_NAME})*) rises?, (?P<output>{_NAME}) never (?P<way>falls|rises)"
)
_NAMES = re.compile(rf"({_NAME})(?: and )?")
_OCCURS = re.compile(rf"every class of (?P<output>{_NAME}) can occur")
_BEGINS = r"(?:is |means |<|>)"
_WHERE = re.compile(rf"where (?P<asked>.+?), (?P<result>{_NAME} ?{_BEGINS}.+)", re.S)
_PART = re.compile(rf"(?P<name>{_NAME}) ?(?P<asks>{_BEGINS}.+)", re.S)
_AND = re.compile(rf" and (?={_NAME} ?{_BEGINS})")
_LIMIT = re.compile(r"is at (?P<way>least|most) (?P<cls>.+)")
_EXAMPLES = (
    'such as "as oxygen rises, status never falls", "where oxygen < 2, status is poor", "rate <= 0.4", '
    '"every class of status can occur"'
)
_Column = TypeVar("_Column", Input, Output)


class PromiseError(ValueError):
    """A text that is no promise about a table.

    Attributes
    ----------
    problem, fix, kind : str
    """

    def __init__(self, problem: str, fix: str = "", kind: str = "syntax") -> None:
        super().__init__(problem)
        self.problem, self.fix, self.kind = problem, fix, kind


def read_promise(text: str, table: Table, place: Place | None = None) -> Promise:
    """Return the promise about a table that a text writes.

    Raises
    ------
    PromiseError
        If it writes none, or names what the table has not.
    """
    inputs, outputs = table.inputs, table.outputs
    said = " ".join(text.split())
    if found := _ORDER.fullmatch(said):
        rising = [_named(name, inputs, "input") for name in _NAMES.findall(found["inputs"])]
        output = _named(found["output"], outputs, "output")
        for about in rising:
            if about.type in ("text", "boolean"):
                raise PromiseError(
                    f"{about.name} is {about.type}, which does not rise", "name a number or a date", "type"
                )
        _need_order(output)
        names = tuple(dict.fromkeys(about.name for about in rising))
        return OrderPromise(text, output.name, names, found["way"] == "rises", place=place)
    if found := _OCCURS.fullmatch(said):
        return OccursPromise(text, _named(found["output"], outputs, "output").name, place=place)
    asked: dict[str, Condition] = {}
    if found := _WHERE.fullmatch(said):
        for part in _AND.split(found["asked"]):
            about, cell = _part(part, inputs, "input")
            if about.name in asked:
                raise PromiseError(
                    f"{about.name} is asked twice", "write one condition for it, such as 2 to 4"
                )
            asked[about.name] = _condition(cell, about.type, about.name)
        said = found["result"]
    elif said.startswith("where "):
        raise PromiseError(
            "after `where` the conditions end with a comma, and what they demand follows", _EXAMPLES
        )
    output, cell = _part(said, outputs, "output")
    demanded, classes = _demanded(output, cell)
    if output.type == "text" and demanded is not None:
        for name in _texts_in(demanded):
            _class(name, [str(one) for one in table.classes(output)], output)
    return ResultPromise(text, output.name, asked, demanded, classes, place=place)


def _part(text: str, columns: Sequence[_Column], what: str) -> tuple[_Column, str]:
    found = _PART.fullmatch(text.strip())
    if found is None:
        raise PromiseError(
            f"{text!r} says nothing of a result" if what == "output" else f"{text!r} is no condition",
            _EXAMPLES,
        )
    return _named(found["name"], columns, what), found["asks"].strip()


def _named(given: str, columns: Sequence[_Column], what: str) -> _Column:
    name = given.strip('"')
    for column in columns:
        if column.name == name:
            return column
    names = [column.name for column in columns]
    fix = did_you_mean(name, names) or f"{what}s: {listed(names, 20)}"
    raise PromiseError(f"{name!r} is no {what} of the table", fix, "unknown-column")


def _demanded(output: Output, cell: str) -> tuple[Condition | None, tuple[str, ...]]:
    """Return what is demanded of a result: a condition, or the classes that are kept."""
    if limit := _LIMIT.fullmatch(cell):
        _need_order(output)
        if output.type != "text":
            sign = ">=" if limit["way"] == "least" else "<="
            return _condition(f"{sign} {limit['cls']}", output.type, output.name), ()
        at = _class(limit["cls"].strip('"'), output.order, output)
        return None, output.order[at:] if limit["way"] == "least" else output.order[: at + 1]
    if cell.startswith("means "):
        word = cell.removeprefix("means ").strip('"')
        classes = tuple(name for name, meaning in output.meaning.items() if meaning == word)
        if not classes:
            known = dict.fromkeys(output.meaning.values())
            raise PromiseError(
                f"no class of {output.name} means {word!r}",
                did_you_mean(word, known) or f"meanings: {listed(known)}",
            )
        return None, classes
    for word in ("is never ", "is not "):
        if cell.startswith(word):
            return Negation(_condition(f"is {cell.removeprefix(word)}", output.type, output.name)), ()
    return _condition(cell, output.type, output.name), ()


def _texts_in(condition: Condition) -> Iterator[str]:
    """Yield the texts that a condition names."""
    match condition:
        case Equals(value):
            yield str(value)
        case Negation(part):
            yield from _texts_in(part)
        case AnyOf(parts) | AllOf(parts):
            for part in parts:
                yield from _texts_in(part)


def _class(name: str, classes: Iterable[str], output: Output) -> int:
    known = list(classes)
    if name not in known:
        raise PromiseError(
            f"{name!r} is no class of {output.name}",
            did_you_mean(name, known) or f"classes: {listed(known, 20)}",
        )
    return known.index(name)


def _need_order(output: Output) -> None:
    if output.type == "boolean" or (output.type == "text" and not output.order):
        raise PromiseError(
            f"the classes of {output.name} have no order, by which a result rises or falls",
            f'say it: outputs.{output.name} = {{ type = "text", order = [...] }}, the lowest first',
        )


def _condition(cell: str, kind: ValueType, name: str) -> Condition:
    text = cell.removeprefix("is ").strip()
    try:
        return parse_condition(text, kind)
    except ConditionError as error:
        fix = error.fix or f"expected: {error.expected}"
        raise PromiseError(f"{text!r} is no condition on {name}: {error.problem}", fix, error.kind) from error
