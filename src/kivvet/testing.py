"""Helpers for other people's tests: what is asserted of books, tables and frames, and rows that a table is to be tried on.

`rows_for` needs hypothesis (a common package for tests of properties); nothing else here needs more than Kivvet.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.book import Book, open_book
from kivvet.core.words.errors import TableError
from kivvet.core.words.findings import Report
from kivvet.rule_table import RuleTable

if TYPE_CHECKING:
    from hypothesis.strategies import SearchStrategy

__all__ = ["assert_classified", "assert_clean", "assert_moves_at_most", "assert_same_meaning", "rows_for"]


def _book(given: Book | str | Path) -> Book:
    return given if isinstance(given, Book) else open_book(given)


def assert_clean(
    given: Book | RuleTable | str | Path,
    tables: Iterable[str] | None = None,
    *,
    warnings: bool = True,
    data: bool = False,
) -> None:
    """Assert that a check finds nothing that has to be mended.

    Parameters
    ----------
    given : Book, RuleTable, or the folder of a book
    tables : iterable of str, optional
        Of a book, only these.
    warnings : bool
        Whether warnings count, besides errors; notes never do.
    data : bool
        Whether a book's data is read too.

    Raises
    ------
    AssertionError
        With what is found.
    """
    try:
        report = given.check() if isinstance(given, RuleTable) else _book(given).check(tables, data=data)
    except TableError as error:
        raise AssertionError(str(error)) from None
    found = [one for one in report if one.severity == "error" or (warnings and one.severity == "warning")]
    if found:
        raise AssertionError(str(Report(tuple(found), report.tables)))


def assert_classified(given: Book | RuleTable | str | Path, frame: Any, columns: Sequence[Any] = ()) -> None:
    """Assert that every row of a frame gets a class: a row of the table, or what it gives for missing values, says which.

    Parameters
    ----------
    given : Book, RuleTable, or the folder of a book
    frame
        As of `Book.apply`.
    columns : sequence of str or mapping
        Of a book, what is applied.

    Raises
    ------
    AssertionError
        With the values that no row of a table holds, and how many rows of data have them.
    """
    try:
        if isinstance(given, RuleTable):
            made = given.apply_with_report(frame)
        else:
            made = _book(given).apply_with_report(frame, columns)
    except TableError as error:
        raise AssertionError(str(error)) from None
    told = []
    for table in made.report.tables:
        if table.unmatched:
            values = ", ".join(
                f"{value} ({n:,})" for value, n in [*dict(table.unmatched_values).items()][:10]
            )
            told.append(
                f"{', '.join(table.columns)}: no row of {table.table} holds {values}; {table.unmatched:,} rows of data"
            )
    if told:
        raise AssertionError("\n".join(told))


def assert_same_meaning(one: RuleTable, other: RuleTable, *, budget: int | None = None) -> None:
    """Assert that two versions of a table give the same for all values, which is proved, not sampled.

    Raises
    ------
    AssertionError
        With the regions in which they differ, or where it is not settled within the budget of steps.
    """
    found = other.compare(one, budget=budget)
    if not found.is_same:
        raise AssertionError(str(found))


def assert_moves_at_most(
    given: Book | str | Path, share: float, names: Iterable[str] = (), *, against: str | Path = "last"
) -> None:
    """Assert that today's rules give another class to no more than a share of the rows of any dataset.

    Parameters
    ----------
    share : float
        From 0 to 1.
    names : iterable of str
        Tables, formulas or datasets; all without them.
    against : str or Path
        ``last`` (what was applied last), a git revision, the folder of a book, or a table's file.

    Raises
    ------
    AssertionError
        With what would move.
    """
    impact = _book(given).impact(tuple(names), against=against)
    unknown = [dataset for dataset in impact.datasets if dataset.why_not or dataset.stopped_by]
    if unknown or any(dataset.largest_share > share for dataset in impact.datasets):
        raise AssertionError(str(impact))


def rows_for(table: RuleTable) -> SearchStrategy[dict[str, Any]]:
    """Return a strategy of hypothesis that draws rows for a table: a value for each input, the edges of its rows first.

    Parameters
    ----------
    table : RuleTable
        Of rows of conditions.

    Returns
    -------
    SearchStrategy of dict of str to value
        By input, and by column that `when` compares with plain values: bounds, what lies beside them, values of the domain,
        and None (missing) unless the input is required. Numbers are floats, whole numbers ints.
    """
    from hypothesis import strategies as st

    from kivvet.core.space.boxes import Space

    columns: dict[str, SearchStrategy[Any]] = {}
    for dimension in Space(table._table).dimensions:
        if not dimension.is_plain:
            continue
        edges = [_plain(value) for value in dimension.edges()]
        values: SearchStrategy[Any] = st.sampled_from(edges) if edges else st.none()
        numbers = [edge for edge in edges if isinstance(edge, (int, float)) and not isinstance(edge, bool)]
        if dimension.about.type == "number" and dimension.about.step is None and len(numbers) > 1:
            values |= st.floats(min(numbers), max(numbers))
        elif dimension.about.type == "integer" and len(numbers) > 1:
            inside = st.integers(int(min(numbers)), int(max(numbers)))
            values |= inside if dimension.about.step is None else st.sampled_from(edges)
        columns[dimension.about.name] = values if dimension.about.required else values | st.none()
    return st.fixed_dictionaries(columns)


def _plain(value: Any) -> Any:
    return float(value) if isinstance(value, Decimal) else value
