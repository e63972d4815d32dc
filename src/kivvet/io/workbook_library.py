"""A workbook begun with the library that writes them, so that the same content makes the same bytes."""

from __future__ import annotations

import datetime as dt
import io
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from kivvet.core.words.errors import OutputError

_MADE = dt.datetime(2000, 1, 1)


@contextmanager
def fixed_workbook() -> Iterator[tuple[Any, io.BytesIO]]:
    """Give a workbook of the library and the buffer that holds it in the end; no time of writing stands in it."""
    try:
        import xlsxwriter
    except ImportError as error:
        raise OutputError(
            "workbooks are written with the extra 'workbook', which is not installed",
            fix='pip install "kivvet[workbook]"',
        ) from error
    buffer = io.BytesIO()
    book = xlsxwriter.Workbook(
        buffer, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False}
    )
    book.set_properties({"created": _MADE, "comments": "written by Kivvet"})
    yield book, buffer
    book.close()


def ink_on(colour: str) -> str:
    """Return the colour of letters that are read well on another."""
    red, green, blue = (int(colour[at : at + 2], 16) for at in (1, 3, 5))
    return "#ffffff" if 0.299 * red + 0.587 * green + 0.114 * blue < 140 else "#000000"
