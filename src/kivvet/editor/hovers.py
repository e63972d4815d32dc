"""What is told of what stands at the cursor: a condition, a class, a formula, a keyword, a name."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kivvet.books.asks.try_formula import try_formula
from kivvet.books.files.open_book import BOOK_FORM, OpenBook
from kivvet.books.files.read_formulas import FORMULAS_FORM
from kivvet.books.files.toml_tokens import Cursor, cursor_at
from kivvet.core.formulas.functions import FUNCTIONS
from kivvet.core.formulas.tree import write_formula
from kivvet.core.read.options import KeyPath
from kivvet.core.read.table_parser import TABLE_FORM
from kivvet.core.run.step_reports import TableReport
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import WHEN, Table
from kivvet.core.words.condition_parser import ConditionError, parse_condition
from kivvet.core.words.condition_said import said
from kivvet.core.words.conditions import Condition, Equals
from kivvet.core.words.errors import KivvetError
from kivvet.core.words.values import write_plain
from kivvet.core.words.wording import count, listed
from kivvet.editor.data_seen import DataSeen, Meeting, rows_that_meet
from kivvet.editor.occurrences import entity_at
from kivvet.editor.open_books import BookFile, OpenBooks
from kivvet.editor.sketches import Cell, sketch_of, sketch_of_csv
from kivvet.editor.texts import Span

_SHOWN = 5


@dataclass(frozen=True)
class Hover:
    """What is told, as Markdown, and of which stretch."""

    span: Span
    markdown: str


def hover_at(books: OpenBooks, path: Path, offset: int, seen: DataSeen) -> Hover | None:
    """Return what is told of what stands at a place of a file; None where there is nothing to tell."""
    file = books.file(path)
    book = books.known(file)
    if book is None:
        return None
    text = books.texts.of(path)
    if file.kind == "rows":
        cell = sketch_of_csv(text).cell_at(offset)
        return None if cell is None else _of_cell(book, file.table, cell, seen)
    cursor = cursor_at(text.text, offset)
    if cursor.token is None:
        return None
    if file.kind == "table" and cursor.path[0] == "rows" and len(cursor.path) == 3:
        cell = sketch_of(text.text).cell_at(offset)
        found = None if cell is None else _of_cell(book, path.stem, cell, seen)
        if found is not None:
            return found
    lines = _of_name(book, file, cursor, seen, offset) or _of_keyword(file, cursor)
    if not lines and (named := entity_at(books, path, offset)) is not None and named[0].kind == "class":
        table = _giving(book, path.stem, named[0].name)
        lines = [] if table is None else _of_class(book, table, named[0].name, named[0].label, seen)
    return None if not lines else Hover(Span(cursor.token.start, cursor.token.end), "\n\n".join(lines))


def _giving(book: OpenBook, name: str, output: str) -> Table | None:
    """Return a table that gives an output: the named one, if it does."""
    of = [table for table in book.tables.values() if any(each.name == output for each in table.outputs)]
    return next((one for one in of if one.name == name), of[0] if of else None)


def _of_cell(book: OpenBook, name: str, cell: Cell, seen: DataSeen) -> Hover | None:
    table = book.tables.get(name)
    if table is None or not cell.heading:
        return None
    about = next((input_ for input_ in table.inputs if cell.heading in (input_.name, input_.column)), None)
    output = next((output for output in table.outputs if cell.heading in (output.name, output.column)), None)
    if cell.row == 0:
        lines = _of_input(table, about) if about else _of_output(table, output.name, seen) if output else []
    elif output is not None and (about is None or cell.repeats):
        lines = _of_class(book, table, output.name, cell.text, seen)
    elif about is not None:
        lines = _of_condition(book, table, about, cell, seen)
    elif cell.heading == WHEN and cell.text.strip():
        lines = [f"asks of the row besides: `{cell.text}`", *_of_row(table, cell.row, seen)]
    else:
        return None
    return Hover(cell.span, "\n\n".join(lines)) if lines else None


def _of_condition(book: OpenBook, table: Table, about: Input, cell: Cell, seen: DataSeen) -> list[str]:
    if table.lookup is not None:
        condition: Condition = Equals(cell.text)
        lines = [f"the key **{cell.text or 'blank'}** of `{about.name}`"]
    else:
        try:
            condition = parse_condition(cell.text, about.type)
        except ConditionError as error:
            return [f"`{cell.text}` is no condition: {error.problem}"]
        lines = [f"**{about.name}**: {said(condition, about.type)}"]
        lines += [_met(one, about.name) for one in rows_that_meet(book, table, about, condition)]
    return [*lines, *_of_row(table, cell.row, seen)]


def _met(one: Meeting, name: str) -> str:
    of = f"{one.n_read:,} rows" if one.is_whole else f"the first {one.n_read:,} rows"
    return f"met by {one.rows:,} of {of} of `{one.dataset}`" + (
        f" ({one.column})" if one.column != name else ""
    )


def _of_row(table: Table, number: int, seen: DataSeen) -> list[str]:
    """Tell what a row gives, and of how much data."""
    lines = []
    if 0 < number <= len(table.rows):
        results = zip(table.outputs, table.rows[number - 1].results, strict=True)
        given = ", ".join(f"{one.name} = {_shown(value)}" for one, value in results)
        lines.append(f"row {number} gives {given}")
    for dataset, report in seen.reports.get(table.name, ()):
        if 0 < number <= len(report.rows_by_row):
            lines.append(f"decides {report.rows_by_row[number - 1]:,} of {_of_data(table, dataset, report)}")
    return lines


def _of_data(table: Table, dataset: str, report: TableReport) -> str:
    """Return the rows of a dataset, in words, with the columns that the table reads where they are others than its inputs."""
    read = [
        column for about, column in zip(table.inputs, report.columns, strict=False) if about.name != column
    ]
    return f"{count(report.rows, 'row')} of `{dataset}`" + (f" ({listed(read)})" if read else "")


def _shown(value: object) -> str:
    if value is None:
        return "missing"
    return write_plain(value) if isinstance(value, (str, int, float, bool)) else str(value)


def _of_class(book: OpenBook, table: Table, output: str, label: str, seen: DataSeen) -> list[str]:
    lines = [f"**{output} = {label}**"] if label.strip() else [f"`{output}` is still to be filled in"]
    meaning = table.output(output).meaning.get(label)
    if meaning:
        lines.append(f"means {meaning}")
    given = [row.number for row in table.rows if _shown(row.results[_place(table, output)]) == label]
    if len(given) > 1:
        lines.append(f"given by rows {listed(given)}")
    for dataset, report in seen.reports.get(table.name, ()):
        for column, classes in report.classes.items():
            of_label = [n for one, n in classes if one == label]
            if of_label and (column == output or len(report.classes) == 1):
                lines.append(f"{of_label[0]:,} of {_of_data(table, dataset, report)}")
    users = [name for name, one in book.tables.items() if any(each.name == output for each in one.inputs)]
    return [*lines, *([f"read by {listed(users)}"] if users else [])]


def _place(table: Table, output: str) -> int:
    return [output.name for output in table.outputs].index(output)


def _of_input(table: Table, about: Input) -> list[str]:
    return [f"input **{about.name}** of `{table.name}`: {about.type}"]


def _of_output(table: Table, output: str, seen: DataSeen) -> list[str]:
    lines = [f"output **{output}** of `{table.name}`: {table.output(output).type}"]
    for dataset, report in seen.reports.get(table.name, ()):
        classes = report.classes.get(output)
        if classes:
            told = [f"{'without a class' if one is None else one} {n:,}" for one, n in classes[:12]]
            lines.append(f"in `{dataset}`: {listed(told)}")
    return lines


def _of_table(table: Table, seen: DataSeen) -> list[str]:
    inputs = ", ".join(f"{input_.name}: {input_.type}" for input_ in table.inputs)
    outputs = ", ".join(f"{output.name}: {output.type}" for output in table.outputs)
    lines = [f"table **{table.name}**" + (f": {table.title}" if table.title else "")]
    lines += [f"reads {inputs}; gives {outputs}; {count(table.n_rows, 'row')}"]
    for dataset, report in seen.reports.get(table.name, ()):
        lines.append(f"`{dataset}`: {report.matched:,} of {count(report.rows, 'row')} matched, {report.unmatched:,} unmatched, {report.missing:,} missing")  # fmt: skip
    return lines


def _of_name(book: OpenBook, file: BookFile, cursor: Cursor, seen: DataSeen, offset: int) -> list[str]:
    """Tell of a name: of a table, a formula, an input, an output, a function."""
    assert cursor.token is not None
    path, word = cursor.path, cursor.token.text
    if file.kind == "formulas" and cursor.awaits == "value":
        return _of_function(word, offset - cursor.token.start)
    if file.kind == "formulas" and len(path) == 1:
        return _of_formula(book, str(path[0]))
    if file.kind == "table" and len(path) == 2 and path[0] in ("inputs", "outputs"):
        table = book.tables.get(file.path.stem)
        if table is None:
            return []
        if path[0] == "outputs" and any(output.name == path[1] for output in table.outputs):
            return _of_output(table, str(path[1]), seen)
        about = next((input_ for input_ in table.inputs if input_.name == path[1]), None)
        return _of_input(table, about) if about and path[0] == "inputs" else []
    if file.kind == "book" and cursor.awaits == "value":
        if word in book.tables:
            return _of_table(book.tables[word], seen)
        if word in book.formulas:
            return _of_formula(book, word)
    if file.kind == "book" and len(path) == 2 and path[0] == "datasets" and path[1] in book.datasets:
        return _of_dataset(book, str(path[1]))
    return []


def _of_dataset(book: OpenBook, name: str) -> list[str]:
    dataset = book.datasets[name]
    return [
        f"dataset **{name}**",
        f"reads `{dataset.source}`" + (f", writes `{dataset.target}`" if dataset.target else ""),
    ]


def _of_function(formula: str, at: int) -> list[str]:
    """Tell of the function that is named at a place of a formula."""
    start, end = at, at
    while start > 0 and (formula[start - 1].isalnum() or formula[start - 1] == "_"):
        start -= 1
    while end < len(formula) and (formula[end].isalnum() or formula[end] == "_"):
        end += 1
    function = FUNCTIONS.get(formula[start:end].upper())
    if function is None:
        return []
    return [f"**{function.name}**: {function.says}", f"`{function.example}` is {function.result}"]


def _of_formula(book: OpenBook, name: str) -> list[str]:
    formula = book.formulas.get(name)
    if formula is None:
        return []
    lines = [f"formula **{name}** = `{formula.text}`"]
    for dataset in book.datasets.values():
        if name not in book.used_by(dataset):
            continue
        among = None if formula.among is None else write_formula(formula.among)
        try:
            trial = try_formula(book, dataset.name, formula.text, among=among, n_rows=_SHOWN)
        except KivvetError:
            continue
        shown = [f"- row {number}: {_values(values)}" for number, values in trial.rows[:_SHOWN]]
        return [*lines, f"{trial.type}; the first rows of `{dataset.name}`:\n\n" + "\n".join(shown)]
    return lines


def _values(values: Mapping[str, object]) -> str:
    *read, (_, result) = values.items()
    return f"{', '.join(f'{name} = {_shown(one)}' for name, one in read)} gives **{_shown(result)}**"


def schema_at(schema: Mapping[str, Any], path: KeyPath) -> list[Mapping[str, Any]]:
    """Return the parts of a schema that speak of what stands at a path of a document."""
    parts: list[Mapping[str, Any]] = [schema]
    for step in path:
        deeper: list[Mapping[str, Any]] = []
        for part in parts:
            for way in (part, *part.get("anyOf", ())):
                if isinstance(step, int):
                    deeper += [way["items"]] if isinstance(way.get("items"), dict) else []
                elif step in way.get("properties", {}):
                    deeper.append(way["properties"][step])
                elif isinstance(way.get("additionalProperties"), dict):
                    deeper.append(way["additionalProperties"])
        parts = deeper
    return parts


SCHEMAS = {"book": BOOK_FORM.schema, "table": TABLE_FORM.schema, "formulas": FORMULAS_FORM.schema}


def _of_keyword(file: BookFile, cursor: Cursor) -> list[str]:
    if file.kind not in SCHEMAS or cursor.awaits == "value":
        return []
    told = [
        str(part["description"])
        for part in schema_at(SCHEMAS[file.kind], cursor.path)
        if "description" in part
    ]
    return [f"**{cursor.path[-1]}**: {one}" for one in dict.fromkeys(told)]
