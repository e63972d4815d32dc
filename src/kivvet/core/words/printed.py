"""What is printed of a report: what the terminal shows, where somebody has said how that is made.

The core knows no views. Whoever puts core and views together sets `view_of`.
"""

from __future__ import annotations

from collections.abc import Callable

#: Returns what the terminal shows of a value; None where it has no view.
view_of: Callable[[object], str | None] | None = None


class Printed:
    """A value that prints as the terminal shows it."""

    __slots__ = ()

    def __str__(self) -> str:
        view = None if view_of is None else view_of(self)
        return repr(self) if view is None else view
