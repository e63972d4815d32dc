"""Rest for the collector of cycles while very many values come that have none."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def no_collecting() -> Iterator[None]:
    """Keep the collector of cycles from going through thousands of values again and again as they come."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
