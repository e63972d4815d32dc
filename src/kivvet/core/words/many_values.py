"""Making very many small values at once."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def many_values() -> Iterator[None]:
    """While a table's rows are made and walked over, do not look among them for circles, again and again: there are none,
    and looking takes as long as making them. Also a decorator.
    """
    if not gc.isenabled():  # someone else's choice, or an outer one of these
        yield
        return
    gc.disable()
    try:
        yield
    finally:
        gc.enable()
