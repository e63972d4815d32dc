"""Changing the rows of a table: in code, to a smaller one of the same meaning, until what must hold does."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kivvet.faces.opened import OpenedBook

if TYPE_CHECKING:
    from kivvet.books.asks.edit_table import TableEdit
    from kivvet.books.asks.mend_table import Mends
    from kivvet.books.asks.simplify_table import Simpler


class Editing(OpenedBook):
    """What a book does with the rows of its tables."""

    def edit(self, table: str) -> TableEdit:
        """Return an edit of a table's rows in code: `set`, `add`, `remove`, `move` and `rename`, then `save`.

        In the file only the lines concerned change; comments and the order of all else stay. It is checked before it is
        written, and refused where something else changed the file. The book has to be opened again to use it.

        Raises
        ------
        BookError
            If there is no such table, or its rows stand in a way in which they cannot be edited.
        """
        from kivvet.books.asks.edit_table import TableEdit

        return TableEdit(self._opened, table)

    def simplify(self, table: str, *, write: bool = False, budget: int | None = None) -> Simpler:
        """Return a smaller version of a table that means the same, which is proved, and what changes in its file.

        Parameters
        ----------
        table : str
        write : bool
            Whether the file is changed; lines that stay are as they were. The book has to be opened again to use it.
        budget : int, optional
            Steps that the proof over several inputs may take; 200,000 by default.

        Raises
        ------
        BookError
            If there is no such table, or its rows stand in a way in which they cannot be changed one by one.
        TableError
            If the table has errors.
        DataError
            If it is a lookup, or nothing can be proved within the budget.
        """
        from kivvet.books.asks.simplify_table import simplify_in_book

        return simplify_in_book(self._opened, table, writes=write, budget=budget)

    def mend(self, table: str, *, write: bool = False, offer: int = 1) -> Mends:
        """Return the fewest changes of a table after which all its examples and promises hold.

        Parameters
        ----------
        table : str
        write : bool
            Whether an offer is written; lines that stay are as they were. The book has to be opened again to use it.
        offer : int
            Which, counted from 1.

        Raises
        ------
        BookError
            If there is no such table or offer, or its rows stand in a way in which they cannot be changed one by one.
        DataError
            If it is a lookup, or lets every row count.
        """
        from kivvet.books.asks.mend_table import mend_in_book

        return mend_in_book(self._opened, table, writes=write, offer=offer)
