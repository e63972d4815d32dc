"""What is worked out of a value once, and kept with it."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any, TypeVar

Owner = TypeVar("Owner")
Made = TypeVar("Made")


def kept(work: Callable[[Owner], Made]) -> Callable[[Owner], Made]:
    """Keep with its owner what `work` makes of it, so that it is made once: the owner does not change."""

    @functools.wraps(work)
    def made_once(owner: Owner) -> Made:
        known: dict[Callable[..., Any], Any] = owner.__dict__.setdefault("_kept", {})
        if work not in known:
            known[work] = work(owner)
        made: Made = known[work]
        return made

    return made_once
