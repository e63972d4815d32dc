"""Examples: cases kept with a table or a formula that must come out so."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from kivvet.core.words.places import Place
from kivvet.core.words.values import Value


@dataclass(frozen=True)
class Example:
    """One case: values, and the results that they must get.

    Attributes
    ----------
    number : int
        Counted from 1, the headings left out.
    values : mapping of str to (value or None)
        By column read; None is missing, and so is what is left out.
    expected : mapping of str to (value or None)
        By output; what is left out is not asked. None is no result. Several results, of a table with
        ``match = "every"``, are a text, with ``;`` and a blank between them.
    note : str
    place : Place or None
        Where it stands, if in a file.
    """

    number: int
    values: Mapping[str, Value | None]
    expected: Mapping[str, Value | None]
    note: str = field(default="", compare=False)
    place: Place | None = field(default=None, compare=False)
