"""Rules that stand as formulas down a column of a sheet, taken over: the formula that its rows share, the cells that were typed
over, lookups into ranges as tables of their own; held against what the column shows, row by row.
"""

from __future__ import annotations

import csv
import datetime as dt
import io
import itertools
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.asks.adopt_sql import NothingError, as_table, table_of_text, tree_of
from kivvet.books.asks.adopted import Adopted, RulesAdopted
from kivvet.books.asks.adopted_proof import NOTHING, proved
from kivvet.books.asks.data_read import data_read
from kivvet.books.files.read_formulas import parse_named_formula
from kivvet.books.runs.expressions import of_tree
from kivvet.core.adopt.case_table import case_table
from kivvet.core.adopt.cases import branches_of, is_case
from kivvet.core.adopt.sheet_case import SheetCase, SheetLookup
from kivvet.core.adopt.sheet_formula import Cell, Cells, Const, parse_sheet_formula, relative
from kivvet.core.adopt.sql_tokens import tokens_of
from kivvet.core.columns.column import type_of_arrow
from kivvet.core.formulas.errors import FormulaError, pointed_at
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.tree import Constant, Tree
from kivvet.core.read.options import toml_text
from kivvet.core.read.table_text import result_text
from kivvet.core.words.conditions import write_literal
from kivvet.core.words.errors import DataError
from kivvet.core.words.places import cell_name
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import count, did_you_mean, listed, shown_path, toml_key
from kivvet.io.sheet_table import SheetTable
from kivvet.io.workbook_cells import CellRange, cell_text
from kivvet.io.workbook_formulas import formulas_of
from kivvet.io.workbook_source import WorkbookSource

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

_MOST_CELLS_TOLD = 8
_ERRORS = (
    "#N/A",
    "#VALUE!",
    "#DIV/0!",
    "#REF!",
    "#NAME?",
    "#NUM!",
    "#NULL!",
)  # shown where there is no result


def adopt_sheet(
    book: OpenBook,
    path: Path,
    column: str,
    *,
    name: str = "",
    read_as: str = "",
    on_rows: Callable[[int], None] = lambda _: None,
) -> RulesAdopted:
    """Return the rule of a column of formulas as tables, nothing written yet; see `Book.adopt`."""
    data = data_read(None, path, read_as)
    source = data.open()
    assert isinstance(source, WorkbookSource)
    sheet = source.tables[0]
    if column not in sheet.names:
        raise DataError(
            f"has no column {column!r}" if column else "it is not said which column holds the formulas",
            place=source.workbook.place(sheet.cells.name, sheet.line),
            expected=listed(sheet.names, 20),
            fix=did_you_mean(column, sheet.names) or 'say it: --column (column="...")',
        )
    number = sheet.cells.left + sheet.columns[sheet.names.index(column)]
    formulas = formulas_of(path, sheet.cells.name, number)
    alike = {row: relative(text, row) for row, text in formulas.texts.items()}
    alike |= {row: alike[first] for row, first in formulas.copies.items()}
    rows = [row for row in sheet.numbers if row in alike]
    if not rows:
        raise DataError(
            f"column {column!r} holds no formulas",
            place=source.workbook.place(sheet.cells.name, sheet.line, number),
            fix="a column that holds results alone: kivvet draft NAME --on FILE --classes COLUMN",
        )
    usual = Counter(alike[row] for row in rows).most_common(1)[0][0]
    first = next(row for row in rows if alike[row] == usual and row in formulas.texts)
    reasons = {
        row: "another formula stands there" if row in alike else "it was typed over"
        for row in sheet.numbers
        if alike.get(row) != usual
    }
    called = name or column
    text = formulas.texts[first]
    place = source.workbook.place(sheet.cells.name, first, number)
    case = SheetCase(
        called,
        lambda at: _heading(sheet, at),
        lambda cells: _values(source, sheet, cells),
        _types(source, column),
        first,
        sheet.cells.name,
    )
    try:
        sql = case.sql(parse_sheet_formula(text))
        made = _made(called, sql, case, f"taken over from {shown_path(path)}, column {column}")
    except FormulaError as error:
        raise DataError(
            f"{error.problem}\n{pointed_at(text, min(error.offset, len(text)))}",
            place=place,
            fix=error.fix or None,
        ) from error
    left = [*_told(reasons, number), *case.notes]
    main = made[-1]
    proofs = []
    if main.table is not None:
        helpers = {one.name: one.table for one in made[:-1] if one.table is not None}
        keys = {one.name: _formula(one) for one in made if one.kind == "formula"}
        rule: Tree | None = main.tree if not isinstance(main.tree, Constant) else None

        def why(row: int, before: str, now: str) -> str:
            at = sheet.numbers[row - 1]
            if at not in reasons and (before, now) == ("false", NOTHING):
                return f"{cell_name(at, number)}, no condition holds, so that the sheet shows FALSE"
            said = reasons.get(at, "the value was not worked out anew since something changed")
            return f"{cell_name(at, number)}, {said}"

        fields = replace(data.dataset.fields, missing_words_of={column: _ERRORS})
        plain = replace(data, dataset=replace(data.dataset, entries=(), fields=fields))
        proofs.append(proved(book, plain, main.name, main.table, rule, column, on_rows, helpers, keys, why))
    return RulesAdopted(
        f"{shown_path(path)}, {cell_name(first, number)}", tuple(made), tuple(left), tuple(proofs)
    )


def _told(reasons: dict[int, str], column: int) -> list[str]:
    """Return in words which cells do not hold the formula that the others share."""
    said = []
    for what, why in (("holds", "it was typed over"), ("holds", "another formula stands there")):
        cells = [cell_name(row, column) for row, found in reasons.items() if found == why]
        if cells:
            text = "no formula" if why == "it was typed over" else "another formula than the others"
            said.append(
                f"{count(len(cells), 'cell')} {what if len(cells) == 1 else 'hold'} {text}: {listed(cells, _MOST_CELLS_TOLD)}"
            )
    return said


def _heading(sheet: SheetTable, number: int) -> str | None:
    at = number - sheet.cells.left
    return sheet.names[sheet.columns.index(at)] if at in sheet.columns else None


def _types(source: WorkbookSource, column: str) -> dict[str, ValueType]:
    found = {
        name: type_of_arrow(kind)
        for name, kind in source.schema.items()
        if name != column and kind is not None
    }
    return {name: kind for name, kind in found.items() if kind is not None}


def _values(source: WorkbookSource, sheet: SheetTable, cells: Cells) -> list[list[object]]:
    """Return the values of a block of cells of the workbook."""
    name = cells.first.sheet or sheet.cells.name
    book = source.workbook
    if name not in book.sheets:
        raise FormulaError(
            f"there is no sheet {name!r} in this workbook", 0, "links to other workbooks are not followed"
        )
    within = CellRange(cells.first.row, cells.first.column, cells.last.row, cells.last.column)
    found = book.cells(name, within)
    made: list[list[object]] = [
        [None] * (cells.last.column - cells.first.column + 1)
        for _ in range(cells.last.row - cells.first.row + 1)
    ]
    for at, row in enumerate(found.rows):
        for place, value in enumerate(row):
            made[found.top + at - cells.first.row][found.left + place - cells.first.column] = value
    return made


def _made(name: str, sql: str, case: SheetCase, note: str) -> list[Adopted]:
    """Return what a formula becomes: a table for each lookup, keys of several parts as formulas, and last the rule itself."""
    made: list[Adopted] = []
    is_lookup = len(case.lookups) == 1 and sql.strip('"') == case.lookups[0].name
    for lookup in case.lookups:
        key = lookup.key
        if isinstance(key, Cell):
            heading = case.column_of(key.column) or ""
            kind = case.types.get(heading)
        else:
            heading, kind = f"{lookup.name}_key", None
            written = case.key_sql(lookup)
            formula, faults = parse_named_formula(heading, written)
            if formula is None:
                raise FormulaError(faults[0].message, lookup.at)
            made.append(
                Adopted(
                    heading, "formula", f"{toml_key(heading)} = {toml_text(written)}\n", None, formula.tree
                )
            )
        output = name if is_lookup else lookup.name
        made.append(_lookup(replace(lookup, name=output), heading, kind, note))
    if is_lookup:
        return made
    tokens = tokens_of(sql)
    if not is_case(tokens):
        formula, faults = parse_named_formula(name, sql)
        if formula is None:
            raise FormulaError(faults[0].message, 0)
        return [*made, Adopted(name, "formula", f"{toml_key(name)} = {toml_text(sql)}\n", None, formula.tree)]
    branches = list(branches_of(tokens))
    types = dict(case.types) | {one.name: one.table.outputs[0].type for one in made if one.table is not None}
    table_case = case_table(name, branches, types, case.spelled)
    if not table_case.inputs:
        raise FormulaError("it gives the same in all rows: no condition of it can ever hold", 0)
    try:
        table, toml, notes = as_table(name, table_case, note)
    except NothingError as error:
        raise FormulaError("no condition of it can ever hold", 0) from error
    return [*made, Adopted(name, "table", toml, table, tree_of(branches), (*table_case.notes, *notes))]


def _lookup(lookup: SheetLookup, heading: str, kind: ValueType | None, note: str) -> Adopted:
    """Return a lookup into a range as a table: bins where the last key that is not larger decides, else its rows in a file."""
    notes: list[str] = []
    numeric = all(isinstance(key, (int, float)) and not isinstance(key, bool) for key in lookup.keys)
    key_type = kind or ("number" if numeric else "text")
    if (key_type == "text") is numeric and lookup.keys:
        raise FormulaError(
            f"{heading} holds {key_type}, and the keys of {lookup.place} are {'numbers' if numeric else 'texts'}: they never meet in the sheet either",
            lookup.at,
            "correct one of them first",
        )
    result_type = _type_of(lookup.results)
    lines = [f"note = {toml_text(f'{note}: the range {lookup.place}')}"]
    fold = ', fold = ["case"]' if key_type == "text" and not lookup.is_approximate else ""
    said = toml_text(key_type)
    files: dict[str, bytes] = {}
    if lookup.is_approximate:
        lines.append(f"inputs.{toml_key(heading)} = {said}")
    else:
        lines.append(f"inputs.{toml_key(heading)} = {{ type = {said}{fold} }}")
    lines.append(f"outputs.{toml_key(lookup.name)} = {toml_text(result_type)}")
    default = lookup.otherwise
    if isinstance(default, Const) and default.value not in (None, ""):
        text = result_text(default.value)
        lines.append(f"otherwise = {{ {toml_key(lookup.name)} = {toml_text(text)} }}")
        lines.append(f"missing   = {{ {toml_key(lookup.name)} = {toml_text(text)} }}")
    pairs = list(zip(lookup.keys, lookup.results, strict=True))
    if lookup.is_approximate:
        keys = [one for one, _ in pairs]
        if any(not _is_before(one, other) for one, other in itertools.pairwise(keys)):
            raise FormulaError(
                f"the keys of {lookup.place} do not ascend, so that a lookup of the nearest gives what it happens to",
                lookup.at,
                "sort the range, and work the sheet out anew",
            )
        ends = [_bound(key) for key in keys]
        cells = [f"{one} to <{other}" for one, other in itertools.pairwise(ends)] + [f">= {ends[-1]}"]
        lines += ["", "rows = ["]
        lines += [
            f"  [{toml_text(cell)}, {toml_text(result_text(_plain(value)))}],"
            for cell, (_, value) in zip(cells, pairs, strict=True)
        ]
        lines.append("]")
    else:
        seen: dict[str, tuple[object, object]] = {}
        for key, value in pairs:
            seen.setdefault(cell_text(key).casefold(), (key, value))
        if len(seen) < len(pairs):
            notes.append(
                f"{count(len(pairs) - len(seen), 'key')} of {lookup.place} stood above already: the first is taken, as the sheet takes it"
            )
        buffer = io.StringIO()
        writer = csv.writer(buffer, lineterminator="\n")
        writer.writerow([heading, lookup.name])
        writer.writerows([cell_text(key), cell_text(value)] for key, value in seen.values())
        files[f"{lookup.name}.csv"] = buffer.getvalue().encode()
        lines.append(f"lookup = {toml_text(f'{lookup.name}.csv')}")
    toml = "\n".join([*lines, ""])
    return Adopted(
        lookup.name,
        "table",
        toml,
        table_of_text(lookup.name, toml, files),
        Constant(None),
        tuple(notes),
        files=files,
    )


def _is_before(one: object, other: object) -> bool:
    if isinstance(one, str) and isinstance(other, str):
        return one.casefold() < other.casefold()
    numbers = (int, float)
    if isinstance(one, numbers) and isinstance(other, numbers):
        return one < other
    return isinstance(one, dt.date) and isinstance(other, dt.date) and one < other


def _bound(value: object) -> str:
    return write_literal(value) if isinstance(value, str) else cell_text(value)


def _plain(value: Any) -> Any:
    if isinstance(value, float) and value == int(value):
        return int(value)
    return value


def _type_of(values: tuple[object, ...]) -> ValueType:
    kinds = {type(value) for value in values if value is not None}
    if kinds <= {int, float} and kinds:
        return "integer" if all(value is None or value == int(value) for value in values) else "number"  # type: ignore[call-overload]
    if kinds <= {dt.date} and kinds:
        return "date"
    return "boolean" if kinds == {bool} else "text"


def _formula(one: Adopted) -> Formula:
    return of_tree(one.name, one.tree)
