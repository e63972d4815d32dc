"""Another name for a table, a column, a class or a dataset in all files of a book, proved to change nothing else."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, fields, is_dataclass, replace
from pathlib import Path
from typing import Any

from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.fed_domains import known_plan
from kivvet.core.compare.compare import compare_tables
from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.parser import parse_condition_formula, parse_formula
from kivvet.core.formulas.tree import ColumnName, Constant, write_formula, write_name
from kivvet.core.read.meaning import definition_of, table_fingerprint, table_of
from kivvet.core.run.class_step import ClassStep
from kivvet.core.tables.inputs import columns_of
from kivvet.core.tables.table import WHEN, Table
from kivvet.core.words.condition_parser import ConditionError, parse_condition
from kivvet.core.words.conditions import (
    AnyOf,
    Condition,
    Equals,
    Negation,
    is_bare_text,
    quote_text,
    write_condition,
    write_literal,
)
from kivvet.core.words.errors import KivvetError
from kivvet.core.words.findings import Finding
from kivvet.core.words.wording import listed, toml_key
from kivvet.editor.occurrences import Entity, Occurrence, columns_alike, occurrences
from kivvet.editor.open_books import OpenBooks
from kivvet.editor.texts import Edit, Texts


class RenameError(ValueError):
    """A name that cannot be given."""


@dataclass(frozen=True)
class Rename:
    """What becomes of the files.

    Attributes
    ----------
    edits : mapping of Path to list of Edit
        By file, in the order of places.
    moves : mapping of Path to Path
        Files that get another name.
    """

    edits: Mapping[Path, list[Edit]]
    moves: Mapping[Path, Path]


def rename(books: OpenBooks, folder: Path, entity: Entity, name: str) -> Rename:
    """Return the edits that give something another name everywhere.

    Raises
    ------
    RenameError
        If the name is taken or can be none, or it is not proven that nothing else would change.
    """
    book = books.read(folder)
    if book is None:
        raise RenameError("the book cannot be read")
    name = name.strip() if entity.kind != "class" else name
    _refuse(book, entity, name)
    found = occurrences(books, book, entity)
    edits: dict[Path, list[Edit]] = {}
    moves: dict[Path, Path] = {}
    for one in found:
        if one.span.start == one.span.end and entity.kind == "table":
            moves[one.path] = one.path.with_name(f"{name}.toml")
            continue
        edits.setdefault(one.path, []).append(Edit(one.span, _written(one, entity, name)))
    for path, made in edits.items():
        edits[path] = sorted(set(made), key=lambda edit: edit.span.start)
    _prove(books, book, entity, name, edits, moves)
    return Rename(edits, moves)


def _refuse(book: OpenBook, entity: Entity, name: str) -> None:
    if not name.strip() or "\n" in name or name == entity.word:
        raise RenameError("a name is not blank, stands on one line, and is another one")
    if book.is_used(entity.name):
        raise RenameError(f"{entity.name} belongs to a book that this one uses: rename it there")
    if any(
        finding.severity == "error" and finding.kind in ("syntax", "unreadable")
        for finding in book.reading_findings
    ):
        raise RenameError("mend what cannot be read in the book first: names in it are not found")
    taken: set[str] = set()
    if entity.kind in ("table", "column"):
        taken = (
            set(book.formulas)
            if entity.kind == "table"
            else set(book.tables)
            if entity.name in book.formulas
            else set()
        )
        taken |= set(book.tables) if entity.kind == "table" else _columns(book)
        if entity.kind == "column" and (source := _source_of(book, entity.name)):
            raise RenameError(
                f"{entity.name} is a column of the source of {source}: let another name stand for it there, "
                f'input = {{ {toml_key(name)} = "{entity.name}" }}'
            )
    elif entity.kind == "dataset":
        taken = set(book.datasets)
    elif entity.kind == "class":
        taken = {label for one in columns_alike(book, entity.name) for label in _classes(book, one)}
    if name in taken:
        raise RenameError(f"there is a {entity.kind} {name!r} already")
    if entity.kind in ("table", "dataset") and not name.replace("_", "a").replace("-", "a").isalnum():
        raise RenameError(f"{name!r} is no name for a {entity.kind}: letters, digits, _ and -")


def _columns(book: OpenBook) -> set[str]:
    tables = book.tables.values()
    return set(book.formulas) | {
        column.name for table in tables for column in columns_of(table.inputs, table.outputs)
    }


def _source_of(book: OpenBook, column: str) -> str:
    """Return a dataset that reads a column from its source; empty where none does."""
    for name, dataset in book.datasets.items():
        plan, _ = known_plan(book, dataset)
        if plan is not None and column in plan.source_columns and dataset.of is None:
            return name
    return ""


def _classes(book: OpenBook, column: str) -> set[str]:
    return {
        str(label)
        for table in book.tables.values()
        for output in table.outputs
        if output.name == column
        for label in table.classes(output)
    }


def _written(one: Occurrence, entity: Entity, name: str) -> str:
    """Return a name as it is written where it stands."""
    match one.form:
        case "key":
            return toml_key(name)
        case "string":
            return _escaped(name)
        case "condition":
            return _escaped(write_literal(name))
        case "csv-condition":
            return _in_csv(write_literal(name))
        case "result":
            return _escaped(_as_result(name))
        case "expression":
            return _escaped(write_name(name))
        case "literal":
            quoted = name.replace("'", "''")
            return f"'{_escaped(quoted)}'"
        case "promise":
            return _escaped(name if entity.kind == "class" and is_bare_text(name) else _in_promise(name))
        case "csv":
            return _in_csv(_as_result(name) if entity.kind == "class" else name)


def _in_promise(name: str) -> str:
    return name if not set(name) & set(' ",<>=') else quote_text(name)


def _as_result(name: str) -> str:
    """Return a class as a cell that reads as it."""
    is_plain = name == name.strip() and name != "missing" and not name.startswith(("=", '"'))
    return name if is_plain else quote_text(name)


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"')


def _in_csv(text: str) -> str:
    if not set(text) & set(',;\t"\n'):
        return text
    raise RenameError(
        f"{text!r} would have to stand in quotes in a CSV file: choose a name without signs of CSV"
    )


def applied(text: str, edits: list[Edit]) -> str:
    """Return a text with edits made, which do not meet."""
    for one in sorted(edits, key=lambda edit: edit.span.start, reverse=True):
        text = text[: one.span.start] + one.text + text[one.span.end :]
    return text


def _prove(
    books: OpenBooks,
    book: OpenBook,
    entity: Entity,
    name: str,
    edits: Mapping[Path, list[Edit]],
    moves: Mapping[Path, Path],
) -> None:
    """Read the book as it would be, and compare: each table and formula is what it was, but for the name."""
    after = _read_after(books, book, edits)
    alike = columns_alike(book, entity.name)
    tables = {
        name if entity.kind == "table" and one == entity.name else one: table
        for one, table in book.tables.items()
    }
    if moves:  # the file of the table is read under its old name here
        after.tables[name] = replace(after.tables.pop(entity.name), name=name)
    if set(tables) != set(after.tables):
        raise RenameError("not every table could be read then; nothing was changed")
    for one, before in tables.items():
        if not book.is_used(one) and not _is_same(_mapped(before, entity, name, alike), after.tables[one]):
            raise RenameError(f"it is not proven that table {one} would mean the same; nothing was changed")
    renamed = {
        name if entity.kind == "column" and one == entity.name else one: formula
        for one, formula in book.formulas.items()
    }
    if set(renamed) != set(after.formulas):
        raise RenameError("not every formula could be read then; nothing was changed")
    for one, formula in renamed.items():
        tree = _in_tree(formula.tree, entity, name)
        if write_formula(tree) != write_formula(after.formulas[one].tree):
            raise RenameError(f"it is not proven that formula {one} would mean the same; nothing was changed")
    _prove_plans(book, after, entity, name)
    if len(_errors(after)) > len(_errors(book)):
        new = [
            error.message
            for error in _errors(after)
            if error.message not in [each.message for each in _errors(book)]
        ]
        raise RenameError(f"the book would have an error then: {listed(new, 2)}; nothing was changed")


def _prove_plans(book: OpenBook, after: OpenBook, entity: Entity, name: str) -> None:
    """Compare what datasets read of their sources, and the columns that they write."""
    for one, dataset in book.datasets.items():
        now = after.datasets[name if entity.kind == "dataset" and one == entity.name else one]
        before, _ = known_plan(book, dataset)
        then, _ = known_plan(after, now)
        if before is None:
            continue
        is_same = then is not None and len(then.written) == len(before.written)
        if then is not None and is_same:
            by_class = {
                each for step in before.steps if isinstance(step, ClassStep) for each in step.made_names
            }
            # The names of columns by class hold that of the class, or of the amount.
            is_same = set(then.source_columns) == set(before.source_columns) and all(
                column == (name if entity == Entity("column", was) else was) or was in by_class
                for was, column in zip(before.written, then.written, strict=True)
            )
        if not is_same:
            raise RenameError(f"it is not proven that dataset {one} would be the same; nothing was changed")


def _errors(book: OpenBook) -> list[Finding]:
    return [finding for finding in book.reading_findings if finding.severity == "error"]


def _read_after(books: OpenBooks, book: OpenBook, edits: Mapping[Path, list[Edit]]) -> OpenBook:
    texts = Texts()
    try:
        for path, text in books.texts.opened.items():
            texts.put(path, text.text)
        for path, made in edits.items():
            texts.put(path, applied(books.texts.of(path).text, made))
        read = OpenBooks(texts).read(book.folder)
    finally:
        texts.clear()
    if read is None:
        raise RenameError("the book could not be read then; nothing was changed")
    return read


def _is_same(before: Table | None, after: Table) -> bool:
    if before is None:
        return False
    if table_fingerprint(before) == table_fingerprint(after):
        return True
    try:
        return compare_tables(before, after).is_same
    except KivvetError:
        return False


def _mapped(table: Table, entity: Entity, name: str, alike: frozenset[str]) -> Table | None:
    """Return a table with the name given in its values, not in its text; None where it is too large for that."""
    definition = definition_of(table)
    if definition is None:
        return None
    if entity.kind not in ("column", "class"):
        return table

    def of_name(one: str) -> str:
        return name if entity.kind == "column" and one == entity.name else one

    kinds = {input_.name: input_.type for input_ in table.inputs}
    outputs = [output.name for output in table.outputs]
    made = dict(definition)
    for word in ("inputs", "outputs", "missing", "otherwise"):
        made[word] = {of_name(one): value for one, value in definition[word].items()}
    if entity.kind == "class":
        for word in ("missing", "otherwise"):
            made[word] = {
                one: _result(value, entity, name, one in alike) for one, value in made[word].items()
            }
        for one in outputs:
            if one in alike and "order" in made["outputs"][one]:
                order = [name if label == entity.label else label for label in made["outputs"][one]["order"]]
                made["outputs"][one] = {**made["outputs"][one], "order": order}
    columns = [*kinds, *outputs]
    if "rows" in definition:
        heads, *rows = definition["rows"]
        made["rows"] = [[of_name(head) for head in heads]]
        for row in rows:
            cells = []
            for at, cell in enumerate(row):
                if at < len(kinds):
                    is_meant = entity.kind == "class" and columns[at] in alike
                    cells.append(_condition(cell, entity, name, kinds[columns[at]]) if is_meant else cell)
                elif heads[at] == WHEN and at >= len(columns):
                    cells.append(_expression(cell, entity, name))
                else:
                    cells.append(_result(cell, entity, name, columns[at] in alike))
            made["rows"].append(cells)
    else:
        made["lookup"], made["inputs"], made["outputs"] = _lookup(definition, entity, name, of_name, alike)
    return table_of(table.name, made)


def _lookup(
    definition: Mapping[str, Any],
    entity: Entity,
    name: str,
    of_name: Callable[[str], str],
    alike: frozenset[str],
) -> tuple[dict[str, Any], dict[str, Any], dict[str, Any]]:
    """Return the columns, inputs and outputs of a lookup with a name given."""
    lookup = dict(definition["lookup"])
    if entity.kind == "class":
        for heading, labels in definition["lookup"].items():
            if heading.partition(" ")[2] in alike:
                lookup[heading] = [name if label == entity.label else label for label in labels]
    inputs = {of_name(one): about for one, about in definition["inputs"].items()}
    outputs = {of_name(one): about for one, about in definition["outputs"].items()}
    return lookup, inputs, outputs


def _condition(cell: str, entity: Entity, name: str, kind: Any) -> str:
    try:
        return write_condition(_in_condition(parse_condition(cell, kind), entity.label, name))
    except ConditionError:
        return cell


def _in_condition(condition: Condition, label: str, name: str) -> Condition:
    match condition:
        case Equals(value):
            return Equals(name) if value == label else condition
        case Negation(part):
            return Negation(_in_condition(part, label, name))
        case AnyOf(parts):
            return AnyOf(tuple(_in_condition(part, label, name) for part in parts))
    return condition


def _result(cell: Any, entity: Entity, name: str, is_meant: bool) -> Any:
    if isinstance(cell, str) and cell.startswith("="):
        return f"= {_expression(cell[1:], entity, name)}"
    if entity.kind == "class" and is_meant and cell in (entity.label, quote_text(entity.label)):
        return quote_text(name)
    return cell


def _expression(text: str, entity: Entity, name: str) -> str:
    if not text.strip():
        return text
    for parse in (parse_condition_formula, parse_formula):
        try:
            return write_formula(_in_tree(parse(text), entity, name))
        except FormulaError:
            continue
    return text


def _in_tree(tree: Any, entity: Entity, name: str) -> Any:
    """Return a formula with a column named otherwise, or a constant that is a class written otherwise."""
    if isinstance(tree, ColumnName):
        return ColumnName(name) if entity.kind == "column" and tree.name == entity.name else tree
    if isinstance(tree, Constant):
        return Constant(name) if entity.kind == "class" and tree.value == entity.label else tree
    if isinstance(tree, tuple):
        return tuple(_in_tree(one, entity, name) for one in tree)
    if is_dataclass(tree) and not isinstance(tree, type):
        changed = {
            one.name: _in_tree(getattr(tree, one.name), entity, name) for one in fields(tree) if one.init
        }
        return replace(tree, **changed)
    return tree
