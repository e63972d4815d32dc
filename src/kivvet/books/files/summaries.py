"""Summaries of a book: aggregates of a dataset, kept as data of their own, which rules may classify."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from kivvet.books.files.dataset import DATASET_KEYWORDS, Dataset, SummaryOf, parse_dataset
from kivvet.core.read.forms import FILLED, FILLED_AT_ALL, TEXT, Keywords, by_name, list_of, options_of
from kivvet.core.read.options import Faults, Locate, Options
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.wording import did_you_mean, listed

_NAMED = FILLED_AT_ALL | by_name(TEXT)
KEYWORDS: Keywords = {
    "from": FILLED.says("the dataset, or other summary, that is summed up"),
    "by": (_NAMED | list_of(_NAMED)).says("the columns that make the groups, or formulas by name"),
    "values": by_name(TEXT, at_least=1).says('aggregates by name, such as total = "SUM(load)"'),
    **{
        word: DATASET_KEYWORDS[word] for word in ("columns", "target", "where", "written_as", "title", "note")
    },
}
#: Of a ``[summaries.NAME]``.
SUMMARY_FORM = options_of(KEYWORDS, "from")
_EXAMPLE = 'for example values = { total_load = "SUM(load)", n = "COUNT(*)" }'


def parse_summary(
    name: str, given: Any, folder: Path, locate: Locate
) -> tuple[Dataset | None, list[Finding]]:
    """Return the dataset that a ``[summaries.NAME]`` of book.toml defines, and the faults found.

    What it sums up is not looked for yet; see `with_sources`.
    """
    root = ("summaries", name)
    faults = Faults(locate, dataset=name, root=root)
    if not isinstance(given, Mapping):
        faults.add(
            f"a summary is a heading with what it sums up; found {given!r}",
            fix=f'[summaries.{name}]  from = "samples", by = ["river"]',
        )
        return None, faults.found
    options = Options(given, faults)
    options.unknown(KEYWORDS, "a summary")
    of = options.text(
        "from", "from is the name of a dataset, or of another summary", fix='for example from = "samples"'
    )
    if "from" not in options:
        faults.add("a summary says what it sums up", fix='add from = "samples"')
    by = _keys(options)
    values = options.by_name("values", "values are aggregates by name", _EXAMPLE, of_texts=True)
    if "values" in options and not values:
        options.fault("values", "values are aggregates by name; there is none", _EXAMPLE)
    shown = {word: given[word] for word in ("columns", "target", "where", "written_as") if word in given}
    dataset, more = parse_dataset(
        name, {"source": "x.parquet", **shown}, folder, lambda path: locate((*root, *path[2:]))
    )
    faults.found += more
    if of is None or by is None or dataset is None:
        return None, faults.found
    pairs = tuple(values.items()) or (("rows", "COUNT(*)"),)
    twice = {key for key, _ in by} & {value for value, _ in pairs}
    if twice:
        options.fault(
            "values", f"{listed(sorted(map(repr, twice)))} is a key too", "give the value another name"
        )
    return replace(dataset, said=given, of=SummaryOf(of, by, pairs), place=locate(root)), faults.found


def _keys(options: Options) -> tuple[tuple[str, str], ...] | None:
    """Return names and expressions of the keys; None where they are no good."""
    given = options.plain("by", [])
    example = 'for example by = ["river", { year = "EXTRACT(YEAR FROM sampled_on)" }]'
    items = given if isinstance(given, list) else [given]
    found: list[tuple[str, str]] = []
    for item in items:
        if isinstance(item, str) and item:
            found.append((item, item if item.isidentifier() else f'"{item}"'))
        elif isinstance(item, Mapping) and all(isinstance(text, str) for text in item.values()):
            found += item.items()
        else:
            options.fault("by", f"by lists columns, or formulas by name; found {item!r}", example)
            return None
    if len(dict(found)) < len(found):
        options.fault("by", f"by names a key twice: {listed(name for name, _ in found)}", "leave one out")
        return None
    return tuple(found)


@dataclass(frozen=True)
class _Chain:
    """The summaries under way, and what is wrong with where they lead."""

    datasets: Mapping[str, Dataset]
    unusable: Iterable[str]

    def source_of(self, one: Dataset) -> tuple[Dataset | None, str, str]:
        """Return the dataset that a summary rests on in the end; or what is wrong, and how to mend it."""
        seen = [one.name]
        while one.of is not None:
            name = one.of.name
            if name in seen:
                path = " -> ".join([*seen[seen.index(name) :], name])
                return None, f"summaries sum up each other: {path}", "let one of them sum up a dataset"
            if name not in self.datasets:
                if name in self.unusable:
                    return None, "", ""
                return (
                    None,
                    f"from names {name!r}, and no dataset or summary has that name",
                    did_you_mean(name, self.datasets) or f"there are {listed(self.datasets)}",
                )
            seen.append(name)
            one = self.datasets[name]
        return one, "", ""


def with_sources(
    summaries: Mapping[str, Dataset], datasets: Mapping[str, Dataset], unusable: Iterable[str]
) -> tuple[dict[str, Dataset], list[Finding]]:
    """Return the summaries that lead to a dataset, each with that dataset's file as its source, and the faults found."""
    chain = _Chain({**datasets, **summaries}, unusable)
    found: dict[str, Dataset] = {}
    faults: list[Finding] = []
    for name, one in summaries.items():
        below, problem, fix = chain.source_of(one)
        if below is None:
            if problem:
                places = (one.place,) if one.place else ()
                kind = "cycle" if "each other" in problem else "unknown-column"
                faults.append(finding(kind, problem, dataset=name, places=places, remedy=fix))
            continue
        found[name] = replace(one, source=below.source, sources=below.sources, folder=below.folder)
    return found, faults
