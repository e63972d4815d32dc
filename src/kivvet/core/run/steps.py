"""Steps of a plan, as values: what they read, what they make; and the stages that run them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, TypeVar

from kivvet.core.columns.column import Column
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.formulas.domain import Domain
from kivvet.core.read.meaning import fingerprint
from kivvet.core.run.step_reports import StepReport
from kivvet.core.words.findings import Finding
from kivvet.core.words.values import ValueType

Known = TypeVar("Known")


@dataclass(frozen=True, slots=True)
class Read:
    """One column that a step reads.

    Attributes
    ----------
    name : str
        What the table or formula calls it.
    column : str
        The column: of the source, or made by an earlier step.
    from_source : bool
    """

    name: str
    column: str
    from_source: bool

    def found_in(self, source: Callable[[str], Known], made: Callable[[str], Known]) -> Known:
        """Return what is known of the column, from where it is."""
        return (source if self.from_source else made)(self.column)


@dataclass(frozen=True, slots=True)
class Made:
    """One column that a step makes.

    Attributes
    ----------
    name : str
    role : tuple of str
        What it holds: ``("output", OUTPUT, SUFFIX)``, ``("status",)``, ``("row",)`` or ``("formula",)``.
    type : str or None
        None where it is a list, or not known before there is data.
    """

    name: str
    role: tuple[str, ...]
    type: ValueType | None


class Stage(ABC):
    """A step that is being run: it makes columns batch by batch, and counts."""

    step: Step

    @abstractmethod
    def apply(self, columns: Mapping[str, Column], rows_before: int, n_rows: int) -> dict[str, MadeColumn]:
        """Return the columns made for a batch, by name, from those it reads, by the names the step gives
        them.
        """

    @abstractmethod
    def report(self) -> StepReport:
        """Return what all batches so far came to."""


class Step(ABC):
    """One step of a plan. It is a value: nothing of it changes as it is run."""

    reads: tuple[Read, ...]

    @property
    @abstractmethod
    def name(self) -> str:
        """The name of the table or the formula."""

    @property
    @abstractmethod
    def made(self) -> tuple[Made, ...]:
        """The columns it makes."""

    @property
    @abstractmethod
    def decides(self) -> frozenset[str]:
        """The names of the columns read that decide what is made."""

    @property
    def needs_all_rows(self) -> bool:
        """Whether it looks at other rows, so that all of them are needed before the first is made."""
        return False

    @property
    def made_names(self) -> tuple[str, ...]:
        """The names of the columns it makes."""
        return tuple(made.name for made in self.made)

    def columns_of(self, source: Callable[[str], Column], made: Callable[[str], Column]) -> dict[str, Column]:
        """Return the columns that it reads, by the names the step gives them, from where each is."""
        return {read.name: read.found_in(source, made) for read in self.reads}

    @abstractmethod
    def meaning(self) -> dict[str, Any]:
        """Return all that decides what is made, as plain values."""

    @property
    def fingerprint(self) -> str:
        """The hash of its meaning."""
        return fingerprint(self.meaning())

    @abstractmethod
    def definition(self) -> dict[str, Any] | None:
        """Return what it can be read from again, as plain values; None where that is too much to be kept."""

    @property
    def n_values(self) -> int:
        """How many values its rules hold: what its definition costs."""
        return 1

    def meaning_of_column(self, made: Made) -> list[str]:
        """Return what tells one of its columns from the others, and decides it besides."""
        return list(made.role)

    def classes_shown(self, made: Made) -> tuple[str, ...]:
        """Return what a form that keeps classes shows of one of its columns besides the values; empty where that is nothing."""
        return ()

    @abstractmethod
    def typed(self, type_of: Callable[[Read], ValueType | None]) -> tuple[Step, Finding | None]:
        """Return the step with the types of what it makes, and the fault where types do not fit."""

    @abstractmethod
    def domains(self, domain_of: Callable[[Read], Domain | None]) -> Mapping[str, Domain | None]:
        """Return by column made the values it can have; None where nothing limits them."""

    def for_one_row(self) -> Step:
        """Return the step as it is where there are no other rows."""
        return self

    @abstractmethod
    def start(self, *, with_report: bool, refuses_overlaps: bool) -> Stage:
        """Return the step made ready to run.

        Parameters
        ----------
        with_report : bool
            Whether rows are counted; without, single classes are made in one pass.
        refuses_overlaps : bool
            Whether data that rows which differ both match is an error, as it is when results are written.
        """
