"""The records that are kept with a target, and what it holds, looked at where that is asked."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any


class KeptRecords:
    """The records kept with a target, as plain values, the newest first, and what tells what it holds from anything else.

    Parameters
    ----------
    values : list
    hash_of_content : callable
        Looks at all that the target holds; it is called once, and only where it is asked.
    """

    def __init__(self, values: list[Any], hash_of_content: Callable[[], str | None]) -> None:
        self.values, self._hash_of_content = values, hash_of_content

    @cached_property
    def content_hash(self) -> str | None:
        """The hash of what the target holds; None where there is none."""
        return self._hash_of_content()
