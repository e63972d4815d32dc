"""What the datasets of a book can feed the inputs of its tables.

One use that reads a source leaves an input unlimited, and so does one that is not known: a source that cannot
be opened, or a dataset with faults, may feed anything.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from kivvet.books.runs.plans import plan_of
from kivvet.core.run.fed_domains import Fed, Uses, add_uses, joined_uses
from kivvet.core.run.plan import Plan
from kivvet.core.words.errors import KivvetError
from kivvet.core.words.kept import kept

if TYPE_CHECKING:
    from kivvet.books.files.dataset import Dataset
    from kivvet.books.files.open_book import OpenBook


@kept
def fed_domains(book: OpenBook) -> Fed:
    """Return by table and input what the datasets can feed it, for inputs that they limit."""
    if book.unusable_datasets:
        return {}  # nobody knows what they use
    uses: Uses = {}
    for dataset in book.datasets.values():
        plan, is_known = known_plan(book, dataset)
        if plan is not None:
            add_uses(uses, plan)
        if not is_known:
            for name in unknown_uses(book, dataset, plan):
                for input_ in book.tables[name].inputs:
                    uses.setdefault((name, input_.name), []).append(None)
    return joined_uses(uses)


def known_plan(book: OpenBook, dataset: Dataset) -> tuple[Plan | None, bool]:
    """Return the plan of a dataset, None where its source cannot be opened, and whether it is all that it
    does.
    """
    try:
        plan, faults = plan_of(book, dataset)
    except KivvetError:
        return None, False  # why is told elsewhere
    return plan, not faults


def unknown_uses(book: OpenBook, dataset: Dataset, plan: Plan | None) -> set[str]:
    """Return the tables that a dataset may use besides those in its plan."""
    planned = set() if plan is None else set(plan.tables)
    reached = book.used_by(dataset)
    return {name for name in reached if name in book.tables and name not in planned}
