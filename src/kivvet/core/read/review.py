"""What a table's definition says of its last review."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping

from kivvet.core.read.forms import DAY, TEXT, like, options_of
from kivvet.core.read.options import Options
from kivvet.core.tables.review import Review

_VERSION = re.compile(r"[0-9a-f]{64}")
REVIEWED = options_of(
    {
        "on": DAY.says("the day"),
        "version": like("^[0-9a-f]{64}$").says("what was looked through"),
        "by": TEXT.says("who did"),
        "note": TEXT.says("words for readers"),
    },
    *("on", "version"),
)


def read_review(options: Options) -> Review | None:
    """Return the review that a definition tells of; None where it tells of none, or what is wrong."""
    given = options.plain("reviewed")
    if given is None:
        return None
    problem = f"found {given!r}"
    if isinstance(given, Mapping):
        on, version = given.get("on"), given.get("version")
        texts = [given.get(word, "") for word in ("by", "note")]
        strange = [word for word in given if word not in ("on", "version", "by", "note")]
        is_day = isinstance(on, dt.date) and not isinstance(on, dt.datetime)
        is_hash = isinstance(version, str) and _VERSION.fullmatch(version)
        if not strange and is_day and is_hash and all(isinstance(text, str) for text in texts):
            return Review(str(on), str(version), *texts)
        problem = (
            f"{strange[0]!r} is no keyword of it"
            if strange
            else "it has a day `on`, and the `version` that was looked through"
        )
    options.fault(
        "reviewed",
        f"reviewed is what kivvet review wrote: {problem}",
        "leave it as it was written, or remove it and review the table again",
    )
    return None
