"""All that is remembered of a book's runs: by this machine, and by the team where they keep a history together."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from kivvet.books.runs.journal import Definitions, Journal
from kivvet.books.runs.past_run import PastRun, When
from kivvet.books.runs.team_history import TeamHistory
from kivvet.core.words.wording import shown_path

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


@dataclass(frozen=True)
class Memory:
    """What a book remembers.

    Attributes
    ----------
    journal : Journal
    team : TeamHistory or None
    """

    journal: Journal
    team: TeamHistory | None = None

    @classmethod
    def of(cls, book: OpenBook) -> Memory:
        folder = book.history_folder
        return cls(Journal(book.folder), None if folder is None else TeamHistory(folder))

    def remember(self, run: PastRun, meanings: Definitions) -> list[str]:
        """Note a run; return why it could not be noted somewhere, in sentences."""
        said = []
        if why := self.journal.remember(run, meanings):
            said.append(f"the run is not noted in {shown_path(self.journal.path)}: {why}")
        if self.team is not None and (why := self.team.remember(run, meanings)):
            said.append(f"the run is not noted in {shown_path(self.team.folder)}: {why}")
        return said

    def remember_meanings(self, meanings: Definitions) -> None:
        """Keep definitions of tables by their fingerprints, without a run."""
        self.journal.remember_meanings(meanings)
        if self.team is not None:
            self.team.remember_meanings(meanings)

    def runs(self, last: int | None = None) -> tuple[list[PastRun], dict[str, int], list[str]]:
        """Return the runs that are remembered, the first ones first, each once, of each dataset how many more there are before
        these, and what could not be read.

        Parameters
        ----------
        last : int, optional
            Of each dataset only the last so many.
        """
        found, counted, why = self.journal.runs(last)
        said = [f"{shown_path(self.journal.path)} {why}"] if why else []
        if self.team is None:
            return found, {} if last is None else _earlier(found, counted), said
        of_team, counted_there, why = self.team.runs(last)
        said += [f"of {shown_path(self.team.folder)} {why}"] if why else []
        each = sorted({run.id: run for run in (*found, *of_team)}.values(), key=lambda run: run.at)
        if last is None:
            return each, {}, said
        by_dataset: dict[str, list[PastRun]] = {}
        for run in each:
            by_dataset.setdefault(run.dataset, []).append(run)
        kept = {id(run) for runs in by_dataset.values() for run in runs[-last:]}
        found = [run for run in each if id(run) in kept]
        return found, _earlier(found, counted | counted_there), said

    def remembered(self) -> frozenset[str]:
        """Return the fingerprints of the definitions that are remembered everywhere."""
        known = self.journal.remembered()
        return known if self.team is None else known & self.team.remembered()

    def definition(self, fingerprint: str) -> dict[str, Any] | None:
        """Return a past definition of a table or formula; None where it is not remembered."""
        found = self.journal.definition(fingerprint)
        return self.team.definition(fingerprint) if found is None and self.team is not None else found


def _earlier(found: Iterable[PastRun], counted: Counter[When]) -> dict[str, int]:
    """Return of each dataset how many runs there are besides those found."""
    left: Counter[str] = Counter()
    for (name, _), n in counted.items():
        left[name] += n
    left.subtract(run.dataset for run in found)
    return {name: n for name, n in left.items() if n > 0}
