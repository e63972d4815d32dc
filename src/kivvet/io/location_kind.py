"""What can be asked of where rows lie, whichever kind of place it is."""

from __future__ import annotations

from abc import ABC, abstractmethod
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any, Generic, TypeVar

import pyarrow as pa

from kivvet.io.files import FileMarks
from kivvet.io.formats import Format
from kivvet.io.kept_records import KeptRecords
from kivvet.io.source_and_target import ReadOptions, Source, Target, WriteOptions

Location = TypeVar("Location")


class LocationKind(ABC, Generic[Location]):
    """A kind of places: how one is named, opened, begun to be written, replaced, and known again."""

    @abstractmethod
    def shown(self, location: Location) -> str:
        """Return it as messages name it."""

    @abstractmethod
    def identity(self, location: Location) -> Any:
        """Return what is the same for one place by whatever name."""

    @abstractmethod
    def format(self, location: Location) -> Format | None:
        """Return what can be done there; None where it is of no kind of ours."""

    @abstractmethod
    def is_there(self, location: Location) -> bool:
        """Whether something is there; `UnopenableError` where it cannot be asked."""

    @abstractmethod
    def open(self, location: Location, options: ReadOptions) -> Source:
        """Return the rows as a source; `UnopenableError` where it is not there, or of a kind that is not read."""

    @abstractmethod
    def open_written(self, location: Location, options: WriteOptions) -> Source:
        """Return what was written so as a source."""

    @abstractmethod
    def marks(self, location: Location) -> FileMarks | None:
        """Return marks that change when the content does; None where it is not there."""

    def as_file(self, location: Location) -> Path:
        """Return a file of this machine that holds what a location does, where it is a file."""
        raise NotImplementedError

    @abstractmethod
    def replacing(self, location: Location) -> AbstractContextManager[Path]:
        """Give where to write what takes its place when the block ends well."""

    @abstractmethod
    def begun(self, part: Path, location: Location, schema: pa.Schema, options: WriteOptions) -> Target:
        """Return a target begun there."""

    @abstractmethod
    def extended(
        self, part: Path, location: Location, schema: pa.Schema, options: WriteOptions
    ) -> Target | None:
        """Return a target begun with all rows that it holds; None where these cannot stand as they are."""

    @abstractmethod
    def records(self, location: Location) -> KeptRecords | None:
        """Return the records kept with a target, the newest first, and the hash of what it holds; None where there are none."""

    def make_ready(self, location: Location) -> None:
        """Make ready for being written, before anything beside it is read."""
