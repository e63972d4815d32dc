"""The memory of a book that a team shares: a folder beside it with one file a run, so that the version control merges it."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from kivvet.books.runs.journal import Definitions
from kivvet.books.runs.past_run import PastRun, When
from kivvet.core.words.errors import OutputError
from kivvet.core.words.wording import count, shown_path
from kivvet.io.files import replacing

#: How the file of a run is called.
_NAMED = re.compile(r"(?P<when>\d{8}T\d{6})Z-(?P<dataset>.+)-[0-9a-f]{8}\.json")


class TeamHistory:
    """The files of runs in a folder, and below it those of the meanings of tables and formulas.

    Parameters
    ----------
    folder : Path
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def remember(self, run: PastRun, meanings: Definitions) -> str:
        """Write the file of a run, and those of the meanings it used that are not there; return why that was not
        possible, empty where it was.
        """
        when = run.at[:19].replace("-", "").replace(":", "")
        try:
            for key, (name, definition) in meanings.items():
                path = self._meaning(key)
                if not path.exists():
                    _write(path, {"name": name, "definition": definition})
            _write(self.folder / f"{when}Z-{run.dataset}-{run.id}.json", run.as_dict())
        except OutputError as error:
            return error.problem
        return ""

    def remember_meanings(self, meanings: Definitions) -> None:
        """Write the files of meanings that are not there, where that is possible."""
        with suppress(OutputError):
            for key, (name, definition) in meanings.items():
                if not self._meaning(key).exists():
                    _write(self._meaning(key), {"name": name, "definition": definition})

    def runs(self, last: int | None = None) -> tuple[list[PastRun], Counter[When], str]:
        """Return the runs, the first ones first, how many there are of each dataset and second, and what could not be
        read, in words.

        Parameters
        ----------
        last : int, optional
            Of each dataset only the last so many.
        """
        found: list[PastRun] = []
        unread: list[Path] = []
        counted: Counter[When] = Counter()
        seconds: dict[str, list[str]] = {}  # by dataset, of the runs that were read
        for path in sorted(self.folder.glob("*.json"), reverse=True):
            named = _NAMED.fullmatch(
                path.name
            )  # the last ones first, by the second that their names begin with
            if last is not None and named is not None:
                read, second = seconds.get(named["dataset"], []), _second(named["when"])
                if len(read) >= last and second < read[last - 1]:
                    counted[named["dataset"], second] += 1
                    continue
            run = PastRun.of_values(_read(path))
            found += [] if run is None else [run]
            unread += [path] if run is None else []
            if run is not None:
                seconds.setdefault(run.dataset, []).append(run.at[:19])
                counted[run.dataset, run.at[:19]] += 1
        found.sort(key=lambda run: run.at)
        if last is not None:
            kept = Counter[str]()
            chosen = []
            for run in reversed(found):
                kept[run.dataset] += 1
                chosen += [run] if kept[run.dataset] <= last else []
            found = chosen[::-1]
        if not unread:
            return found, counted, ""
        said = f"{count(len(unread), 'file')} cannot be read, such as {shown_path(unread[-1])}"
        return found, counted, said

    def remembered(self) -> frozenset[str]:
        """Return the fingerprints of the meanings that are there."""
        return frozenset(path.stem for path in (self.folder / "meanings").glob("*.json"))

    def definition(self, fingerprint: str) -> dict[str, Any] | None:
        """Return a past definition of a table or formula; None where it is not there."""
        values = _read(self._meaning(fingerprint))
        found = values.get("definition") if isinstance(values, dict) else None
        return found if isinstance(found, dict) else None

    def _meaning(self, fingerprint: str) -> Path:
        return self.folder / "meanings" / f"{fingerprint}.json"


def _second(when: str) -> str:
    """Return a time of a file's name as ISO 8601."""
    day, time = when.split("T")
    return f"{day[:4]}-{day[4:6]}-{day[6:]}T{time[:2]}:{time[2:4]}:{time[4:]}"


def _write(path: Path, values: Mapping[str, Any]) -> None:
    with replacing(path) as beside:
        text = json.dumps(values, indent=1, ensure_ascii=False, default=str)
        beside.write_text(text + "\n", encoding="utf-8")


def _read(path: Path) -> Any:
    try:
        return json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError):
        return None
