"""Which datasets read what others write, and the order in which they are to be written."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from kivvet.books.files.dataset import Dataset
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.wording import listed
from kivvet.io.locations import identity_of


def read_before(datasets: Mapping[str, Dataset]) -> dict[str, str]:
    """Return by dataset the one whose target is its source, for a summary of one that it sums up; else it is left out."""
    written = {identity_of(one.target): name for name, one in datasets.items() if one.target is not None}
    made = {}
    for name, one in datasets.items():
        maker = one.of.name if one.of is not None else written.get(identity_of(one.source))
        if maker is not None and maker != name:
            made[name] = maker
    return made


def in_order(names: Iterable[str], before: Mapping[str, str]) -> list[str]:
    """Return datasets with those that they rest on, each after these."""
    ordered: dict[str, None] = {}
    for name in names:
        chain = [name]
        while chain[-1] in before and before[chain[-1]] not in chain:
            chain.append(before[chain[-1]])
        ordered.update(dict.fromkeys(reversed(chain)))
    return list(ordered)


def circles(datasets: Mapping[str, Dataset]) -> list[Finding]:
    """Return a finding for each dataset that reads, by way of others, what is made of what it writes."""
    before = read_before(datasets)
    faults = []
    for name in before:
        way = [name]
        while way[-1] in before and before[way[-1]] not in way:
            way.append(before[way[-1]])
        if before.get(way[-1]) != name:
            continue
        place = datasets[name].place
        faults.append(
            finding(
                "cycle",
                f"datasets read what each other writes: {listed([*way, name], 20).replace(', ', ' <- ')}",
                dataset=name,
                places=(place,) if place else (),
                remedy="let one of them read or write another file",
            )
        )
    return faults
