"""Reading examples: rows of values and expected results, headings first."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from kivvet.core.read.cells import parse_result
from kivvet.core.read.options import Faults, KeyPath
from kivvet.core.tables.table import UNFINISHED
from kivvet.core.words.examples import Example
from kivvet.core.words.values import LiteralError, Value, ValueType, write_value
from kivvet.core.words.wording import count, did_you_mean, listed, repeated

_FOR_EXAMPLE = 'for example examples = [["ph", "ph_class"], ["6.4", "acidic"]]'
NOTE = "note"


def read_examples(
    given: Any,
    reads: Mapping[str, ValueType | None],
    outputs: Mapping[str, ValueType | None],
    faults: Faults,
    path: KeyPath = ("examples",),
) -> tuple[Example, ...]:
    """Return examples as values; what is wrong is told with its place, and left out.

    A blank cell is a missing value under a column, and asks nothing under an output; ``missing`` is a missing value and no
    result.

    Parameters
    ----------
    given : list of lists
        Headings, then a row for each example; a heading `note` is for words.
    reads, outputs : mapping of str to (str or None)
        The columns that may be given and the outputs that may be expected, with their types; None where it is not known.
    """
    if given is None:
        return ()
    if not isinstance(given, (list, tuple)) or not all(isinstance(row, (list, tuple)) for row in given):
        faults.add(f"examples are rows, headings first; found {given!r}", path, fix=_FOR_EXAMPLE)
        return ()
    if not given:
        return ()
    headings = [str(one).strip() for one in given[0]]
    if not _are_fit(headings, reads, outputs, faults, path):
        return ()
    made = []
    for number, row in enumerate(given[1:], 1):
        at = (*path, number)
        if len(row) != len(headings):
            faults.add(
                f"example {number} has {count(len(row), 'cell')} where the headings have {len(headings)}",
                at,
                fix=_FOR_EXAMPLE,
            )
            continue
        values: dict[str, Value | None] = {}
        expected: dict[str, Value | None] = {}
        note, is_fit = "", True
        for place, (name, cell) in enumerate(zip(headings, row, strict=True)):
            if name == NOTE and name not in reads and name not in outputs:
                note = str(cell or "")
                continue
            is_output = name in outputs
            try:
                value = _value(cell, outputs[name] if is_output else reads[name])
            except LiteralError as error:
                where = f"in example {number}, {name} is {cell!r}"
                faults.add(f"{where}; expected {error.expected}", (*at, place), fix=error.fix, kind="type")
                is_fit = False
                continue
            if is_output and value is not UNFINISHED:
                expected[name] = value
            elif not is_output and value is not UNFINISHED:
                values[name] = value
        if is_fit and not expected:
            faults.add(f"example {number} expects nothing", at, fix=f"fill in one of: {listed(outputs)}")
        elif is_fit:
            made.append(Example(number, values, expected, note, faults.locate((*faults.root, *at))))
    return tuple(made)


def _are_fit(
    headings: Sequence[str],
    reads: Mapping[str, ValueType | None],
    outputs: Mapping[str, ValueType | None],
    faults: Faults,
    path: KeyPath,
) -> bool:
    n_faults = len(faults)
    known = [*reads, *outputs]
    for place, name in enumerate(headings):
        if name not in known and name != NOTE:
            faults.add(
                f"examples name {name!r}, which is neither read nor given",
                (*path, 0, place),
                fix=did_you_mean(name, known) or f"there are: {listed(known, 20)}",
                kind="unknown-column",
            )
    for name in repeated(headings):
        faults.add(f"two columns of examples are named {name!r}", (*path, 0), fix="remove one of them")
    if len(faults) == n_faults and not any(name in outputs for name in headings):
        faults.add("examples expect nothing", (*path, 0), fix=f"add one of: {listed(outputs)}")
    return len(faults) == n_faults


def _value(cell: Any, kind: ValueType | None) -> Any:
    """Return the value of a cell; of a column whose type is not known, the text of it."""
    if kind is None:
        return parse_result(cell if isinstance(cell, str) or cell is None else write_value(cell), "text")
    return parse_result(cell, kind)
