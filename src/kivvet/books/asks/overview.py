"""What is in a book: its tables, formulas, datasets and summaries, and what uses what."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any, Literal

from kivvet.books.files.dataset import Dataset
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.fed_domains import known_plan
from kivvet.books.runs.reviewed import review_text
from kivvet.books.runs.table_findings import findings_in_book
from kivvet.core.formulas.tree import columns_read
from kivvet.core.run.plan import Plan
from kivvet.core.run.table_step import TableStep
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import AnyOf, Condition, Equals, StartsWith
from kivvet.core.words.errors import BookError
from kivvet.core.words.printed import Printed
from kivvet.core.words.wording import did_you_mean, listed
from kivvet.io.locations import Location

Shape = Literal["bins", "mapping", "lookup", "rules"]


@dataclass(frozen=True, slots=True)
class TableListed:
    """A table of a book.

    Attributes
    ----------
    name, title, owner, note : str
    shape : {"bins", "mapping", "lookup", "rules"}
    inputs, outputs : tuple of str
    rows : int
    findings : mapping of str to int
        Of the table alone, by severity.
    used_by : tuple of str
        Datasets.
    reviewed : str
        When it was reviewed and by whom; ``changed since DAY`` where it means something else by now; empty: never.
    source : str
        What it was drafted from; empty where nothing says so.
    """

    name: str
    title: str
    owner: str
    note: str
    shape: Shape
    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    rows: int
    findings: Mapping[str, int]
    used_by: tuple[str, ...]
    reviewed: str = ""
    source: str = ""


@dataclass(frozen=True, slots=True)
class FormulaListed:
    """A formula of a book: its text, what it reads, and the datasets that use it."""

    name: str
    text: str
    reads: tuple[str, ...]
    used_by: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class DatasetListed:
    """A dataset or a summary of a book.

    Attributes
    ----------
    name, source, target : str
        Of a summary, `source` is the dataset that it sums up.
    is_summary : bool
    columns : tuple of str
        Those that it writes besides the source's; empty where that cannot be told.
    problem : str
        Why it cannot be applied, if so.
    """

    name: str
    source: str
    target: str
    is_summary: bool
    columns: tuple[str, ...]
    problem: str = ""


@dataclass(frozen=True, slots=True)
class Overview(Printed):
    """What is in a book."""

    title: str
    tables: tuple[TableListed, ...]
    formulas: tuple[FormulaListed, ...]
    datasets: tuple[DatasetListed, ...]
    unreadable: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        """Return it as plain values."""
        return {"version": 1, **asdict(self)}


@dataclass(frozen=True, slots=True)
class Use:
    """How one dataset uses a column.

    Attributes
    ----------
    dataset : str
    made_by : str
        "the source", "table NAME" or "formula NAME".
    rests_on, leads_to : tuple of str
        The columns that it is made of, directly or not, and those that are made of it.
    read_by : tuple of str
        The tables and formulas that read it, and what else does.
    """

    dataset: str
    made_by: str
    rests_on: tuple[str, ...]
    read_by: tuple[str, ...]
    leads_to: tuple[str, ...]

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def overview_of(book: OpenBook) -> Overview:
    """Return what is in a book; see `Book.overview`."""
    plans = {name: known_plan(book, one) for name, one in book.datasets.items()}
    used: dict[str, list[str]] = {}
    for name, (plan, _) in plans.items():
        for step in plan.steps if plan is not None else ():
            used.setdefault(step.name, []).append(name)
    users = {name: tuple(dict.fromkeys(some)) for name, some in used.items()}
    tables = [_listed_table(book, table, users.get(name, ())) for name, table in sorted(book.tables.items())]
    formulas = [
        FormulaListed(name, one.text, one.reads, users.get(name, ()))
        for name, one in sorted(book.formulas.items())
    ]
    datasets = [_listed_dataset(book, one, *plans[name]) for name, one in book.datasets.items()]
    broken = sorted(book.unusable_tables | book.unusable_formulas | book.unusable_datasets)
    return Overview(book.title, tuple(tables), tuple(formulas), tuple(datasets), tuple(broken))


def _listed_table(book: OpenBook, table: Table, users: tuple[str, ...]) -> TableListed:
    found: Counter[str] = Counter(finding.severity for finding in findings_in_book(book, table))
    found.update(finding.severity for finding in book.reading_findings if finding.table == table.name)
    return TableListed(
        table.name,
        table.title,
        table.owner,
        table.note,
        shape_of(table),
        tuple(input_.name for input_ in table.inputs),
        tuple(output.name for output in table.outputs),
        table.n_rows,
        dict(found),
        users,
        review_text(book, table),
        "" if table.origin is None else table.origin.note(),
    )


def shape_of(table: Table) -> Shape:
    """Return which of the four shapes a table has."""
    if table.lookup is not None:
        return "lookup"
    if len(table.dimensions) > 1 or len(table.inputs) > 1:
        return "rules"
    if all(_is_named(row.conditions[0]) for row in table.rows):
        return "mapping"
    return "bins" if table.inputs[0].type not in ("text", "boolean") else "mapping"


def _is_named(condition: Condition) -> bool:
    """Whether a condition names values, or what they begin with."""
    if isinstance(condition, AnyOf):
        return all(map(_is_named, condition.parts))
    return isinstance(condition, (Equals, StartsWith))


def _listed_dataset(book: OpenBook, one: Dataset, plan: Plan | None, is_known: bool) -> DatasetListed:
    problem = (
        "its source cannot be opened" if plan is None else "" if is_known else "it has faults: kivvet check"
    )
    return DatasetListed(
        one.name,
        one.of.name
        if one.of is not None
        else listed(one.sources, 3)
        if one.sources
        else _within(book, one.source),
        "" if one.target is None else _within(book, one.target),
        one.of is not None,
        () if plan is None else plan.written,
        problem,
    )


def _within(book: OpenBook, path: Location) -> str:
    """Return a path as it is from the book's folder, where it lies there; what lies in a database by its name."""
    if not isinstance(path, Path):
        return path.shown
    return path.relative_to(book.folder).as_posix() if path.is_relative_to(book.folder) else str(path)


def uses_of(book: OpenBook, name: str) -> tuple[Use, ...]:
    """Return how the datasets of a book use a column, a table or a formula; see `Book.uses`."""
    found: list[Use] = []
    columns: dict[str, None] = {}
    for dataset in book.datasets.values():
        plan, _ = known_plan(book, dataset)
        if plan is None:
            continue
        names = [name]
        for step in plan.steps:
            if step.name == name and name not in step.made_names:
                names = [name for name in step.made_names if "\\0" not in name]
        for one in names:
            use = _use(book, dataset, plan, one)
            if use is not None:
                found.append(use)
        columns |= dict.fromkeys(
            [
                *plan.source_columns,
                *(made for step in plan.steps for made in step.made_names if "\\0" not in made),
            ]
        )
    if not found:
        known = [*columns, *book.tables, *book.formulas]
        if name in book.tables or name in book.formulas:
            return ()
        raise BookError(
            f"nothing in the book reads or makes {name!r}",
            fix=did_you_mean(name, known) or f"there are {listed(columns, 30)}",
        )
    return tuple(found)


def _use(book: OpenBook, dataset: Dataset, plan: Plan, name: str) -> Use | None:
    maker = next((step for step in plan.steps if name in step.made_names), None)
    readers = [step for step in plan.steps if any(read.column == name for read in step.reads)]
    users = [
        f"summary {other.name}"
        for other in book.datasets.values()
        if other.of is not None and other.of.name == dataset.name and name in _names_in(other)
    ]
    if maker is None and not readers and not users:
        return None
    what = "the source"
    if maker is not None:
        what = f"{'table' if isinstance(maker, TableStep) else 'formula' if maker.name in book.formulas else ''} {maker.name}".strip()
    shown = [
        f"{'table' if isinstance(step, TableStep) else 'formula'} {step.name}"
        if step.name in book.tables or step.name in book.formulas
        else "where"
        if step.name == "where"
        else step.name
        for step in readers
    ]
    return Use(
        dataset.name,
        what,
        tuple(_upstream(plan, name)),
        (*dict.fromkeys(shown), *users),
        tuple(_downstream(plan, name)),
    )


def _names_in(summary: Dataset) -> set[str]:
    """Return the columns that a summary names."""
    from kivvet.core.formulas.errors import FormulaError
    from kivvet.core.formulas.parser import parse_formula

    assert summary.of is not None
    found: set[str] = set()
    for texts, of_groups in ((summary.of.by, False), (summary.of.values, True)):
        for _, text in texts:
            try:
                found |= set(columns_read(parse_formula(text, of_groups=of_groups)))
            except FormulaError:
                found.add(text)
    return found


def _upstream(plan: Plan, name: str) -> list[str]:
    """Return the columns that one is made of, nearest first."""
    found: dict[str, None] = {}
    waiting = [name]
    while waiting:
        one = waiting.pop(0)
        step = next((step for step in plan.steps if one in step.made_names), None)
        for read in step.reads if step is not None else ():
            if read.column not in found and "\\0" not in read.column:
                found[read.column] = None
                if not read.from_source:
                    waiting.append(read.column)
    return list(found)


def _downstream(plan: Plan, name: str) -> list[str]:
    """Return the columns that are made of one, in the order of computation."""
    reached = {name}
    found: dict[str, None] = {}
    for step in plan.steps:
        if any(read.column in reached for read in step.reads):
            reached |= set(step.made_names)
            found |= dict.fromkeys(name for name in step.made_names if "\\0" not in name)
    return list(found)
