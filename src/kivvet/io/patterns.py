"""Paths and URLs that stand for many files: with signs for others, or a folder."""

from __future__ import annotations

import glob
import os
from collections.abc import Sequence
from pathlib import Path

from kivvet.io.stores.store import InStore, is_url, matching

_WILD = frozenset("*?[")
#: What a folder stands for: its files with these endings; where it has none, those with the next.
_KINDS_IN_FOLDERS: tuple[tuple[str, ...], ...] = (
    (".parquet",),
    (".csv", ".csv.gz"),
    (".tsv", ".tsv.gz"),
    (".jsonl",),
    (".arrow",),
)


def is_pattern(text: str) -> bool:
    """Whether a path stands for many files: it has a sign for others, or ends as a folder does."""
    return bool(_WILD & set(text)) or text.endswith("/")


def place_at(folder: Path, text: str) -> Path | InStore:
    """Return what a path, from a folder, or a URL stands for."""
    return InStore(text) if is_url(text) else folder / text


def files_of(folder: Path, text: str) -> list[Path | InStore]:
    """Return the files that a path or a URL of a book stands for, in order of their names; a folder for its Parquet files, or
    where it has none, for those of text. A file that is called so stands for itself, whatever signs are in its name.
    """
    if not is_pattern(text) or (not is_url(text) and (folder / text).is_file()):
        return [place_at(folder, text)]
    if is_url(text):
        found_there = matching(InStore(text))
        return _of_one_kind(found_there) if text.endswith("/") else [*found_there]
    if text.endswith("/"):
        return _of_one_kind([path for path in sorted((folder / text).rglob("*"), key=str) if path.is_file()])
    found = glob.glob(text, root_dir=folder, recursive=True)  # noqa: PTH207 - it may be a whole path
    return sorted((folder / one for one in found if (folder / one).is_file()), key=str)


def _of_one_kind(files: Sequence[Path] | Sequence[InStore]) -> list[Path | InStore]:
    seen = [file for file in files if not file.name.startswith((".", "_"))]
    found = ([one for one in seen if one.name.lower().endswith(kind)] for kind in _KINDS_IN_FOLDERS)
    return next((some for some in found if some), [])


def name_within(folder: Path, file: Path | InStore) -> str:
    """Return what a file is called from a folder; of one in a store its URL."""
    return file.url if isinstance(file, InStore) else Path(os.path.relpath(file, folder)).as_posix()
