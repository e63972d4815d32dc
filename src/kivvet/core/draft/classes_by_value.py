"""Classes that are given by value, for the rows of a drafted mapping."""

from __future__ import annotations

from collections.abc import Mapping

from kivvet.core.tables.table import UNFINISHED, Result, Table
from kivvet.core.words.conditions import Condition, Equals
from kivvet.core.words.values import LiteralError, ValueType, fold_text, parse_value, write_value


class ClassesByValue:
    """Classes by value, as the values of one type are compared.

    Parameters
    ----------
    given : mapping of str to str
        By value, as it is written. A blank class is none.
    """

    def __init__(self, given: Mapping[str, str], kind: ValueType, fold: tuple[str, ...]) -> None:
        self.kind, self.fold = kind, fold
        self.classes = {self._plain(value): label for value, label in given.items() if label}
        self.written = {self._plain(value): value for value in given}

    def _plain(self, value: str) -> str:
        if self.kind == "text":
            return fold_text(value, self.fold)
        try:
            return write_value(parse_value(value, "number" if self.kind == "integer" else self.kind))
        except LiteralError:
            return value

    def of(self, condition: Condition) -> Result:
        """Return the class of the value that a row lists; what has none is to be filled in."""
        assert isinstance(condition, Equals)
        return self.classes.get(self._plain(write_value(condition.value)), UNFINISHED)

    def beside(self, table: Table) -> tuple[str, ...]:
        """Return the values, as they were written, that no row of a table lists."""
        rows = (row.conditions[0] for row in table.rows)
        listed = {self._plain(write_value(row.value)) for row in rows if isinstance(row, Equals)}
        return tuple(text for plain, text in self.written.items() if plain not in listed)
