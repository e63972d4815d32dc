"""What is worked out of a value once, and kept with it."""

from __future__ import annotations

import copy
import functools
from collections.abc import Callable
from dataclasses import fields, is_dataclass
from typing import Any, TypeVar

_KEPT = "_kept"
Owner = TypeVar("Owner")
Made = TypeVar("Made")


def kept(work: Callable[[Owner], Made]) -> Callable[[Owner], Made]:
    """Keep with its owner what `work` makes of it, so that it is made once: the owner does not change."""

    @functools.wraps(work)
    def made_once(owner: Owner) -> Made:
        known: dict[Callable[..., Any], Any] = owner.__dict__.setdefault(_KEPT, {})
        if work not in known:
            # Of two that make it at once both get what was done first; none sees it before it is whole.
            known.setdefault(work, work(owner))
        made: Made = known[work]
        return made

    return made_once


class KeepsWork:
    """A value with which work is kept, and that is handed on without it: copied into another process, it is made again."""

    __slots__ = ()

    def __getstate__(self) -> dict[str, Any]:
        if is_dataclass(self):
            return {one.name: self.__dict__[one.name] for one in fields(self)}
        return {name: value for name, value in self.__dict__.items() if name != _KEPT}


def without_kept(owner: Owner) -> Owner:
    """Return a copy of a value with which nothing is kept yet."""
    made = copy.copy(owner)
    made.__dict__.pop(_KEPT, None)
    return made
