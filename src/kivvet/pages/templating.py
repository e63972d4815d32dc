"""Templates of pages: everything put into them is escaped."""

from __future__ import annotations

from functools import cache
from importlib import resources
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from jinja2 import Environment


def template_text(name: str) -> str:
    """Return the text of a template."""
    return (resources.files("kivvet.pages") / "templates" / name).read_text(encoding="utf-8")


@cache
def environment() -> Environment:
    """Return what fills templates in: all text is escaped, and a name that is not there is an error."""
    from jinja2 import Environment, FunctionLoader, StrictUndefined

    return Environment(
        loader=FunctionLoader(template_text),
        autoescape=True,
        undefined=StrictUndefined,
        keep_trailing_newline=True,
    )


def filled(name: str, **values: object) -> str:
    """Return a template filled in."""
    return environment().get_template(name).render(**values)
