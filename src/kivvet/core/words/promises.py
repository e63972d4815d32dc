"""Promises: what must hold of the results of a table for all values, in words of our own."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from kivvet.core.words.conditions import Condition
from kivvet.core.words.places import Place


@dataclass(frozen=True)
class Promise:
    """One promise, as it is written.

    Attributes
    ----------
    text : str
    output : str
    place : Place or None
    """

    text: str
    output: str
    place: Place | None = field(default=None, compare=False, kw_only=True)


@dataclass(frozen=True)
class ResultPromise(Promise):
    """Where inputs meet conditions, a result meets one: ``where oxygen < 2, status is poor``.

    Attributes
    ----------
    asked : mapping of str to Condition
        By input; nothing is asked of the others.
    demanded : Condition or None
        Of the result.
    classes : tuple of str
        Instead, of a text, the results that are kept.
    """

    asked: Mapping[str, Condition] = field(default_factory=dict)
    demanded: Condition | None = None
    classes: tuple[str, ...] = ()

    def __hash__(self) -> int:
        return hash((self.text, self.output))


@dataclass(frozen=True)
class OccursPromise(Promise):
    """Every class of an output can result: ``every class of status can occur``."""


@dataclass(frozen=True)
class OrderPromise(Promise):
    """As inputs rise, and all others stay, a result never falls, or never rises: ``as oxygen rises, status never falls``.

    Attributes
    ----------
    inputs : tuple of str
        Each rises by itself: so does any way in which several of them rise at once.
    is_falling : bool
        Whether it is never to rise.
    """

    inputs: tuple[str, ...] = ()
    is_falling: bool = False
