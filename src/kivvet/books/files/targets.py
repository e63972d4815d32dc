"""Which files a dataset may write: never one of the book's own, another dataset's, or one that Kivvet did not
write.
"""

from __future__ import annotations

import itertools
import os
from collections.abc import Collection, Iterable, Mapping
from pathlib import Path
from typing import Any

from kivvet.books.files.dataset import Dataset
from kivvet.core.words.findings import Finding, finding
from kivvet.io.databases.places import RECORDS, InDatabase
from kivvet.io.locations import identity_of, shown_location


def target_faults(
    folder: Path,
    datasets: Mapping[str, Dataset],
    files_of_tables: Mapping[Path, str],
    places_of_tables: Mapping[Any, str],
) -> list[Finding]:
    """Return a finding for each dataset whose target is a file of the book, a source by another name, or another dataset's
    target.

    Parameters
    ----------
    folder : Path
        The book's.
    files_of_tables : mapping of Path to str
        The files that tables are read from, wherever they are, and what each is.
    places_of_tables : mapping
        The places in databases that tables are read from, by their identity, and what each is.
    """
    own = _FileNames()
    own.add(folder / "book.toml", "the book itself")
    own.add(folder / "formulas.toml", "the book's formulas")
    for path, said in files_of_tables.items():
        own.add(path, said)
    sources = {identity_of(dataset.source) for dataset in datasets.values()}
    for dataset in datasets.values():
        if isinstance(dataset.source, Path):
            own.add(dataset.source, f"the source of dataset {dataset.name}")
    kept = [
        (_real(folder / "tables"), "within the folder of the book's tables"),
        (_real(folder / ".kivvet"), "within Kivvet's own folder"),
    ]
    targets = {identity_of(dataset.target) for dataset in datasets.values() if dataset.target is not None}
    faults = []
    written: dict[Any, str] = {}
    for dataset in datasets.values():
        if dataset.target is None:
            continue
        real, what = identity_of(dataset.target), None
        # What one dataset writes another may read, by the same name.
        if isinstance(dataset.target, InDatabase):
            is_ours = dataset.target.table.casefold() == RECORDS
            what = "where Kivvet keeps its records" if is_ours else places_of_tables.get(real)
        elif isinstance(dataset.target, Path):
            what = (None if real in sources else own.name_of(dataset.target)) or next(
                (where for path, where in kept if path in real.parents), None
            )
        if real == identity_of(dataset.source):
            continue  # told where the dataset is read
        if what is None and real in written:
            what = f"the target of dataset {written[real]} too"
        written.setdefault(real, dataset.name)
        if what is not None:
            faults.append(
                finding(
                    "syntax",
                    f"target {shown_location(dataset.target)} is {what}",
                    dataset=dataset.name,
                    places=(dataset.place,) if dataset.place else (),
                    remedy="name a table of its own"
                    if isinstance(dataset.target, InDatabase)
                    else f'name a file of its own, such as target = "{_free_name(dataset, own, targets)}"',
                )
            )
    return faults


def _free_name(dataset: Dataset, own: _FileNames, targets: Collection[Any]) -> str:
    """Return the name of a target that nothing else is."""
    for number in itertools.count(1):
        name = f"out/{dataset.name}{f'_{number}' if number > 1 else ''}.parquet"
        path = dataset.folder / name
        if own.name_of(path) is None and _real(path) not in targets:
            return name
    raise AssertionError("numbers do not end")


class _FileNames:
    """Files by where they really are, links followed."""

    def __init__(self) -> None:
        self.by_path: dict[Path, str] = {}
        self.by_inode: dict[tuple[int, int], str] = {}

    def add(self, path: Path, what: str) -> None:
        self.by_path.setdefault(_real(path), what)
        for inode in _inode(path):
            self.by_inode.setdefault(inode, what)

    def name_of(self, path: Path) -> str | None:
        found = self.by_path.get(_real(path))
        return found or next((self.by_inode[one] for one in _inode(path) if one in self.by_inode), None)


def _real(path: Path) -> Path:
    return Path(os.path.realpath(path))


def _inode(path: Path) -> Iterable[tuple[int, int]]:
    try:
        stat = path.stat()
    except OSError:
        return ()
    return ((stat.st_dev, stat.st_ino),)
