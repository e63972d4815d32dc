"""Regions, places and results as messages write them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from kivvet.core.tables.table import UNFINISHED, WHEN, Result
from kivvet.core.words.conditions import KEYWORDS, write_literal
from kivvet.core.words.values import Value, write_value

_LONGEST_REGION = 100  # characters of a region in a message; the whole of it is in `region`


def write_region(region: Mapping[str, str]) -> str:
    """Return a region as ``oxygen < 4, method not strip, flow > capacity``."""
    return ", ".join(text if name == WHEN else write_asked(name, text) for name, text in region.items())


def write_asked(name: str, text: str) -> str:
    """Return a condition with its input: ``oxygen < 4``, ``ph 6.5 to 8.5``, ``method = kit | strip``."""
    is_value = text[:1] not in "<>" and not text.startswith("not ") and " to " not in text
    return f"{name} = {text}" if is_value and text not in KEYWORDS else f"{name} {text}"


def shortened(text: str, longest: int = _LONGEST_REGION) -> str:
    """Return text that fits a message."""
    return text if len(text) <= longest else text[: longest - 3] + "..."


def write_witness(value: Value | None) -> str:
    """Return a witness as it reads after ``input = ``."""
    return "missing" if value is None else write_literal(value)


def write_results(results: Sequence[Result]) -> str:
    """Return results as they read in a message."""
    return ", ".join(
        "blank" if result is UNFINISHED else "missing" if result is None else write_value(result)  # type: ignore[arg-type]
        for result in results
    )
