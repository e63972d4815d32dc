"""The rows of conditions of a definition of a table, and the results it names elsewhere."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any, Literal

from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.parser import parse_row_formula
from kivvet.core.formulas.tree import Condition as FormulaCondition
from kivvet.core.formulas.tree import Tree, write_formula
from kivvet.core.formulas.types import type_of
from kivvet.core.read.cells import cell_text, parse_result
from kivvet.core.read.options import Faults, KeyPath, toml_text
from kivvet.core.read.when import TypeMismatchError, WhenReader, formula_fault, spread
from kivvet.core.tables.inputs import Input, Output, columns_of
from kivvet.core.tables.table import WHEN, Computed, Result, Row
from kivvet.core.words.condition_parser import NUMERIC, ConditionError, parse_condition, plain_range
from kivvet.core.words.conditions import KEYWORDS, Condition, Equals, is_bare_text
from kivvet.core.words.values import (
    LiteralError,
)
from kivvet.core.words.wording import did_you_mean, listed

#: Words of the syntax of conditions; a text that is one stands in quotes.
_WORDS = KEYWORDS | {"not", "to"}
RowsAre = Literal["inline", "file", "unreadable"]


class RowReader:
    """Reads rows of conditions and results.

    Parameters
    ----------
    faults : Faults
    inputs, outputs : tuples
    rows_are : {"inline", "file"}
    computes : bool
        Whether results may be formulas.
    """

    def __init__(
        self,
        faults: Faults,
        inputs: tuple[Input, ...],
        outputs: tuple[Output, ...],
        rows_are: RowsAre,
        *,
        computes: bool,
    ) -> None:
        self.faults = faults
        self.inputs = inputs
        self.outputs = outputs
        self.rows_are = rows_are
        self.computes = computes
        self.headings: tuple[str, ...] = ()
        self.ranking = {output.ordered_by for output in outputs if output.ordered_by}
        self._rows: tuple[Sequence[Sequence[Any]], int] = ((), 0)
        self.whens = WhenReader(inputs)

    def parse_rows(self, given: Any) -> tuple[Row, ...]:
        """Return the rows; those that cannot be understood are left out."""
        inputs, outputs = self.inputs, self.outputs
        if not isinstance(given, (list, tuple)) or not all(isinstance(row, (list, tuple)) for row in given):
            self.faults.add(
                "rows is a list of lists, or the name of a CSV file",
                ("rows",),
                fix='for example  rows = [["< 5", "low"]]',
            )
            return ()
        headings = [column.column or column.name for column in columns_of(inputs, outputs)]
        first, columns, when = self.header(given, inputs, outputs, headings)
        if columns is None:
            return ()
        self.headings = tuple(str(cell).strip() for cell in given[0]) if first else ()
        self._rows = given, first
        read: list[tuple[Row, FormulaCondition | None]] = []
        may_be_plain = when is None and _may_be_plain(inputs, outputs)
        for index in range(first, len(given)):
            number = index - first + 1
            if may_be_plain and (plain := self.plain_row(given[index], index, number, columns)) is not None:
                read.append((plain, None))
                continue
            row = self.parse_row(given[index], index, number, inputs, outputs, columns, when)
            if row is not None:
                read.append(row)
        if when is None:
            return tuple(row for row, _ in read)
        asked = [{} if tree is None else self.whens.split(tree) for _, tree in read]
        n_dimensions = len(inputs) + len(self.whens.computed_inputs)
        return tuple(
            replace(row, when_asks=spread(one, n_dimensions))
            for (row, _), one in zip(read, asked, strict=True)
        )

    def cells_of(self, heading: str) -> list[tuple[int, Any]] | None:
        """Return the cells of a column by its heading, each with the number of its row; None where there is none."""
        if heading not in self.headings:
            return None
        given, first = self._rows
        place = self.headings.index(heading)
        return [
            (number, cells[place] if place < len(cells) else None)
            for number, cells in enumerate(given[first:], 1)
        ]

    def header(
        self,
        given: Sequence[Sequence[Any]],
        inputs: tuple[Input, ...],
        outputs: tuple[Output, ...],
        headings: list[str],
    ) -> tuple[int, list[int] | None, int | None]:
        """Return the index of the first row of conditions, the column of each heading (None: a fault) and of
        `when`.
        """
        names = [column.name for column in columns_of(inputs, outputs)]
        top = [str(cell).strip() for cell in given[0]] if given else []
        may_ask = WHEN not in names and WHEN not in headings
        named = set(top) - {WHEN} if may_ask else set(top)
        named -= self.ranking - {*names, *headings}
        needs_header = len(headings) > 2 or self.rows_are == "file"
        is_header = bool(top) and (named in (set(names), set(headings)) or needs_header)
        if not is_header:
            if needs_header and not given:
                self.faults.add(
                    "the first row names the columns",
                    ("rows",),
                    fix=f"begin with {toml_text(headings)}",
                )
                return 0, None, None
            return 0, list(range(len(headings))), None
        if self.rows_are == "inline" and not named & {*names, *headings}:
            self.faults.add(
                f"with several inputs or outputs the first row names the columns; found {listed(top)}",
                ("rows", 0),
                fix=f"begin with {toml_text(_with_when(headings, len(inputs), len(top)))}",
            )
            return 0, None, None
        columns: list[int] = []
        faults = len(self.faults)
        for name, heading in zip(names, headings, strict=True):
            places = [i for i, cell in enumerate(top) if cell in (name, heading)]
            if len(places) != 1:
                what = "twice" if places else "not"
                fix = did_you_mean(heading, top) if not places else "keep one"
                self.faults.add(
                    f"the column {heading!r} is {what} among the headings: {listed(top)}",
                    ("rows", 0),
                    fix=fix or f"begin with {toml_text(_with_when(headings, len(inputs), len(top)))}",
                    kind="unknown-column",
                )
            else:
                columns.append(places[0])
        whens = [i for i, cell in enumerate(top) if may_ask and cell == WHEN]
        if len(whens) > 1:
            self.faults.add(
                "the column 'when' is twice among the headings",
                ("rows", 0),
                fix="join them with AND",
                kind="unknown-column",
            )
        for position, cell in enumerate(top):
            if (
                cell not in names
                and cell not in headings
                and position not in whens
                and cell not in self.ranking
                and self.rows_are == "inline"
            ):
                self.faults.add(
                    f"{cell!r} is neither input nor output",
                    ("rows", 0, position),
                    fix=did_you_mean(cell, names) or "",
                    kind="unknown-column",
                )
        return 1, columns if len(self.faults) == faults else None, whens[0] if whens else None

    def plain_row(self, cells: Sequence[Any], index: int, number: int, columns: Sequence[int]) -> Row | None:
        """Return a row of texts that say nothing but themselves, and of plain ranges, as most rows of long tables are;
        None where it must be read closely.
        """
        if len(cells) != len(self.headings or columns):
            return None
        texts = [cells[position] for position in columns]
        n_inputs = len(self.inputs)
        conditions: list[Condition] = []
        for text, about in zip(texts, self.inputs, strict=False):
            if type(text) is not str:
                return None
            if about.type != "text":
                if (condition := plain_range(text)) is None:
                    return None
                conditions.append(condition)
            elif text in _WORDS or not (text.isalnum() or is_bare_text(text)):
                return None
            else:
                conditions.append(Equals(text))
        results = []
        for text in texts[n_inputs:]:
            if type(text) is not str or not text or text[0] == "=" or text != text.strip():
                return None
            is_quoted = text[0] == '"'
            if text == "missing" or (is_quoted and (len(text) < 3 or text.find('"', 1) < len(text) - 1)):
                return None
            results.append(text[1:-1] if is_quoted else text)
        return Row(
            number,
            tuple(conditions),
            tuple(results),
            self.faults.locate(("rows", index)),
        )

    def parse_row(
        self,
        cells: Sequence[Any],
        index: int,
        number: int,
        inputs: tuple[Input, ...],
        outputs: tuple[Output, ...],
        columns: list[int],
        when: int | None,
    ) -> tuple[Row, FormulaCondition | None] | None:
        places = [*columns, *([] if when is None else [when])]
        expected = max(len(places), len(self.headings) if self.rows_are == "inline" else 0)
        if max(places) >= len(cells) or (len(cells) > expected and self.rows_are == "inline"):
            names = [
                *(column.name for column in columns_of(inputs, outputs)),
                *([] if when is None else [WHEN]),
            ]
            self.faults.add(
                f"row {number} has {len(cells)} cells; {expected} are expected",
                ("rows", index),
                row=number,
                fix=f"one cell each for {listed(self.headings or names, 20)}",
            )
            return None
        conditions: list[Condition] = []
        faults = len(self.faults)
        for column, position in zip(inputs, columns, strict=False):
            condition = self.parse_cell(cells[position], column, ("rows", index, position), number)
            if condition is not None:
                conditions.append(condition)
        tree, text = None, ""
        if when is not None and (text := str("" if cells[when] is None else cells[when]).strip()):
            try:
                tree = self.whens.read(text)
            except FormulaError as error:
                formula_fault(
                    self.faults, error, text, ("rows", index, when), f"in row {number}, when", number
                )
        results: list[Result] = []
        for output, position in zip(outputs, columns[len(inputs) :], strict=True):
            results.append(self.parse_result(cells[position], output, ("rows", index, position), number))
        if len(conditions) < len(inputs) or len(self.faults) > faults:
            return None
        shown = "" if tree is None else write_formula(tree)
        return Row(
            number, tuple(conditions), tuple(results), self.faults.locate(("rows", index)), when=shown
        ), tree

    def parse_cell(self, cell: Any, column: Input, path: KeyPath, number: int) -> Condition | None:
        try:
            text = cell_text(cell, column.type)
            return parse_condition(text, column.type)
        except ConditionError as error:
            self.faults.add(
                f"in row {number}, {column.name} = {str(cell).strip()!r}: {error.problem}",
                path,
                fix=error.fix or f"expected {error.expected}",
                row=number,
                offset=error.offset,
                kind=error.kind,
            )
        except LiteralError as error:
            self.faults.add(
                f"in row {number}, {column.name} is {cell!r}; expected {error.expected}",
                path,
                fix=error.fix,
                row=number,
                kind="type",
            )
        return None

    def parse_result(self, cell: Any, output: Output, path: KeyPath, number: int | None) -> Result:
        if isinstance(cell, str) and cell.strip().startswith("="):
            return self.parse_computed(cell, output, path, number)
        try:
            result = parse_result(cell, output.type)
        except LiteralError as error:
            where = f"in row {number}, " if number else ""
            self.faults.add(
                f"{where}{output.name} is {_shown(cell)}; expected {error.expected}",
                path,
                fix=error.fix,
                row=number,
                kind="type",
            )
            return None
        if isinstance(result, str):
            if output.width is not None and len(result) > output.width:
                self.faults.add(
                    f"{output.name} = {result!r} has {len(result)} characters; {output.width} fit",
                    path,
                    fix=f"shorten it, or set width = {len(result)}",
                    row=number,
                    kind="width",
                )
            if output.order and result not in output.order:
                self.faults.add(
                    f"{output.name} = {result!r} is not in its order: {listed(output.order)}",
                    path,
                    fix=did_you_mean(result, output.order) or "add it to order",
                    row=number,
                    kind="type",
                )
        return result

    def parse_computed(self, cell: str, output: Output, path: KeyPath, number: int | None) -> Result:
        """Return a result that is a formula; it must give values of the output's type."""
        text = cell.strip()[1:]
        where = f"in row {number}, {output.name}" if number else output.name
        as_text = f"; for the text itself write '\"{cell.strip()}\"'"
        if number is None or output.type == "decimal" or not self.computes:
            why = (
                "a formula is a result of rows only"
                if number is None
                else "a formula gives no exact decimal"
                if output.type == "decimal"
                else "a formula is no result where every row that matches gives one"
            )
            self.faults.add(
                f"{where} is {cell.strip()!r}: {why}",
                path,
                fix="name it in formulas.toml" + as_text,
                row=number,
                kind="type",
            )
            return None
        try:
            tree = self.result_tree(text, output)
        except FormulaError as error:
            shift = cell.index("=") + 1
            formula_fault(
                self.faults,
                type(error)(
                    error.problem, error.offset + shift, error.fix + (as_text if not error.fix else "")
                ),
                cell,
                path,
                where,
                number,
            )
            return None
        return Computed(write_formula(tree), tree)

    def result_tree(self, text: str, output: Output) -> Tree:
        """Return the tree of a result; `FormulaError` if it is none, or not of the output's type."""
        tree = parse_row_formula(text, "a result")
        try:
            kind = type_of(tree, self.whens.type_of)
        except FormulaError as error:
            raise TypeMismatchError(error.problem, error.offset, error.fix) from None
        wider = (("integer", "number"), ("date", "datetime"))
        if kind not in (None, output.type) and (kind, output.type) not in wider:
            raise TypeMismatchError(
                f"it gives {kind}, and {output.name} is {output.type}",
                0,
                f"CAST({text.strip()} AS {output.type.upper()})",
            )
        return tree


def _may_be_plain(inputs: Sequence[Input], outputs: Sequence[Output]) -> bool:
    """Whether all inputs are texts or numbers, and all outputs texts that nothing limits in length or to an order."""
    are_plain = [output.type == "text" and output.width is None and not output.order for output in outputs]
    return all(are_plain) and all(input_.type == "text" or input_.type in NUMERIC for input_ in inputs)


def _shown(cell: Any) -> str:
    return repr(cell.strip() if isinstance(cell, str) else cell)


def _with_when(headings: Sequence[str], n_inputs: int, n_cells: int) -> list[str]:
    """Return headings with `when` among them, where rows have a cell more than the inputs and outputs."""
    has_when = n_cells == len(headings) + 1 and WHEN not in headings
    return [*headings[:n_inputs], *([WHEN] if has_when else []), *headings[n_inputs:]]
