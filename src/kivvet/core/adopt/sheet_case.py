"""Formulas of sheets as the SQL of the same meaning: nested conditions as a CASE, a blank cell as the zero or the empty text that it
is there, texts compared without case. Lookups into ranges are handed out, to become tables of their own.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from decimal import Decimal

from kivvet.core.adopt.sheet_formula import Cell, Cells, Const, Func, Node
from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.tree import write_name
from kivvet.core.words.values import ValueType, write_value

_OPPOSITE = {"=": "<>", "<>": "=", "<": ">=", ">=": "<", ">": "<=", "<=": ">"}
_MIRRORED = {"=": "=", "<>": "<>", "<": ">", ">": "<", "<=": ">=", ">=": "<="}
#: The words of OpenFormula (ISO/IEC 26300), which workbooks of all programs hold, and one that several have added since.
_LOOKUPS = ("VLOOKUP", "HLOOKUP", "LOOKUP", "XLOOKUP", "INDEX")
_OF_ONE = {"ABS": "ABS({0})", "INT": "FLOOR({0})", "SQRT": "SQRT({0})", "EXP": "EXP({0})", "LN": "LN({0})"}
_OF_TEXT = {"UPPER": "UPPER({0})", "LOWER": "LOWER({0})", "TRIM": "TRIM({0})", "LEN": "CHAR_LENGTH({0})"}
_OF_DATES = {"YEAR": "YEAR", "MONTH": "MONTH", "DAY": "DAY"}


@dataclass(frozen=True)
class SheetLookup:
    """A lookup into a range.

    Attributes
    ----------
    name : str
        Of the column that stands for what it gives.
    key : Node
    keys, results : tuple
        Values of the range.
    is_approximate : bool
        Whether the last key that is not larger decides.
    otherwise : Const or None
        What is given where no key is found.
    place : str
        The range, as workbooks name it.
    at : int
    """

    name: str
    key: Node
    keys: tuple[object, ...]
    results: tuple[object, ...]
    is_approximate: bool
    otherwise: Const | None
    place: str
    at: int


@dataclass
class SheetCase:
    """Turns formulas of one column into SQL.

    Attributes
    ----------
    name : str
        Of the column.
    column_of : callable
        Gives the heading of a column of the same row by its number; None where there is none.
    values_of : callable
        Gives the values of a block of cells, row by row.
    types : mapping of str to str
        By heading.
    row : int
        The row of the sheet that the formula stands in.
    lookups : list of SheetLookup
    spelled : dict of str to str
        By a text in capitals, as the formula spells it.
    notes : list of str
    """

    name: str
    column_of: Callable[[int], str | None]
    values_of: Callable[[Cells], list[list[object]]]
    types: Mapping[str, ValueType]
    row: int
    sheet: str = ""
    lookups: list[SheetLookup] = field(default_factory=list)
    spelled: dict[str, str] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)

    def sql(self, node: Node) -> str:
        """Return a formula as SQL: a CASE, or a value.

        Raises
        ------
        FormulaError
            With the place, where something is not understood.
        """
        if isinstance(node, Func):
            if node.name in ("IF", "IFS", "SWITCH", "CHOOSE"):
                return self._case(node)
            if node.name in ("IFERROR", "IFNA") and isinstance(node.parts[0], Func):
                inner, default = node.parts[0], node.parts[1] if len(node.parts) > 1 else Const(None)
                if inner.name in _LOOKUPS and isinstance(default, Const):
                    return self._looked_up(inner, default)
                return f"COALESCE({self.sql(inner)}, {self.sql(default)})"
            if node.name in _LOOKUPS:
                return self._looked_up(node, None)
        return self._value(node)

    # Nested conditions.

    def _case(self, node: Func) -> str:
        parts = node.parts
        branches: list[str] = []
        last: Node = Const(None)
        if node.name == "IF":
            if not 1 <= len(parts) - 1 <= 2:
                raise FormulaError("IF has a condition and one or two values", node.at)
            branches.append(f"WHEN {self._asked(parts[0])} THEN {self.sql(parts[1])}")
            if len(parts) == 3:
                last = parts[2]
            else:
                self._note(
                    "an IF without a value for the rest gives FALSE there in the sheet, and nothing here"
                )
        elif node.name == "IFS":
            if len(parts) % 2:
                raise FormulaError("IFS has pairs of a condition and a value", node.at)
            for asked, gives in zip(parts[::2], parts[1::2], strict=True):
                branches.append(f"WHEN {self._asked(asked)} THEN {self.sql(gives)}")
        elif node.name == "SWITCH":
            pairs = parts[1:]
            if len(pairs) % 2:
                *pairs, last = pairs  # type: ignore[assignment]
            for asked, gives in zip(pairs[::2], pairs[1::2], strict=True):
                branches.append(
                    f"WHEN {self._asked(Func('=', (parts[0], asked), node.at))} THEN {self.sql(gives)}"
                )
        else:
            for number, gives in enumerate(parts[1:], 1):
                asked = Func("=", (parts[0], Const(Decimal(number))), node.at)
                branches.append(f"WHEN {self._asked(asked)} THEN {self.sql(gives)}")
        end = "" if last == Const(None) else f" ELSE {self.sql(last)}"
        return f"CASE {' '.join(branches)}{end} END"

    def _note(self, text: str) -> None:
        if text not in self.notes:
            self.notes.append(text)

    def _asked(self, node: Node, *, negated: bool = False) -> str:
        """Return a condition as SQL that is never unknown, or false where it is."""
        if isinstance(node, Const) and isinstance(node.value, bool):
            return "1 = 1" if node.value is not negated else "1 = 0"
        if isinstance(node, Cell):
            return self._asked(Func("<>", (node, Const(Decimal(0)))), negated=negated)
        if not isinstance(node, Func):
            raise FormulaError("a condition is expected", 0)
        if node.name == "NOT":
            return self._asked(node.parts[0], negated=not negated)
        if node.name in ("AND", "OR"):
            word = " AND " if (node.name == "AND") is not negated else " OR "
            return "(" + word.join(self._asked(part, negated=negated) for part in node.parts) + ")"
        if node.name == "ISBLANK" and isinstance(node.parts[0], Cell):
            return f"{self._column(node.parts[0])} IS {'NOT ' if negated else ''}NULL"
        if node.name in _OPPOSITE:
            operator = _OPPOSITE[node.name] if negated else node.name
            return self._compared(operator, node.parts[0], node.parts[1], node.at)
        raise FormulaError(f"{node.name} is not taken over as a condition", node.at)

    def _compared(self, operator: str, left: Node, right: Node, at: int) -> str:
        if isinstance(left, Const) and not isinstance(right, Const):
            return self._compared(_MIRRORED[operator], right, left, at)
        left, right = self._fixed(left), self._fixed(right)
        if isinstance(left, Cell) and isinstance(right, Const):
            return self._with_blank(operator, left, right, at)
        is_text = self._is_text(left) or self._is_text(right)
        if is_text:
            return f"UPPER({self._value(left)}) {operator} UPPER({self._value(right)})"
        return f"{self._number(left)} {operator} {self._number(right)}"

    def _with_blank(self, operator: str, cell: Cell, constant: Const, at: int) -> str:
        """Return a comparison of a cell with a constant, a blank cell being zero, or the text without characters."""
        name, value = self._column(cell), constant.value
        if isinstance(value, str) or (value is None):
            text = value or ""
            if not text:
                is_blank = operator in ("=", "<=")
                return (
                    f"{name} IS NULL"
                    if is_blank
                    else f"{name} IS NOT NULL"
                    if operator in ("<>", ">")
                    else "1 = 1"
                    if operator == ">="
                    else "1 = 0"
                )
            if self._kind(cell) not in ("text", None):
                raise FormulaError(
                    f"{name} holds {self._kind(cell)}, and is compared with the text {text!r}", at
                )
            self.spelled.setdefault(text.upper(), text)
            plain = f"UPPER({name}) {operator} {_quoted(text.upper())}"
            return f"({plain} OR {name} IS NULL)" if operator in ("<>", "<", "<=") else plain
        if isinstance(value, bool):
            return f"{name} {operator} {'TRUE' if value else 'FALSE'}"
        if self._kind(cell) == "text":
            raise FormulaError(
                f"{name} holds texts, and is compared with the number {write_value(value)}",
                at,
                "a text is never a number there; correct the column first",
            )
        written = self._written(value, cell)
        holds = {
            "=": value == 0,
            "<>": value != 0,
            "<": value > 0,
            "<=": value >= 0,
            ">": value < 0,
            ">=": value <= 0,
        }
        plain = f"{name} {operator} {written}"
        return f"({plain} OR {name} IS NULL)" if holds[operator] else plain

    def _written(self, value: Decimal, cell: Cell) -> str:
        """Return a number as SQL; a day, where the column holds days."""
        import datetime as dt

        kind = self._kind(cell)
        if kind in ("date", "datetime"):
            moment = dt.datetime(1899, 12, 30) + dt.timedelta(days=float(value))
            return (
                f"DATE '{moment:%Y-%m-%d}'" if kind == "date" else f"TIMESTAMP '{moment:%Y-%m-%d %H:%M:%S}'"
            )
        return write_value(value)

    def _fixed(self, node: Node) -> Node:
        """Return a cell that stays when the formula is copied as the value that it holds."""
        if isinstance(node, Cell) and (node.row_stays or node.sheet not in ("", self.sheet)):
            value = self.values_of(Cells(node, node))[0][0]
            self._note(f"{node.name} is taken over as {value}, what it holds now")
            if isinstance(value, bool) or value is None or isinstance(value, str):
                return Const(value)
            if isinstance(value, (int, float)):
                return Const(Decimal(repr(value)).normalize() if value != int(value) else Decimal(int(value)))
            raise FormulaError(f"{node.name} holds {value!r}, which is not taken over as a constant", 0)
        return node

    def _column(self, cell: Cell) -> str:
        if cell.sheet not in ("", self.sheet) or cell.row_stays:
            raise FormulaError(f"{cell.name} is no cell of the same row", 0)
        if cell.row != self.row:
            raise FormulaError(
                f"{cell.name} is in another row", 0, "what looks at other rows is a formula with OVER"
            )
        name = self.column_of(cell.column)
        if name is None:
            raise FormulaError(f"column {cell.name} has no heading", 0)
        return write_name(name)

    def _kind(self, cell: Cell) -> ValueType | None:
        name = self.column_of(cell.column)
        return None if name is None else self.types.get(name)

    def _is_text(self, node: Node) -> bool:
        if isinstance(node, Const):
            return isinstance(node.value, str)
        if isinstance(node, Cell):
            return self._kind(node) == "text"
        return isinstance(node, Func) and node.name in ("&", "UPPER", "LOWER", "TRIM", "LEFT", "MID")

    # Values.

    def _number(self, node: Node) -> str:
        """Return a value that is a number there: a blank cell is zero."""
        node = self._fixed(node)
        if isinstance(node, Cell):
            kind = self._kind(node)
            return (
                self._column(node) if kind in ("date", "datetime") else f"COALESCE({self._column(node)}, 0)"
            )
        return self._value(node)

    def _value(self, node: Node) -> str:
        node = self._fixed(node)
        if isinstance(node, Const):
            value = node.value
            if value is None or value == "":
                return "NULL"
            return (
                _quoted(value)
                if isinstance(value, str)
                else str(value).upper()
                if isinstance(value, bool)
                else write_value(value)
            )
        if isinstance(node, Cell):
            return self._column(node)
        if isinstance(node, Cells):
            raise FormulaError(f"{node.name} is a block of cells, where one value is expected", 0)
        if node.name in ("IF", "IFS", "SWITCH", "CHOOSE", "IFERROR", "IFNA", *_LOOKUPS):
            return self.sql(node)
        if node.name == "&":
            return " || ".join(self._as_text(part) for part in node.parts)
        if node.name in ("+", "-", "*", "/"):
            return f"({self._number(node.parts[0])} {node.name} {self._number(node.parts[1])})"
        if node.name == "^":
            return f"POWER({self._number(node.parts[0])}, {self._number(node.parts[1])})"
        if node.name == "NEG":
            return f"(0 - {self._number(node.parts[0])})"
        if node.name in ("ROUND", "MOD") and len(node.parts) == 2:
            return f"{node.name}({self._number(node.parts[0])}, {self._number(node.parts[1])})"
        if node.name in _OF_ONE and len(node.parts) == 1:
            return _OF_ONE[node.name].format(self._number(node.parts[0]))
        if node.name in _OF_TEXT and len(node.parts) == 1:
            return _OF_TEXT[node.name].format(self._value(node.parts[0]))
        if node.name in _OF_DATES and len(node.parts) == 1:
            return f"EXTRACT({_OF_DATES[node.name]} FROM {self._value(node.parts[0])})"
        if node.name == "LEFT":
            length = self._value(node.parts[1]) if len(node.parts) > 1 else "1"
            return f"SUBSTRING({self._value(node.parts[0])} FROM 1 FOR {length})"
        if node.name == "MID" and len(node.parts) == 3:
            return f"SUBSTRING({self._value(node.parts[0])} FROM {self._value(node.parts[1])} FOR {self._value(node.parts[2])})"
        if node.name == "SUM" and all(isinstance(part, (Cell, Const, Func)) for part in node.parts):
            return "(" + " + ".join(self._number(part) for part in node.parts) + ")"
        if node.name in _OPPOSITE or node.name in ("AND", "OR", "NOT", "ISBLANK"):
            return f"CASE WHEN {self._asked(node)} THEN TRUE ELSE FALSE END"
        raise FormulaError(f"the function {node.name} is not taken over", node.at)

    def _as_text(self, node: Node) -> str:
        if isinstance(node, Const) and isinstance(node.value, str):
            return _quoted(node.value) if node.value else "''"
        if self._is_text(node):
            return self._value(node)
        return f"CAST({self._value(node)} AS VARCHAR)"

    # Lookups.

    def _looked_up(self, node: Func, otherwise: Const | None) -> str:
        parts = [*node.parts, *[Const(None)] * 4]
        key, place = parts[0], parts[1]
        is_approximate = True
        if node.name in ("VLOOKUP", "HLOOKUP"):
            block = self._block(place, node)
            number = parts[2]
            if not (isinstance(number, Const) and isinstance(number.value, Decimal)):
                raise FormulaError(f"{node.name} takes a column that is worked out", node.at)
            lines = block if node.name == "VLOOKUP" else [list(line) for line in zip(*block, strict=True)]
            at = int(number.value) - 1
            if not 0 <= at < len(lines[0]):
                raise FormulaError(f"the range has no column {at + 1}", node.at)
            keys, results = [line[0] for line in lines], [line[at] for line in lines]
            said = parts[3]
            is_approximate = not (isinstance(said, Const) and said.value in (False, Decimal(0)))
        elif node.name == "INDEX":
            match = next(
                (part for part in node.parts[1:] if isinstance(part, Func) and part.name == "MATCH"), None
            )
            if match is None:
                raise FormulaError("INDEX is taken over with MATCH", node.at)
            key, place = match.parts[0], parts[0]
            results = [value for line in self._block(place, node) for value in line]
            keys = [value for line in self._block(match.parts[1], node) for value in line]
            said = match.parts[2] if len(match.parts) > 2 else Const(Decimal(1))
            if isinstance(said, Const) and said.value == Decimal(-1):
                raise FormulaError("MATCH from the largest down is not taken over", match.at)
            is_approximate = not (isinstance(said, Const) and said.value in (False, Decimal(0)))
        else:
            keys = [value for line in self._block(place, node) for value in line]
            results = [value for line in self._block(parts[2], node) for value in line]
            is_approximate = node.name == "LOOKUP"
            if (
                node.name == "XLOOKUP"
                and len(node.parts) > 3
                and isinstance(parts[3], Const)
                and parts[3].value is not None
            ):
                otherwise = parts[3]
            if (
                node.name == "XLOOKUP"
                and len(node.parts) > 4
                and parts[4] not in (Const(None), Const(Decimal(0)))
            ):
                raise FormulaError("this lookup is taken over where it looks for the value itself", node.at)
        if len(keys) != len(results):
            raise FormulaError(f"{len(keys)} keys and {len(results)} results", node.at)
        pairs = [(one, other) for one, other in zip(keys, results, strict=True) if one is not None]
        name = f"{self.name}_{'limit' if is_approximate else 'lookup'}" + (
            f"_{len(self.lookups) + 1}" if self.lookups else ""
        )
        shown = place.name if isinstance(place, (Cell, Cells)) else ""
        self.lookups.append(
            SheetLookup(
                name,
                key,
                tuple(one for one, _ in pairs),
                tuple(one for _, one in pairs),
                is_approximate,
                otherwise,
                shown,
                node.at,
            )
        )
        return write_name(name)

    def _block(self, node: Node, of: Func) -> list[list[object]]:
        if isinstance(node, Cell):
            node = Cells(node, node)
        if not isinstance(node, Cells):
            raise FormulaError(f"{of.name} looks into something that is no range of cells", of.at)
        if not (node.first.row_stays and node.last.row_stays) and node.first.sheet in ("", self.sheet):
            self._note(
                f"the range {node.name} moves when the formula is copied ($ is missing): it is taken as it stands in the first row"
            )
        return self.values_of(node)

    def key_sql(self, lookup: SheetLookup) -> str:
        """Return the key of a lookup as SQL."""
        return self._value(lookup.key)


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"
