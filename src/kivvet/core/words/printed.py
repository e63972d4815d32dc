"""What is printed of a report: what the terminal shows, or a notebook, where somebody has said how that is made.

The core knows no views. Whoever puts core and views together sets `view_of`, `html_of` and `markdown_of`.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

Item = TypeVar("Item")

#: Returns what the terminal shows of a value; None where it has no view.
view_of: Callable[[object], str | None] | None = None
#: Returns what a notebook shows of a value, as HTML; None where it has no such form.
html_of: Callable[[object], str | None] | None = None
#: Returns a value as Markdown.
markdown_of: Callable[[object], str] | None = None


class ShownInNotebooks:
    """A value that a notebook shows as a table rather than as text."""

    __slots__ = ()

    def to_markdown(self) -> str:
        """Return it as Markdown, for a comment on a change, or notes."""
        return str(self) if markdown_of is None else markdown_of(self)

    def _repr_html_(self) -> str | None:
        return None if html_of is None else html_of(self)


class Printed(ShownInNotebooks):
    """A value that prints as the terminal shows it."""

    __slots__ = ()

    def __str__(self) -> str:
        view = None if view_of is None else view_of(self)
        return repr(self) if view is None else view


class Several(tuple[Item, ...], ShownInNotebooks):
    """Results of one kind, as a tuple that a notebook shows too."""

    __slots__ = ()
