"""What else may do the work on the parts of a dataset."""

from __future__ import annotations

from kivvet.books.runs.in_parts import Engine
from kivvet.books.runs.on_spark import on_spark
from kivvet.core.words.errors import BookError

ENGINES: dict[str, Engine] = {"spark": on_spark}


def engine_named(name: str | None) -> Engine | None:
    """Return an engine by name, None for this process; `BookError` where there is none of that name."""
    if name is None:
        return None
    if name not in ENGINES:
        raise BookError(f"{name!r} is no engine that is known", expected=f"one of: {', '.join(ENGINES)}")
    return ENGINES[name]
