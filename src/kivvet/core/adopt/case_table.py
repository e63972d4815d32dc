"""The branches of a CASE as the rows of a table: cells where a branch compares one column with constants, else `when`.

The first row that matches wins, as the first branch does. A comparison with NULL is unknown and no cell matches a missing value
unless it says so, so that both give the same everywhere.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal

from kivvet.core.adopt.case_cells import NEVER, any_of, both_of, cell_of, without_empty_texts
from kivvet.core.adopt.cases import Branch
from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.tree import (
    And,
    Call,
    ColumnName,
    Comparison,
    Constant,
    Not,
    Or,
    Tree,
    columns_read,
    walk,
    without_not,
    write_formula,
)
from kivvet.core.formulas.types import type_of, type_of_constant
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import WHEN
from kivvet.core.words.conditions import (
    AnyOf,
    Condition,
    IsMissing,
    write_condition,
)
from kivvet.core.words.values import Value, ValueType
from kivvet.core.words.wording import count, listed

_MOST_ROWS_OF_BRANCH = 24  # that OR makes of one branch; else it stays as it is, in `when`


@dataclass
class CaseRow:
    """A row: its cells by column, the text of its `when`, and what it gives."""

    cells: dict[str, Condition] = field(default_factory=dict)
    when: tuple[Tree, ...] = ()
    gives: Tree = field(default_factory=lambda: Constant(None))
    branch: int = 0
    note: str = ""


@dataclass
class CaseTable:
    """What a CASE says, as a table.

    Attributes
    ----------
    inputs : tuple of Input
    output : Output
    rows : list of CaseRow
    otherwise : Value, or None
        What ELSE gives, where it is a constant.
    has_else : bool
    notes : list of str
        What of it is otherwise than it may seem.
    """

    inputs: tuple[Input, ...]
    output: Output
    rows: list[CaseRow]
    otherwise: Value | None
    has_else: bool
    notes: list[str] = field(default_factory=list)

    @property
    def records(self) -> list[list[str]]:
        """The rows as texts, headings first."""
        has_when = any(row.when for row in self.rows)
        names = [input_.name for input_ in self.inputs]
        heads = [*names, *([WHEN] if has_when else []), self.output.name]
        made = [heads]
        for row in self.rows:
            cells = [write_condition(row.cells[name]) if name in row.cells else "" for name in names]
            if len(heads) == 2 and not cells[0]:
                cells = ["any"]
            when = [" AND ".join(_in_brackets(one) for one in row.when)] if has_when else []
            made.append([*cells, *when, result_of(row.gives)])
        return made


def _in_brackets(tree: Tree) -> str:
    text = write_formula(tree)
    return f"({text})" if isinstance(tree, Or) else text


def result_of(tree: Tree) -> str:
    """Return what a branch gives as the cell of a result."""
    from kivvet.core.read.table_text import result_text

    if not isinstance(tree, Constant):
        return f"= {write_formula(tree)}"
    if tree.value is None:
        return "missing"
    return result_text(tree.value)


def case_table(
    name: str,
    branches: Sequence[Branch],
    types: Mapping[str, ValueType] | None = None,
    spelled: Mapping[str, str] | None = None,
) -> CaseTable:
    """Return what a CASE says as a table.

    Parameters
    ----------
    name : str
        Of the output.
    branches : sequence of Branch
    types : mapping of str to str, optional
        The types of columns, as far as they are known.
    spelled : mapping of str to str, optional
        Where texts are compared in capitals, so that case does not count: by such a text how it is to be written. The inputs
        of texts fold case then.

    Raises
    ------
    FormulaError
        With the place in the text, where types do not go together.
    """
    known = dict(types or {})
    if spelled is not None:
        branches = [
            replace(branch, asked=tuple(_as_spelled(part, spelled) for part in branch.asked))
            for branch in branches
        ]
    kinds = _types_of_columns(branches, known)
    notes: list[str] = []
    rows: list[CaseRow] = []
    otherwise: Value | None = None
    has_else = False
    for number, branch in enumerate(branches, 1):
        if not branch.asked:
            has_else = True
            if isinstance(branch.gives, Constant):
                otherwise = branch.gives.value
            else:
                rows.append(CaseRow(gives=branch.gives, branch=number, note="what ELSE gave"))
            if number < len(branches):
                notes.append(
                    f"branch {number} always holds: {count(len(branches) - number, 'branch', 'branches')} below never decide"
                )
            break
        made = list(_rows_of(branch, number, kinds))
        if not made:
            notes.append(
                f"branch {number} is never true, since a comparison with NULL never is: it is left out"
            )
        rows += made
    _leave_missing_to_first(rows)
    inputs = _inputs(rows, kinds)
    if spelled is not None:
        inputs = tuple(
            replace(input_, fold=("case",)) if input_.type == "text" else input_ for input_ in inputs
        )
        for row in rows:
            row.when = tuple(_in_capitals(part, kinds) for part in row.when)
    output = Output(name, _output_type(branches, kinds | known))
    _refuse_mixed(branches, output)
    return CaseTable(inputs, output, rows, otherwise, has_else, notes)


def _leave_missing_to_first(rows: Sequence[CaseRow]) -> None:
    """Take "or missing" out of rows below one that asks for just that: it never comes to them."""
    asked: set[str] = set()
    for row in rows:
        for name in asked & set(row.cells):
            one = row.cells[name]
            if isinstance(one, AnyOf) and IsMissing() in one.parts:
                row.cells[name] = any_of([part for part in one.parts if part != IsMissing()])
        if not row.when and list(row.cells.values()) == [IsMissing()]:
            asked |= set(row.cells)


def _as_spelled(tree: Tree, spelled: Mapping[str, str]) -> Tree:
    """Return a condition whose texts in capitals are compared as they are spelled."""
    match tree:
        case And(parts):
            return And(tuple(_as_spelled(part, spelled) for part in parts))
        case Or(parts):
            return Or(tuple(_as_spelled(part, spelled) for part in parts))
        case Not(part):
            return Not(_as_spelled(part, spelled))
        case Comparison(
            ("=" | "<>") as operator, Call("UPPER", (ColumnName() as column,)), Constant(str(text)), at
        ):
            return Comparison(operator, column, Constant(spelled.get(text, text)), at)
    return tree


def _in_capitals(tree: Tree, kinds: Mapping[str, ValueType]) -> Tree:
    """Return a condition that stays one, its texts compared in capitals again."""
    match tree:
        case And(parts):
            return And(tuple(_in_capitals(part, kinds) for part in parts))
        case Or(parts):
            return Or(tuple(_in_capitals(part, kinds) for part in parts))
        case Comparison(operator, ColumnName(name) as column, Constant(str(text)), at) if (
            kinds.get(name) == "text"
        ):
            return Comparison(operator, Call("UPPER", (column,)), Constant(text.upper()), at)
    return tree


def _types_of_columns(branches: Iterable[Branch], known: Mapping[str, ValueType]) -> dict[str, ValueType]:
    """Return by column the type that the constants it is compared with give it."""
    kinds: dict[str, ValueType] = {}
    for branch in branches:
        for one in branch.asked:
            for test in walk(one):
                if not isinstance(test, Comparison):
                    continue
                for side, other in ((test.left, test.right), (test.right, test.left)):
                    if not (isinstance(side, ColumnName) and isinstance(other, Constant)):
                        continue
                    kind = type_of_constant(other.value)
                    if kind is None:
                        continue
                    kind = "number" if kind == "integer" else kind
                    if side.name not in known and kinds.setdefault(side.name, kind) != kind:
                        raise FormulaError(
                            f"{side.name} is compared with {kinds[side.name]} and with {kind}",
                            branch.at,
                            "compare it with one of them",
                        )
            for call in walk(one):
                if isinstance(call, Call) and call.name == "LIKE" and isinstance(call.parts[0], ColumnName):
                    kinds.setdefault(call.parts[0].name, "text")
    return {**kinds, **known}


def _rows_of(branch: Branch, number: int, kinds: Mapping[str, ValueType]) -> Iterator[CaseRow]:
    """Yield the rows of a branch; several where it asks for one thing or another of different columns."""
    tests: list[Tree] = []
    for one in branch.asked:
        plain = without_empty_texts(without_not(one))
        tests += plain.parts if isinstance(plain, And) else [plain]
    choices = [_choices(test, kinds) for test in tests]
    total = 1
    for each in choices:
        total *= len(each)
    if total > _MOST_ROWS_OF_BRANCH:
        choices = [each if len(each) == 1 else [(test,)] for test, each in zip(tests, choices, strict=True)]
    for chosen in itertools.product(*choices):
        row = _row([test for some in chosen for test in some], kinds)
        if row is not None:
            yield replace(row, gives=branch.gives, branch=number)


def _choices(test: Tree, kinds: Mapping[str, ValueType]) -> list[tuple[Tree, ...]]:
    """Return what a test asks, each a choice of tests that all have to hold."""
    if not isinstance(test, Or) or cell_of(test, kinds) is not None:
        return [(test,)]
    return [tuple(part.parts) if isinstance(part, And) else (part,) for part in test.parts]


def _row(tests: Sequence[Tree], kinds: Mapping[str, ValueType]) -> CaseRow | None:
    """Return a row that asks all of some tests; None where that is never true."""
    row = CaseRow()
    when: list[Tree] = []
    for test in tests:
        found = cell_of(test, kinds)
        if found is NEVER:
            return None
        if not isinstance(found, tuple):
            when.append(test)
            continue
        name, condition = found
        before = row.cells.get(name)
        together = condition if before is None else both_of(before, condition)
        if together is NEVER:
            return None
        if together is None:
            when.append(test)
        else:
            row.cells[name] = together  # type: ignore[assignment]
    row.when = tuple(when)
    return row


def _inputs(rows: Sequence[CaseRow], kinds: Mapping[str, ValueType]) -> tuple[Input, ...]:
    names = list(dict.fromkeys(name for row in rows for name in row.cells))
    if not names:  # all is asked in `when`: some column has to be named
        read = [name for row in rows for one in row.when for name in columns_read(one)]
        names = [next((name for name in read if name in kinds), read[0])] if read else []
    return tuple(Input(name, kinds.get(name, "number")) for name in names)


def _output_type(branches: Sequence[Branch], kinds: Mapping[str, ValueType]) -> ValueType:
    """Return the type of what all branches give."""
    found: list[ValueType] = []
    for branch in branches:
        kind = type_of(branch.gives, lambda column: kinds.get(column.name))
        if kind is not None:
            is_whole = isinstance(branch.gives, Constant) and kind == "number"
            value = branch.gives.value if isinstance(branch.gives, Constant) else None
            whole = is_whole and isinstance(value, Decimal) and value == value.to_integral_value()
            found.append("integer" if whole else kind)
        elif not isinstance(branch.gives, Constant):
            found.append("number")
    different = set(found)
    if different <= {"integer"} and different:
        return "integer"
    if different and different <= {"integer", "number", "decimal"}:
        return "number"
    if different == {"date", "datetime"}:
        return "datetime"
    return found[0] if found else "text"


def _refuse_mixed(branches: Sequence[Branch], output: Output) -> None:
    for branch in branches:
        if not isinstance(branch.gives, Constant) or branch.gives.value is None:
            continue
        kind = type_of_constant(branch.gives.value)
        fits = {
            "number": ("integer", "number"),
            "datetime": ("date", "datetime"),
            "integer": ("integer", "number"),
        }
        if kind is not None and kind not in fits.get(output.type, (output.type,)):
            raise FormulaError(
                f"one branch gives {write_formula(branch.gives)}, and others {output.type}",
                branch.at,
                "give one type in all branches, such as CAST(... AS VARCHAR(10))",
            )


def unfitting_names(tables: Sequence[CaseTable]) -> list[str]:
    """Return the columns that differ by case alone."""
    names = list(dict.fromkeys(input_.name for table in tables for input_ in table.inputs))
    by_case: dict[str, list[str]] = {}
    for name in names:
        by_case.setdefault(name.casefold(), []).append(name)
    return [listed(same) for same in by_case.values() if len(same) > 1]
