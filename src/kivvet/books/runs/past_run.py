"""A run as it is remembered: which dataset was written, when, by whom, by which rules, and what came of it."""

from __future__ import annotations

import getpass
import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

from kivvet.books.files.git import git
from kivvet.books.runs.record import RECORD_FORM, Record
from kivvet.core.read.forms import ANYTHING, FILLED, TEXT, by_name, options_of, whole
from kivvet.core.words.errors import BookError

#: A dataset, and the second in which a run of it was (ISO 8601).
When = tuple[str, str]
#: Of what is remembered of a run.
RUN_VERSION = 1
#: Of the file of a run in the history that a team keeps.
RUN_FORM = options_of(
    {
        "version": whole(1),
        "at": FILLED.says("when the target was written (UTC, ISO 8601)"),
        "dataset": TEXT.says("what was written"),
        "action": TEXT.says("the command that wrote it"),
        "who": TEXT.says("whoever ran it"),
        "note": TEXT.says("what they wrote about it"),
        "said": by_name(ANYTHING).says("the dataset as the book said it then"),
        "record": RECORD_FORM.says("the record of the target"),
    },
    *("at", "record"),
    is_open=True,
)


@dataclass(frozen=True)
class PastRun:
    """A run that wrote a target.

    Attributes
    ----------
    at : str
        When the target was written (UTC), as ISO 8601.
    dataset, action : str
        What was written, and by which command: ``apply`` or ``refresh``.
    record : Record
        Of the target.
    who, note : str
        Whoever ran it, and what they wrote about it.
    said : mapping
        The dataset as the book said it then, as plain values; empty where that is not remembered.
    """

    at: str
    dataset: str
    action: str
    record: Record
    who: str = ""
    note: str = ""
    said: Mapping[str, Any] = field(default_factory=dict)

    @cached_property
    def id(self) -> str:
        """Eight hexadecimal digits that name it, on every machine the same."""
        text = json.dumps([self.at, self.dataset, self.record.as_dict()], sort_keys=True, ensure_ascii=False)
        return hashlib.sha256(text.encode()).hexdigest()[:8]

    def as_dict(self) -> dict[str, Any]:
        """Return it as plain values, from which `of_values` makes it again."""
        return {
            "version": RUN_VERSION,
            "at": self.at,
            "dataset": self.dataset,
            "action": self.action,
            "who": self.who,
            "note": self.note,
            "said": dict(self.said),
            "record": self.record.as_dict(),
        }

    @classmethod
    def of_values(cls, values: Any) -> PastRun | None:
        """Return the run of plain values; None where they are none. Fields it does not know are left out."""
        if not isinstance(values, dict) or (record := Record.from_values(values.get("record"))) is None:
            return None
        texts = {name: values.get(name, "") for name in ("at", "dataset", "action", "who", "note")}
        said = values.get("said")
        if not all(isinstance(text, str) for text in texts.values()) or not texts["at"]:
            return None
        return cls(**texts, record=record, said=said if isinstance(said, dict) else {})


def whoever_runs(folder: Path) -> str:
    """Return the name of whoever runs this: as the version control (git) has it, else as the machine does."""
    try:
        said = git(folder, "config", "user.name")
    except BookError:
        said = None
    if said and said.strip():
        return said.decode(errors="replace").strip()
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return ""
