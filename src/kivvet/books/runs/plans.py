"""The datasets of a book made ready, each plan worked out once for a source."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.prepare import Prepared, prepared_of
from kivvet.books.runs.sources import source_of
from kivvet.core.run.examples import formula_example_findings
from kivvet.core.run.plan import Plan
from kivvet.core.run.planner import make_plan
from kivvet.core.words.findings import Finding, with_severity
from kivvet.core.words.kept import kept
from kivvet.io.source_and_target import Source

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


def prepare(
    book: OpenBook, dataset: Dataset, *, with_all_types: bool = False
) -> tuple[Prepared, list[Finding]]:
    """Resolve all names and types; return the faults too, which are the dataset's own.

    Parameters
    ----------
    with_all_types : bool
        Whether the type of every column of the source is needed, not just of those that the plan reads. What the
        book does not say is told by the data, in one pass for all of them.
    """
    known, source, key = _known_prepared(book), source_of(book, dataset), (dataset.name, with_all_types)
    if key not in known or known[key][0].source is not source or known[key][0].dataset is not dataset:
        prepared, faults = prepared_of(
            dataset,
            source,
            book.tables,
            book.formulas,
            book.unusable_tables | book.unusable_formulas,
            with_all_types=with_all_types,
            planned=plan_of(book, dataset) if book.datasets.get(dataset.name) is dataset else None,
        )
        formulas = {step.formula.name: step.formula for step in prepared.plan.formula_steps}
        examples = [found for formula in formulas.values() for found in formula_example_findings(formula)]
        known[key] = prepared, (*faults, *with_severity(examples, book.severity))
    prepared, found = known[key]
    return prepared, [*found]


def plan_of(book: OpenBook, dataset: Dataset) -> tuple[Plan, list[Finding]]:
    """Return the plan of a dataset, types left open, and the faults in it; worked out once for a source."""
    known, source = _known_plans(book), source_of(book, dataset)
    if dataset.name not in known or known[dataset.name][0] is not source:
        unusable = book.unusable_tables | book.unusable_formulas
        made = make_plan(
            dataset.entries,
            book.tables,
            source.names,
            dataset.renamed,
            unusable,
            book.formulas,
            where=dataset.where,
        )
        known[dataset.name] = source, made
    return known[dataset.name][1]


@kept
def _known_prepared(_: OpenBook) -> dict[tuple[str, bool], tuple[Prepared, tuple[Finding, ...]]]:
    return {}


@kept
def _known_plans(_: OpenBook) -> dict[str, tuple[Source, tuple[Plan, list[Finding]]]]:
    return {}
