"""A formula with a name, and the formula made ready for columns: types known, windows found, common parts
shared.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.tree import (
    Arithmetic,
    Call,
    Case,
    Constant,
    Tree,
    Window,
    columns_read,
    walk,
    write_formula,
)
from kivvet.core.formulas.types import TypeOf, type_of
from kivvet.core.words.examples import Example
from kivvet.core.words.kept import KeepsWork
from kivvet.core.words.places import Place
from kivvet.core.words.values import ValueType


@dataclass(frozen=True)
class Formula(KeepsWork):
    """A formula of a book.

    Attributes
    ----------
    name : str
    text : str
        As it is written.
    tree : Tree
    among : Tree or None
        The condition of the rows that take part in its windows; other rows get missing.
    type : str or None
        The type its values have to be of, if it is declared.
    is_strict : bool
        Whether a value without a result, such as a division by zero, is an error.
    """

    name: str
    text: str
    tree: Tree
    among: Tree | None = None
    type: ValueType | None = None
    is_strict: bool = False
    place: Place | None = None
    examples: tuple[Example, ...] = ()
    note: str = field(default="", compare=False)

    @property
    def reads(self) -> tuple[str, ...]:
        """The names it reads, each once."""
        among = () if self.among is None else columns_read(self.among)
        return tuple(dict.fromkeys([*columns_read(self.tree), *among]))

    @property
    def has_windows(self) -> bool:
        """Whether it looks at other rows, so that it needs all of them."""
        return any(isinstance(node, Window) for node in walk(self.tree))

    @property
    def meaning(self) -> dict[str, Any]:
        """All that decides its values, as plain values; however it is spaced or spelled in capitals."""
        return {
            "formula": write_formula(self.tree),
            "among": None if self.among is None else write_formula(self.among),
            "type": self.type,
        }

    def type_given(self, type_of_column: TypeOf) -> ValueType:
        """Return the type of its values.

        Raises
        ------
        FormulaError
            Where types do not fit each other, or the one declared.
        """
        if self.among is not None and (kind := type_of(self.among, type_of_column)) not in ("boolean", None):
            raise FormulaError(
                f"among is {kind}, and a condition is expected", 0, "for example amount IS NOT NULL"
            )
        found = type_of(self.tree, type_of_column)
        if self.type is None or found is None or found == self.type:
            return self.type or found or "number"
        if (found, self.type) in (("integer", "number"), ("date", "datetime")):
            return self.type
        if (found, self.type) == ("number", "integer") and is_whole(self.tree):
            return self.type
        fix = f"declare {found}, or CAST({self.text} AS {self.type.upper()})"
        if (found, self.type) == ("number", "integer"):
            fix = "declare number, or make whole numbers of it: CAST(ROUND(...) AS INTEGER)"
        raise FormulaError(f"the formula gives {found}, and {self.type} is declared", 0, fix)


def is_whole(tree: Tree) -> bool:
    """Whether all values of a tree are whole numbers by its form, even where they are floats."""
    match tree:
        case Call("FLOOR" | "CEILING" | "SIGN" | "CHAR_LENGTH"):
            return True
        case Call("ROUND" | "TRUNCATE", parts):
            digits = parts[1] if len(parts) > 1 else Constant(Decimal(0))
            return isinstance(digits, Constant) and isinstance(digits.value, Decimal) and digits.value <= 0
        case Call("COALESCE" | "GREATEST" | "LEAST" | "MOD" | "ABS", parts):
            return all(map(is_whole, parts))
        case Arithmetic("+" | "-" | "*", left, right):
            return is_whole(left) and is_whole(right)
        case Case(branches, otherwise):
            return all(is_whole(value) for _, value in branches) and (
                otherwise is None or is_whole(otherwise)
            )
        case Constant(value):
            return value is None or (isinstance(value, Decimal) and value == value.to_integral_value())
    return False
