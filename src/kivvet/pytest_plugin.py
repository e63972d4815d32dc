"""A plugin of pytest: the checks, examples and promises of a book as tests, one each.

It collects nothing unless asked: ``pytest --kivvet`` collects every ``book.toml`` among what is tested, and ``kivvet_books`` in the
configuration of pytest names folders that are collected whenever they are.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

if TYPE_CHECKING:
    from kivvet.book import Book


def pytest_addoption(parser: pytest.Parser) -> None:
    """Add what asks for books to be collected."""
    group = parser.getgroup("kivvet")
    group.addoption("--kivvet", action="store_true", help="collect the books of Kivvet (book.toml) as tests")
    group.addoption("--kivvet-data", action="store_true", help="check them with their data too")
    parser.addini("kivvet_books", "folders of books that are collected as tests", type="paths", default=[])


def pytest_collect_file(file_path: Path, parent: pytest.Collector) -> BookFile | None:
    """Collect a book that is asked for."""
    if file_path.name != "book.toml":
        return None
    named = [Path(one).resolve() for one in parent.config.getini("kivvet_books")]
    if not parent.config.getoption("--kivvet") and file_path.parent.resolve() not in named:
        return None
    return BookFile.from_parent(parent, path=file_path)


class BookFile(pytest.File):
    """A book, whose rules are tests."""

    def collect(self) -> Iterator[pytest.Item]:
        from kivvet.book import open_book

        book = open_book(self.path.parent)
        yield ReadItem.from_parent(self, name="can be read", book=book)
        for name, table in sorted(book.tables.items()):
            yield CheckItem.from_parent(self, name=f"check[{name}]", book=book, table=name)
            for number in range(1, len(table._table.examples) + 1):
                yield ExampleItem.from_parent(
                    self, name=f"example[{name}-{number}]", book=book, table=name, number=number
                )
            for promise in table._table.promises:
                yield PromiseItem.from_parent(
                    self, name=f"promise[{name}: {promise.text}]", book=book, table=name, text=promise.text
                )
        if self.config.getoption("--kivvet-data"):
            for name in sorted(book.datasets):
                yield DataItem.from_parent(self, name=f"data[{name}]", book=book, dataset=name)


class BrokenRuleError(Exception):
    """What does not hold of a book."""


class _Item(pytest.Item):
    """One thing that is to hold."""

    def __init__(self, *, book: Book, **given: Any) -> None:
        super().__init__(**given)
        self.book = book

    def repr_failure(self, excinfo: pytest.ExceptionInfo[BaseException], style: Any = None) -> Any:
        from kivvet.core.words.errors import KivvetError

        if isinstance(excinfo.value, (BrokenRuleError, KivvetError)):
            return str(excinfo.value)
        return super().repr_failure(excinfo, style)

    def reportinfo(self) -> tuple[Path, int | None, str]:
        return self.path, None, self.name


class ReadItem(_Item):
    """The files of the book can be read."""

    def runtest(self) -> None:
        if errors := [
            finding for finding in self.book._opened.reading_findings if finding.severity == "error"
        ]:
            raise BrokenRuleError("\n".join(map(str, errors)))


class _OfTable(_Item):
    def __init__(self, *, table: str, **given: Any) -> None:
        super().__init__(**given)
        self.table = table


class CheckItem(_OfTable):
    """A check finds no error in a table itself; its examples and promises are tests of their own."""

    def runtest(self) -> None:
        found = self.book.check([self.table], data=False)
        errors = [one for one in found if one.severity == "error" and one.kind not in ("example", "promise")]
        if errors:
            raise BrokenRuleError("\n".join(map(str, errors)))


class ExampleItem(_OfTable):
    """An example of a table comes out as it says."""

    def __init__(self, *, number: int, **given: Any) -> None:
        super().__init__(**given)
        self.number = number

    def runtest(self) -> None:
        from kivvet.core.run.examples import run_examples

        table = self.book.tables[self.table]._table
        (run,) = run_examples(table, [table.examples[self.number - 1]])
        if run.broken:
            said = (
                f"{name} is to be {run.example.expected[name]} and is {run.got.get(name)}"
                for name in run.broken
            )
            raise BrokenRuleError(f"{run.title}: {', '.join(said)}")


class PromiseItem(_OfTable):
    """A promise of a table is kept for all values."""

    def __init__(self, *, text: str, **given: Any) -> None:
        super().__init__(**given)
        self.text = text

    def runtest(self) -> None:
        found = self.book.check([self.table], data=False).of_kind("promise")
        broken = [one for one in found if one.severity == "error" and f'"{self.text}"' in one.message]
        if broken:
            raise BrokenRuleError("\n".join(map(str, broken)))


class DataItem(_Item):
    """The data of a dataset brings no error."""

    def __init__(self, *, dataset: str, **given: Any) -> None:
        super().__init__(**given)
        self.dataset = dataset

    def runtest(self) -> None:
        found = [one for one in self.book.check() if one.dataset == self.dataset and one.severity == "error"]
        if found:
            raise BrokenRuleError("\n".join(map(str, found)))
