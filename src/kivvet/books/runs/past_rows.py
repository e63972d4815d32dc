"""Past runs by what they are called, and the rows that a source held then."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.again import as_then
from kivvet.books.runs.memory import Memory
from kivvet.books.runs.past_run import PastRun
from kivvet.books.runs.sources import source_of
from kivvet.core.words.errors import BookError
from kivvet.core.words.wording import listed, shell_word
from kivvet.io.lakes.lake import version_in
from kivvet.io.lakes.lake_source import LakeSource
from kivvet.io.source_and_target import Source

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


def run_named(book: OpenBook, name: str, given: str) -> PastRun:
    """Return the run of a dataset that is named: by its name or the beginning of it, by a date or time (the last until then), or by the
    version of a lake that it read.

    Raises
    ------
    BookError
        If there is none.
    """
    found, _, problems = Memory.of(book).runs()
    runs = [run for run in found if run.dataset == name]
    if not runs:
        book.dataset(name)
        raise BookError(
            f"no run of {name} is remembered", found="; ".join(problems) or None, fix="kivvet history"
        )
    if (version := version_said(given)) is not None:
        return _of_version(runs, name, version)
    chosen = [run for run in runs if run.id.startswith(given)] if given else []
    if len(chosen) == 1:
        return chosen[0]
    if len(chosen) > 1:
        raise BookError(
            f"{given!r} begins the names of {len(chosen)} runs", expected=listed(run.id for run in chosen)
        )
    wanted = given.replace(" ", "T")
    if len(wanted) >= 10 and wanted[:4].isdigit() and wanted[4] == "-":
        until = [run for run in runs if run.at[: len(wanted)] <= wanted]
        if until:
            return until[-1]
        raise BookError(
            f"no run of {name} until {given} is remembered", found=f"the first is of {runs[0].at[:16]}"
        )
    raise BookError(
        f"no run of {name} is named {given!r}",
        expected=f"one of the last: {listed([run.id for run in runs[-6:]])}; or a date",
        fix=f"kivvet history {shell_word(name)}",
    )


def version_said(given: str) -> int | None:
    """Return the version of a lake that is named; None where something else is."""
    match = re.fullmatch(r"version\s+(\d+)", given.strip())
    return None if match is None else int(match[1])


def _of_version(runs: Sequence[PastRun], name: str, version: int) -> PastRun:
    read = [(version_in(run.record.source_hash), run) for run in runs]
    found = [run for one, run in read if one == version]
    if found:
        return found[-1]
    known = sorted({str(one) for one, _ in read if one is not None}, key=int)
    raise BookError(
        f"no run of {name} is remembered that read version {version}",
        expected=f"one of: {listed(known, 12)}" if known else "a dataset whose source is a lake",
        fix=f"kivvet history {shell_word(name)}",
    )


def source_as_of(book: OpenBook, dataset: Dataset, given: str) -> Source:
    """Return the source of a dataset with the rows that it held at a version of its lake, or when a past run read it.

    Raises
    ------
    BookError, DataError
        If there is no such version or run, or what it held is not kept.
    """
    version = version_said(given)
    if version is None:
        past = run_named(book, dataset.name, given)
        return as_then(book, dataset, past.record).prepared.source
    source = source_of(book, dataset)
    if not isinstance(source, LakeSource):
        raise BookError(f"{source.shown_name} is no lake, which keeps versions", fix="name a run, or a date")
    found = source.at_version(version)
    if found is None:
        raise BookError(
            f"{source.shown_name} has no version {version}, or it was cleaned away",
            expected=f"at most {source.version}",
        )
    return found
