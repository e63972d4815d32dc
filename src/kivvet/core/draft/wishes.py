"""What the caller of a draft asks for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from kivvet.core.draft.breaks import METHODS, Method
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import write_value
from kivvet.core.words.wording import listed


@dataclass(frozen=True)
class Wishes:
    """What the caller of a draft asks for.

    Attributes
    ----------
    output : str or None
        The name of the output; None: the table's name.
    method : str or None
        How to bin numbers and dates; None: a mapping for texts and few whole numbers, round bounds otherwise.
    n_bins : int
    bounds : tuple of str
        Bounds that are given; they win over `method`.
    by_value : bool
        Whether numbers and dates too get one row a value.
    """

    output: str | None = None
    method: Method | None = None
    n_bins: int = 5
    bounds: tuple[str, ...] = ()
    by_value: bool = False


def wishes_of(
    output: str | None, method: str | None, n_bins: int, bounds: Sequence[Any], *, by_value: bool
) -> Wishes:
    """Return what is wished for, as calls give it; `DataError` where there is no such way to propose bounds."""
    if method is not None and method not in METHODS:
        raise DataError(f"{method!r} is no way to propose bounds", expected=f"one of: {listed(METHODS)}")
    texts = tuple(
        write_value(Decimal(repr(bound)) if isinstance(bound, float) else bound) for bound in bounds
    )
    return Wishes(output, method, n_bins, texts, by_value)
