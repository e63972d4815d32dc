"""Places in files."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Place:
    """A place in a file; lines and columns count from 1, and `None` is not known."""

    file: str
    line: int | None = None
    column: int | None = None

    def __str__(self) -> str:
        return ":".join(str(part) for part in (self.file, self.line, self.column) if part is not None)
