"""What a rewritten table leaves as it was: of the columns that it made earlier, those that it would make again.

Two versions that mean the same give every value the same results. A target shows more than results: by which row, and
how, each row of data was decided; and data holds values that are finer than an input's step. So a column stands by what
it holds.
"""

from __future__ import annotations

from dataclasses import dataclass

from kivvet.core.compare.change import Change
from kivvet.core.compare.compare import compare_tables
from kivvet.core.compare.comparison import Comparison, in_short
from kivvet.core.read.meaning import table_fingerprint
from kivvet.core.tables.table import Table
from kivvet.core.words.wording import listed

_OF_RESULTS = ("output", "flag")


@dataclass(frozen=True, slots=True)
class Rewritten:
    """A table that was written anew, and gives every value the results that it gave.

    Attributes
    ----------
    fingerprint : str
        Of the table as it was.
    is_decided_alike : bool
        Whether each row of data is decided in the same way too: matched, unmatched, missing and so on.
    """

    fingerprint: str
    is_decided_alike: bool

    def stands(self, role: tuple[str, ...]) -> bool:
        """Whether a column made of the table, by what it holds (see `Made.role`), is what it was.

        Which row decides is another thing in rows that were written anew.
        """
        return role[0] in _OF_RESULTS or (role[0] == "status" and self.is_decided_alike)


def shown_changes(past: Table, table: Table) -> tuple[Change, ...]:
    """Return in short what a table that only was written anew shows otherwise: how values are decided, and the classes of
    an output in their order.
    """
    made = compare_tables(past, table, every_value=True, with_how=True)
    changes = [*made.options, *map(in_short, made.regions)]
    for output in table.outputs:
        classes = [one.classes(one.output(output.name)) for one in (past, table)]
        if output.type == "text" and classes[0] != classes[1]:
            changes.append(
                Change(f"classes of {output.name}", *(listed(map(str, one), 6) for one in classes))
            )
    return tuple(changes)


def rewritten(past: Table, table: Table, made: Comparison) -> Rewritten | None:
    """Return that a table was only written anew; None where some value may get another result.

    Parameters
    ----------
    past, table : Table
    made : Comparison
        Of the two.
    """
    is_lookup = past.lookup is not None or table.lookup is not None
    if is_lookup or not made.is_same or made.not_compared:
        return None
    has_steps = any(about.step is not None for about in table.dimensions)
    if has_steps and not compare_tables(past, table, every_value=True).is_same:
        return None
    is_decided_alike = compare_tables(past, table, every_value=True, with_how=True).is_same
    return Rewritten(table_fingerprint(past), is_decided_alike)
