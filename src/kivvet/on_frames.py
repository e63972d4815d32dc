"""What is asked of a frame without a book: how it looks, a table drafted from it, formulas worked out on it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, TypeVar

from kivvet.rule_table import RuleTable, rule_table

if TYPE_CHECKING:
    from kivvet.core.draft.look import Look

FrameT = TypeVar("FrameT")


def look(frame: Any) -> Look:
    """Return what a frame looks like.

    Parameters
    ----------
    frame : pandas.DataFrame, polars.DataFrame or pyarrow.Table
        Text columns are looked at as the fields of a file would be: numbers, dates and codes among them
        are recognised.
    """
    from kivvet.core.draft.look import look_at_frame

    return look_at_frame(frame)


def draft(
    frame: Any,
    column: str | Sequence[str],
    *,
    name: str | None = None,
    output: str | None = None,
    classes: str | None = None,
    propose: str | None = None,
    bins: int | None = None,
    bounds: Sequence[Any] = (),
    by_value: bool = False,
    quantiles: Sequence[Any] = (),
    results: str | Sequence[str] | Mapping[str, str] | None = None,
    fold: str | Sequence[str] = (),
    noting: str | None = None,
) -> RuleTable:
    """Return a table drafted from a column of data; ``print(table)`` shows its file.

    Parameters
    ----------
    frame : pandas.DataFrame, polars.DataFrame or pyarrow.Table
    column : str or sequence of str
        Of several, the combinations that occur become rows, or those of bins where some are numbers or dates; with `classes`, as
        few rows as were found that give every combination its class.
    name, output : str, optional
        Of the table and its output; by default the column's name with ``_class``, of several columns ``drafted``.
    classes : str, optional
        A column that already holds the classes: the table is the one that gives them; see `drafted`.
    propose : {"width", "counts", "round", "natural", "deviations"}, optional
        How numbers and dates are divided: equally wide, equally many rows, round bounds (the default),
        natural breaks, or one standard deviation apart about the mean.
    bins : int, optional
        About how many bins: 5 without it.
    bounds : sequence of numbers, dates or str
        The bounds themselves; each begins its upper bin.
    by_value : bool
        Whether numbers and dates too get one row a value, not bins.
    quantiles : sequence of numbers
        Shares of the rows at which the bounds are, rising, between 0 and 1.
    results : str or sequence of str, optional
        The classes of bins in their order, ``["cold", "mild", "warm"]`` or ``"cold,mild,warm"``; or a pattern for them, such as
        ``"tenth {number}"``; ``{range}`` is the condition; or for one row a value, the classes by value as a mapping. Without it they
        are left blank.
    fold : sequence of {"case", "space", "unicode"}
        Differences of spelling that do not count: texts that differ by them alone make one row, and the input says so.
    noting : str, optional
        A column whose most frequent values are noted beside each value of a mapping.

    Raises
    ------
    DataError
        If the column is not there, has no values, or too many different ones for a mapping.
    """
    from kivvet.core.draft.draft import draft_frame
    from kivvet.core.draft.several import draft_frame_over, names_of_columns
    from kivvet.core.draft.wishes import wishes_of

    columns = names_of_columns(column)
    is_of_one = len(columns) == 1
    wishes = wishes_of(
        output,
        propose,
        bins,
        bounds,
        by_value=by_value,
        quantiles=quantiles,
        results=results,
        fold=fold,
        classes=classes,
        noting=noting,
        is_of_one=is_of_one,
    )
    if not is_of_one:
        return rule_table(*draft_frame_over(frame, columns, name or "drafted", wishes, classes))
    return rule_table(*draft_frame(frame, columns[0], name or f"{columns[0]}_class", wishes, classes))


def with_formulas(frame: FrameT, formulas: Mapping[str, str]) -> FrameT:
    """Return `frame` with a new column for each formula, the same kind of frame that was given.

    Parameters
    ----------
    frame : pandas.DataFrame, pyarrow.Table, or any frame that gives an Arrow stream
    formulas : mapping of str to str
        By name of the new column; they may name each other, in any order, and columns of the frame.

    Raises
    ------
    TableError
        If a formula cannot be read, names what there is not, or formulas depend on themselves.
    DataError
        If types do not fit.
    """
    from kivvet.core.run.frames import with_formulas as worked_out

    return worked_out(frame, formulas)
