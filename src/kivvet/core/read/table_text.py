"""A table as the text of its file."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from kivvet.core.tables.inputs import Input, Output, Period
from kivvet.core.tables.origin import Origin
from kivvet.core.tables.table import UNFINISHED, WHEN, Result, Table
from kivvet.core.words.conditions import AnyValue, write_condition
from kivvet.core.words.examples import Example
from kivvet.core.words.values import write_decimal, write_value
from kivvet.core.words.wording import toml_key

_LONGEST_PADDING = 40


def table_text(table: Table, rows_file: str | None = None) -> str:
    """Return the TOML file of a table.

    Parameters
    ----------
    table : Table
    rows_file : str, optional
        The file beside it that holds the rows; without it they stand in the text, each with its note.
    """
    lines = [
        f"{word} = {_quoted(text)}"
        for word, text in (("title", table.title), ("owner", table.owner), ("note", table.note))
        if text
    ]
    lines += [f"inputs.{toml_key(input_.name)} = {input_text(input_)}" for input_ in table.inputs]
    lines += [
        f"outputs.{toml_key(output.name)} = {_output(output, of_lookup=table.lookup is not None)}"
        for output in table.outputs
    ]
    if table.given:
        lines.append(f"given = {json.dumps([one.text for one in table.given], ensure_ascii=False)}")
    if table.match != "one":
        lines.append(f"match = {_quoted(table.match)}")
    if table.severity:
        said = (f"{toml_key(kind)} = {_quoted(severity)}" for kind, severity in table.severity.items())
        lines.append(f"severity = {{ {', '.join(said)} }}")
    for word in ("missing", "otherwise"):
        if given := getattr(table, word):
            lines.append(
                f"{word} = {{ "
                + ", ".join(
                    f"{toml_key(name)} = {_quoted(result_text(value))}" for name, value in given.items()
                )
                + " }"
            )
    if table.promises:
        lines += ["promises = [", *(f"  {_quoted(promise.text)}," for promise in table.promises), "]"]
    examples = [] if not table.examples else ["", "examples = [", *example_lines(table.examples), "]"]
    if table.lookup is not None:
        lines.append(f"lookup = {_quoted(rows_file or table.name + '.csv')}")
        return "\n".join([*lines, *examples]) + "\n"
    if rows_file is not None:
        lines.append(f"rows = {_quoted(rows_file)}")
        if table.origin is not None and table.origin.on:
            lines.append(f"drafted = {origin_text(table.origin)}")
        return "\n".join([*lines, *examples]) + "\n"
    drafted = (
        ["", f"drafted = {origin_text(table.origin)}"] if table.origin is not None and table.origin.on else []
    )
    return "\n".join([*lines, "", "rows = [", *row_lines(table), "]", *drafted, *examples]) + "\n"


def example_lines(examples: Sequence[Example]) -> list[str]:
    """Return examples as lines of TOML, headings first."""
    columns = list(dict.fromkeys(name for example in examples for name in example.values))
    outputs = list(dict.fromkeys(name for example in examples for name in example.expected))
    has_notes = any(example.note for example in examples)
    records = [[*columns, *outputs, *(["note"] if has_notes else [])]]
    records += [
        [*example_cells(example, columns, outputs), *([example.note] if has_notes else [])]
        for example in examples
    ]
    return [f"  [{', '.join(map(_quoted, record))}]," for record in records]


def example_cells(example: Example, columns: Sequence[str], outputs: Sequence[str]) -> list[str]:
    """Return the cells of an example: a missing value is blank, and so is a result that is not asked."""
    return [
        *(
            result_text(example.values[name]) if example.values.get(name) is not None else ""
            for name in columns
        ),
        *(result_text(example.expected[name]) if name in example.expected else "" for name in outputs),
    ]


def row_lines(table: Table) -> list[str]:
    """Return the rows as lines of TOML, aligned, each with its note as a comment."""
    names, *records = row_cells(table)
    cells = [list(map(_quoted, record)) for record in records]
    header = [list(map(_quoted, names))] if len(names) > 2 else []
    widths = [min(_LONGEST_PADDING, max(map(len, column))) for column in zip(*header, *cells, strict=True)]
    lines = []
    for row, note in zip(
        [*header, *cells], [*([""] * len(header)), *(row.note for row in table.rows)], strict=True
    ):
        padded = [f"{cell}, ".ljust(width + 2) for cell, width in zip(row[:-1], widths, strict=False)]
        line = f"  [{''.join(padded)}{row[-1]}],"
        lines.append(f"{line.ljust(sum(widths) + 2 * len(widths) + 4)}# {note}" if note else line)
    return lines


def row_records(table: Table) -> list[list[str]]:
    """Return the rows as records of CSV, headings first; the note of a row as a spare column."""
    records = row_cells(table)
    if not any(row.note for row in table.rows):
        return records
    notes = ["note", *(row.note for row in table.rows)]
    return [[*record, note] for record, note in zip(records, notes, strict=True)]


def row_cells(table: Table) -> list[list[str]]:
    """Return headings, and the cells of each row; a blank cell is `any` where another cell says more."""
    has_when = any(row.when for row in table.rows)
    inputs, outputs = [input_.name for input_ in table.inputs], [output.name for output in table.outputs]
    records = [[*inputs, *([WHEN] if has_when else []), *outputs]]
    for row in table.rows:
        cells = [
            "" if isinstance(condition, AnyValue) and len(records[0]) > 2 else write_condition(condition)
            for condition in row.conditions
        ]
        records.append([*cells, *([row.when] if has_when else []), *map(result_text, row.results)])
    return records


def result_text(result: Result) -> str:
    """Return a result as a cell that reads as it: words that mean something else in quotes."""
    if result is UNFINISHED:
        return ""
    if result is None:
        return "missing"
    text = write_value(result)  # type: ignore[arg-type]
    is_plain = not isinstance(result, str) or (
        text == text.strip() and text != "missing" and text[:1] not in ('"', "=") and text
    )
    return text if is_plain else '"' + text.replace('"', '""') + '"'


def origin_text(origin: Origin) -> str:
    """Return what a table was drafted from as TOML."""
    texts = {
        "source": origin.source,
        "column": origin.column,
        "on": origin.on,
        "method": origin.method,
        "lowest": origin.lowest,
        "highest": origin.highest,
        "shape": origin.shape,
    }
    parts = [f"{word} = {text if word == 'on' else _quoted(text)}" for word, text in texts.items() if text]
    parts += [f"rows = {origin.rows}", f"missing = {origin.missing}", f"counts = {list(origin.counts)}"]
    return "{ " + ", ".join(parts) + " }"


def input_text(one: Input) -> str:
    """Return the definition of an input as TOML."""
    options: dict[str, str] = {"type": _quoted(one.type)}
    if one.step is not None:
        size = write_decimal(one.step)
        options["step"] = (
            size if not one.step_offset else f"{{ size = {size}, offset = {write_decimal(one.step_offset)} }}"
        )
    if one.domain_of or (one.domain is not None and not one.is_domain_fed):
        options["domain"] = _quoted(one.domain_of or write_condition(one.domain))  # type: ignore[arg-type]
    if one.shape:
        options["shape"] = _quoted(one.shape)
    if one.fold:
        options["fold"] = json.dumps(one.fold)
    if one.required:
        options["required"] = "true"
    if one.column:
        options["column"] = _quoted(one.column)
    if one.tz:
        options["tz"] = _quoted(one.tz)
    if one.period is not None:
        options |= _period(one.period)
    return _options(options)


def _period(period: Period) -> dict[str, str]:
    options = {"from": _quoted(period.start)}
    if period.end is not None:
        options["to"] = _quoted(period.end)
    start, end = period.closed
    if isinstance(start, bool) and isinstance(end, bool):
        if (start, end) != (True, period.end is not None):
            options["ends"] = _quoted(("[" if start else "(") + ("]" if end else ")"))
    else:
        named = [(word, one) for word, one in (("from", start), ("to", end)) if isinstance(one, str)]
        options["ends"] = "{ " + ", ".join(f"{word} = {_quoted(one)}" for word, one in named) + " }"
    return options


def _output(one: Output, *, of_lookup: bool) -> str:
    options: dict[str, str] = {"type": _quoted(one.type)}
    if one.width is not None:
        options["width"] = str(one.width)
    if one.ordered_by == "":
        options["order"] = '"rows"'
    elif one.ordered_by and of_lookup:
        options["order"] = f"{{ column = {_quoted(one.ordered_by)} }}"
    elif one.order:
        options["order"] = json.dumps(one.order, ensure_ascii=False)
    if one.meaning:
        options["meaning"] = (
            "{ "
            + ", ".join(f"{toml_key(name)} = {_quoted(word)}" for name, word in one.meaning.items())
            + " }"
        )
    if one.column:
        options["column"] = _quoted(one.column)
    if one.combine != "list":
        options["combine"] = _quoted(one.combine)
    if one.separator != ", ":
        options["separator"] = _quoted(one.separator)
    return _options(options)


def _options(options: dict[str, str]) -> str:
    if len(options) == 1:
        return options["type"]
    return "{ " + ", ".join(f"{name} = {text}" for name, text in options.items()) + " }"


def _quoted(text: Any) -> str:
    """Return a TOML basic string."""
    return json.dumps(str(text), ensure_ascii=False).replace("\x7f", "\\u007f")
