"""Figures and texts as views show them: numbers of one column with the same decimals, texts without control characters,
lines of a table that fit the terminal.
"""

from __future__ import annotations

import math
import unicodedata
from collections.abc import Sequence
from typing import Any

from rich.cells import cell_len, set_cell_size

_MOST_DECIMALS = 6
_DIGITS = 4  # of values that are no short decimals
_MOST_DIGITS = 7  # of those that are; two decimals are always shown
NONE = "."


def decimals_of(values: Sequence[Any]) -> int:
    """Return how many decimals a column of numbers is shown with: as many as all of them have, up to 6; where some have
    more, as many as leave the largest four digits.
    """
    numbers = [abs(value) for value in values if isinstance(value, float) and math.isfinite(value)]
    if not numbers:
        return 0
    for decimals in range(_MOST_DECIMALS + 1):
        if all(abs(round(number, decimals) - number) <= 1e-12 * number + 1e-12 for number in numbers):
            return (
                decimals
                if decimals <= 2
                else min(decimals, max(2, _decimals_for(max(numbers), _MOST_DIGITS)))
            )
    return _decimals_for(max(numbers), _DIGITS)


def _decimals_for(largest: float, digits: int) -> int:
    """Return how many decimals leave a number so many digits."""
    return min(_MOST_DECIMALS, max(0, digits - 1 - math.floor(math.log10(largest)))) if largest else 0


def figure(value: Any, decimals: int = 0, *, is_amount: bool = True) -> str:
    """Return a value as text: amounts with marks between thousands, other numbers, which may be years or codes, without; nothing as
    a point.
    """
    if value is None:
        return NONE
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int):
        return f"{value:,}" if is_amount else str(value)
    if isinstance(value, float):
        if not math.isfinite(value):
            return "missing" if math.isnan(value) else f"{value}".replace("inf", "Infinity")
        return f"{value:,.{decimals}f}" if is_amount else f"{value:.{decimals}f}"
    return shown(str(value))


def shown(text: str) -> str:
    """Return a text as it can be shown: what steers a terminal, or turns the direction of writing, as its number."""
    if text.isprintable() and text.isascii():
        return text
    return "".join(
        sign if unicodedata.category(sign) not in ("Cc", "Cf", "Zl", "Zp", "Cs") else f"\\u{ord(sign):04x}"
        for sign in text
    )


def cut(text: str, width: int) -> str:
    """Return a text cut to a width, in columns of the terminal."""
    if cell_len(text) <= width:
        return text
    return set_cell_size(text, max(0, width - 3)).rstrip() + "..."


def padded(text: str, width: int, *, right: bool = False) -> str:
    """Return a text filled up with blanks to a width, in columns of the terminal."""
    blanks = " " * max(0, width - cell_len(text))
    return blanks + text if right else text + blanks
