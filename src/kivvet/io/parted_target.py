"""A target of many files, which may be written by many processes and counts once one of them says so."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass

import pyarrow as pa

from kivvet.io.source_and_target import Target


@dataclass(frozen=True, slots=True)
class WrittenPart:
    """A file that was written of a target of many, and does not count yet.

    Attributes
    ----------
    name : str
        Within the target.
    rows : int
    """

    name: str
    rows: int


class PartedTarget(Target):
    """A target of many files, which may be written by many; one of them makes them count, all at once."""

    schema: pa.Schema
    parts: list[WrittenPart]

    @abstractmethod
    def written_parts(self) -> list[WrittenPart]:
        """Finish the files that were written here, and return them; they are made to count elsewhere."""

    @abstractmethod
    def remove(self, parts: Sequence[WrittenPart]) -> None:
        """Remove files that were written, and are not to count."""
