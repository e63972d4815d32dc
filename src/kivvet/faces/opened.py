"""An opened book: what is in it, by name."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self, TypeAlias

from kivvet.books.files.open_book import OpenBook
from kivvet.rule_table import RuleTable, rule_table

if TYPE_CHECKING:
    from kivvet.books.files.dataset import Dataset
    from kivvet.core.formulas.formula import Formula


#: Data that is asked about: the name of a dataset, the path of a file, or a frame of pandas, polars or Arrow.
Data: TypeAlias = Any


class OpenedBook:
    """What is in a book, as it was when it was opened."""

    def __init__(self, opened: OpenBook) -> None:
        self._opened = opened

    def __repr__(self) -> str:
        return f"<{repr(self._opened)[5:]}"

    @property
    def folder(self) -> Path:
        return self._opened.folder

    @property
    def title(self) -> str:
        return self._opened.title

    @cached_property
    def tables(self) -> Mapping[str, RuleTable]:
        """The tables that could be read, by name."""
        return {name: rule_table(table) for name, table in self._opened.tables.items()}

    @property
    def formulas(self) -> Mapping[str, Formula]:
        """The formulas that could be read, by name."""
        return self._opened.formulas

    @property
    def dataset_names(self) -> tuple[str, ...]:
        """The names of all datasets, those that could not be read too; `TableError` where book.toml cannot be
        read.
        """
        return self._opened.dataset_names

    @property
    def names_in_order(self) -> tuple[str, ...]:
        """The names of all datasets, each after those whose targets it reads."""
        names = self._opened.dataset_names
        usable = [name for name in names if name in self._opened.datasets]
        others = [name for name in names if name not in self._opened.datasets]
        return (*self._opened.in_order(usable), *others)

    @property
    def datasets(self) -> Mapping[str, Dataset]:
        """The datasets whose definition could be read, by name."""
        return self._opened.datasets

    def table(self, name: str) -> RuleTable:
        """Return a table by name.

        Raises
        ------
        BookError
            With the near name, if there is none.
        TableError
            If it could not be read.
        """
        return rule_table(self._opened.table(name))

    def dataset(self, name: str) -> Dataset:
        """Return the definition of a dataset by name.

        Raises
        ------
        BookError
            With the near name, if there is none.
        TableError
            If it could not be read.
        """
        return self._opened.dataset(name)

    def close(self) -> None:
        """Let go of the databases that are open: a file of duckdb is open in one place alone, and another program waits for it. What is
        asked later opens them again. ``with kivvet.open_book(...) as book:`` does so at its end.
        """
        from kivvet.io.databases.engines import close_all

        close_all()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _chosen(self, datasets: Iterable[str] | None) -> list[Dataset]:
        names = self._opened.dataset_names if datasets is None else names_of(datasets)
        return [self._opened.dataset(name) for name in names]


def names_of(given: Iterable[str]) -> tuple[str, ...]:
    """Return names as a tuple: a single one stands for itself, not for its letters."""
    return (given,) if isinstance(given, str) else tuple(given)
