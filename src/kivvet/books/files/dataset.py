"""A dataset of a book: its source, the columns to add, its target."""

from __future__ import annotations

import codecs
import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from kivvet.books.files.readers import Locate
from kivvet.core.read.table_parser import is_line_number
from kivvet.core.run.entries import Entry, parse_entries
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.values import VALUE_TYPES, ValueType
from kivvet.core.words.wording import did_you_mean, listed, toml_key
from kivvet.io.csv_records import is_delimiter, is_text_encoding
from kivvet.io.formats import SOURCE_ENDINGS, TARGET_ENDINGS, delimiter_of, open_source
from kivvet.io.source_and_target import ReadOptions, Source

DATASET_KEYWORDS = (
    "source",
    "target",
    "types",
    "missing_words",
    "input",
    "columns",
    "encoding",
    "delimiter",
    "headings_on_line",
    "title",
    "note",
)
_LATER = {"where": "filters of rows"}


@dataclass(frozen=True, slots=True)
class Dataset:
    """A dataset as the book defines it.

    Attributes
    ----------
    name : str
    source, target : Path
        `target` is None where columns are not to be written to a file.
    types : mapping of str to str
        By column of the source, how its text is to be read.
    missing_words : tuple of str
        Words that mean missing in every column.
    missing_words_of : mapping of str to tuple of str
        Further ones by column.
    renamed : mapping of str to str
        By name used in the book, the source column that stands for it.
    entries : tuple of Entry
    """

    name: str
    source: Path
    target: Path | None
    types: Mapping[str, ValueType] = field(default_factory=dict)
    missing_words: tuple[str, ...] = ()
    missing_words_of: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    renamed: Mapping[str, str] = field(default_factory=dict)
    entries: tuple[Entry, ...] = ()
    encoding: str = "utf-8"
    delimiter: str | None = None
    headings_on_line: int = 1
    place: Place | None = None

    def words_that_mean_missing(self, column: str) -> tuple[str, ...]:
        return (*self.missing_words, *self.missing_words_of.get(column, ()))

    @property
    def options(self) -> ReadOptions:
        """How the text of its source is read."""
        return ReadOptions(self.encoding, self.delimiter, self.headings_on_line)

    def open(self) -> Source:
        """Return the opened source; `DataError` if it cannot be read."""
        return open_source(self.source, self.options)

    def read_options(self) -> dict[str, Any]:
        """Return all that decides how the source is read, but the types of its columns, as plain values."""
        return {
            "missing_words": sorted(set(self.missing_words)),
            "missing_words_of": {
                name: sorted(set(words)) for name, words in self.missing_words_of.items() if words
            },
            "encoding": codecs.lookup(self.encoding).name,
            "delimiter": self.delimiter or delimiter_of(self.source),
            **({"headings_on_line": self.headings_on_line} if self.headings_on_line > 1 else {}),
        }


def parse_dataset(
    name: str, given: Any, folder: Path, locate: Locate
) -> tuple[Dataset | None, list[Finding]]:
    """Return the dataset that a ``[datasets.NAME]`` of book.toml defines, and the faults found."""
    faults: list[Finding] = []
    root = ("datasets", name)

    def fault(message: str, path: Sequence[str | int] = (), fix: str = "", kind: str = "syntax") -> None:
        place = locate((*root, *path))
        faults.append(finding(kind, message, dataset=name, places=(place,) if place else (), remedy=fix))

    if not isinstance(given, Mapping):
        fault(
            f"a dataset is a heading with a source and columns; found {given!r}",
            (),
            f'[datasets.{name}]  source = "data/{name}.csv"',
        )
        return None, faults
    for word in given:
        if word in _LATER:
            fault(f"{word!r} ({_LATER[word]}) is not read by this version", (word,))
        elif word not in DATASET_KEYWORDS:
            fault(
                f"{word!r} is no keyword of a dataset",
                (word,),
                did_you_mean(word, DATASET_KEYWORDS) or f"known here: {listed(DATASET_KEYWORDS)}",
            )
    source, target = given.get("source"), given.get("target")
    for word in ("source", "target"):
        if isinstance(given.get(word), str) and "\0" in given[word]:
            fault(f"{word} holds a sign that no path has", (word,), f'for example {word} = "data/{name}.csv"')
            return None, faults
    if not isinstance(source, str) or not source.lower().endswith(SOURCE_ENDINGS):
        fault(
            f"source is the path of a file; found {source!r}"
            if not isinstance(source, str)
            else f"{source!r} is of a kind this version does not read",
            ("source",),
            f"a file that ends in {', '.join(SOURCE_ENDINGS)}",
        )
        source = None
    if target is not None and (not isinstance(target, str) or not target.lower().endswith(TARGET_ENDINGS)):
        fault(
            f"{target!r} is of a kind this version does not write",
            ("target",),
            f"a file that ends in {', '.join(TARGET_ENDINGS)}",
        )
        target = None
    if (
        source is not None
        and target is not None
        and os.path.realpath(folder / source) == os.path.realpath(folder / target)
    ):
        fault("target is the source itself", ("target",), "name another file: the source is never changed")
    types = given.get("types", {})
    if not isinstance(types, Mapping):
        fault(
            f"types gives a type by column; found {types!r}",
            ("types",),
            'for example types = { station = "text" }',
        )
        types = {}
    for column, kind in types.items():
        if kind not in VALUE_TYPES:
            fault(
                f"{kind!r} is no type for column {column!r}",
                ("types", column),
                (did_you_mean(str(kind), VALUE_TYPES) or f"one of: {listed(VALUE_TYPES)}"),
            )
    words, words_of = given.get("missing_words", []), {}
    if isinstance(words, Mapping):
        for column, each in words.items():
            if isinstance(each, list) and all(isinstance(word, str) for word in each):
                words_of[column] = tuple(each)
            else:
                fault(
                    f"missing_words lists words by column; found {each!r}",
                    ("missing_words", column),
                    f'for example missing_words = {{ {toml_key(column)} = ["n/a"] }}',
                )
        words = []
    if not isinstance(words, list) or not all(isinstance(word, str) for word in words):
        fault(
            f"missing_words is a list of words, or such a list by column; found {words!r}",
            ("missing_words",),
            'for example missing_words = ["n/a"]',
        )
        words = []
    renamed = given.get("input", {})
    if not isinstance(renamed, Mapping) or not all(isinstance(one, str) for one in renamed.values()):
        fault(
            f"input says which source column stands for a name; found {renamed!r}",
            ("input",),
            'for example input = { issued_on = "date" }',
        )
        renamed = {}
    entries, entry_faults = parse_entries(
        given.get("columns", []), lambda path: locate((*root, "columns", *path))
    )
    faults += [_in_dataset(one, name) for one in entry_faults]
    headings_on_line = given.get("headings_on_line", 1)
    if not is_line_number(headings_on_line):
        fault(
            f"headings_on_line is the number of a line, from 1; found {headings_on_line!r}",
            ("headings_on_line",),
        )
        headings_on_line = 1
    encoding, delimiter = given.get("encoding", "utf-8"), given.get("delimiter")
    if not isinstance(encoding, str) or not is_text_encoding(encoding):
        fault(f"{encoding!r} is no encoding of text", ("encoding",), 'for example "utf-8" or "cp1252"')
        encoding = "utf-8"
    if delimiter is not None and not is_delimiter(delimiter):
        fault(f"delimiter is one sign; found {delimiter!r}", ("delimiter",), 'for example ";" or "\\t"')
        delimiter = None
    if source is None:
        return None, faults
    dataset = Dataset(
        name,
        folder / source,
        folder / target if target else None,
        {column: kind for column, kind in types.items() if kind in VALUE_TYPES},
        tuple(words),
        words_of,
        dict(renamed),
        tuple(entries),
        encoding,
        delimiter,
        headings_on_line,
        locate(root),
    )
    return dataset, faults


def _in_dataset(one: Finding, name: str) -> Finding:
    from dataclasses import replace

    return replace(one, dataset=name)
