"""Inputs that depend on each other through the data they are fed: what is found of them is possible only."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

from kivvet.books.runs.fed_domains import known_plan, unknown_uses
from kivvet.core.run.plan import Plan
from kivvet.core.tables.table import WHEN, Table
from kivvet.core.words.findings import Finding

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

_KINDS = ("gap", "overlap", "conflict")


def only_possible(book: OpenBook, table: Table, found: Iterable[Finding]) -> Iterator[Finding]:
    """Yield findings, those possible that constrain two inputs made of one column wherever the table is used.

    Two outputs of one table, or a column and what another table makes of it, cannot have any two values at
    once; which they can have is not worked out here. Counted in data, such a finding is proven again.
    """
    if _has_unknown_use(book, table):
        yield from found  # what is not known may feed the inputs independently
        return
    uses = [
        {
            read.name: roots[read.column] if not read.from_source else frozenset((read.column,))
            for read in step.reads
        }
        for plan in _plans(book)
        for roots in [_roots(plan)]
        for step in plan.table_steps
        if step.table.name == table.name
    ]
    for one in found:
        named = [name for name in one.region or () if name != WHEN]
        if WHEN in (one.region or ()) and WHEN not in table.reads:
            named += [
                name
                for name in dict.fromkeys(n for test in table.computed_inputs for n in test.reads)
                if name not in named
            ]
        depends = bool(uses) and one.kind in _KINDS and all(_share_a_root(roots, named) for roots in uses)
        if depends and not one.possible:
            yield replace(one, possible=True, severity="warning" if one.severity == "error" else one.severity)
        else:
            yield one


def _has_unknown_use(book: OpenBook, table: Table) -> bool:
    if book.unusable_datasets:
        return True
    for dataset in book.datasets.values():
        plan, is_known = known_plan(book, dataset)
        if not is_known and table.name in unknown_uses(book, dataset, plan):
            return True
    return False


def _plans(book: OpenBook) -> Iterator[Plan]:
    for dataset in book.datasets.values():
        plan, _ = known_plan(book, dataset)
        if plan is not None:
            yield plan


def _roots(plan: Plan) -> Mapping[str, frozenset[str]]:
    """Return for each column made the columns of the source that it comes from."""
    roots: dict[str, frozenset[str]] = {}
    for step in plan.steps:
        of_step = frozenset().union(
            *(frozenset((read.column,)) if read.from_source else roots[read.column] for read in step.reads)
        )
        for name in step.made_names:
            roots[name] = of_step
    return roots


def _share_a_root(roots: Mapping[str, frozenset[str]], names: Iterable[str]) -> bool:
    seen: set[str] = set()
    for name in names:
        mine = roots.get(name, frozenset())
        if mine & seen:
            return True
        seen |= mine
    return False
