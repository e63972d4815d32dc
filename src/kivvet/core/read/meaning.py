"""The meaning of a table: all that decides its results, in one canonical form, and its hash.

Titles, owners, comments, places, domains and severities are no part of it; two ways of writing the
same condition are the same. From its meaning an old version of a table can be read again.
"""

from __future__ import annotations

import hashlib
import json
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.convert import bytes_of_texts
from kivvet.core.formulas.formula import Formula
from kivvet.core.read.table_parser import parse_table
from kivvet.core.space.lookup_index import index_of
from kivvet.core.space.meeting_ranges import has_conflicts, result_numbers
from kivvet.core.space.plain_mapping import is_plain_mapping
from kivvet.core.space.table_space import row_regions
from kivvet.core.space.text_axis import TextAxis
from kivvet.core.tables.inputs import Input, Output, columns_of
from kivvet.core.tables.table import UNFINISHED, WHEN, Computed, Result, Table
from kivvet.core.words.conditions import Equals, quote_text, write_condition
from kivvet.core.words.kept import kept
from kivvet.core.words.regions import Cut, Region
from kivvet.core.words.values import write_value

#: Raised whenever the same table would give other results.
SEMANTICS_VERSION = 4
#: Lookups of more rows are known by their hash alone; what changed in them is not told row by row.
MOST_REMEMBERED_ROWS = 100_000


def fingerprint(value: Any) -> str:
    """Return the SHA-256 of plain values in canonical JSON."""
    return hashlib.sha256(_canonical(value).encode()).hexdigest()


def _canonical(value: Any) -> str:
    return json.dumps(value, sort_keys=True, ensure_ascii=False, separators=(",", ":"))


def meaning_of(table: Table) -> dict[str, Any]:
    """Return the meaning of a table as plain values: what each row accepts, however it is written.

    A lookup's rows are a hash, whatever their order, as long as it decides nothing.
    """
    meaning = _frame_of(table)
    if table.lookup is not None:
        meaning["lookup"] = _hash_of_rows(_ordered_rows(table))
        return meaning
    order = sorted(range(len(table.dimensions)), key=lambda number: table.dimensions[number].name)
    accepted = [list(map(_region, row_regions(table, number))) for number in order]
    meaning["asks"] = [table.dimensions[number].name for number in order]
    meaning["rows"] = [
        [*(of_rows[index] for of_rows in accepted), *map(_result, row.results)]
        for index, row in enumerate(table.rows)
    ]
    return meaning


@kept
def table_fingerprint(table: Table) -> str:
    """Return the hash of a table's meaning."""
    if not is_plain_mapping(table):
        return fingerprint(meaning_of(table))
    # The same JSON, with the rows of long mappings written straight away.
    meaning = {**_frame_of(table), "asks": [table.inputs[0].name], "rows": []}
    before, after = _canonical(meaning).rsplit('"rows":[]', 1)
    quote = json.encoder.encode_basestring
    fold = TextAxis(None, (), "", table.inputs[0].fold).fold
    rows = []
    for row in table.rows:
        (condition,) = row.conditions
        if isinstance(condition, Equals):
            text = quote(fold(str(condition.value)))
            asked = f"[[[[0,{text},0],[0,{text},1]]]],false"
        else:
            asked = "[[]],true"
        rows.append(f"[[{asked}],{','.join([quote(_result(one)) for one in row.results])}]")
    text = f'{before}"rows":[{",".join(rows)}]{after}'
    return hashlib.sha256(text.encode()).hexdigest()


def order_of_rows(table: Table) -> str:
    """Return a hash of a lookup's rows as they stand: what their numbers mean."""
    return "" if table.lookup is None else _hash_of_rows(_columns_of_rows(table))


def _columns_of_rows(table: Table) -> list[pa.Array]:
    assert table.lookup is not None
    return [*table.lookup.arrays.values(), *table.lookup.results]


def _ordered_rows(table: Table) -> list[pa.Array]:
    """Return a lookup's rows in the order of their keys; rows of one key as they stand."""
    assert table.lookup is not None
    columns = _columns_of_rows(table)
    n_keys = len(table.lookup.arrays)
    meets = table.lookup.ranges and has_conflicts(index_of(table), result_numbers(table.lookup))
    if not n_keys or meets:
        return columns
    names = [f"{number}" for number in range(n_keys)]
    keys = pa.table(dict(zip(names, columns[:n_keys], strict=True)))
    order = pc.sort_indices(keys, sort_keys=[(name, "ascending") for name in names])
    return [column.take(order) for column in columns]


def _region(region: Region) -> list[Any]:
    """Return a region as plain values; what is the same in all bands stands once."""
    if len(region.bands) == 1 and len(region.bands[0]) == 1:
        ((low, high),) = region.bands[0]
        return [[[[_cut(low), _cut(high)]]], region.missing]
    bands = [[[_cut(low), _cut(high)] for low, high in intervals] for intervals in region.bands]
    if all(band == bands[0] for band in bands):
        bands = bands[:1]
    return [bands, region.missing]


def _cut(cut: Cut) -> list[Any]:
    kind, value, side = cut
    if value is None:
        return [kind, "", side]
    return [kind, value if type(value) is str else write_value(value), side]


def formula_meaning(formula: Formula) -> dict[str, Any]:
    """Return the meaning of a formula as plain values."""
    return {"semantics": SEMANTICS_VERSION, **formula.meaning}


def definition_of(table: Table) -> dict[str, Any] | None:
    """Return a definition from which the table can be read again; None for a lookup of very many rows."""
    definition = _frame_of(table)
    del definition["semantics"]
    if table.lookup is None:
        definition["rows"] = _rows(table)
        if {input_.name for input_ in table.inputs} & {output.name for output in table.outputs}:
            _name_apart(table, definition)
        return definition
    if table.lookup.n_rows > MOST_REMEMBERED_ROWS:
        return None
    # Headings of its own: an output may be called as a key is.
    names = [
        *(f"key {name}" for name in table.lookup.arrays),
        *(f"result {output.name}" for output in table.outputs),
    ]
    arrays = [*table.lookup.arrays.values(), *table.lookup.results]
    for input_ in table.inputs:
        definition["inputs"][input_.name]["column"] = f"key {input_.name}"
        if input_.period is not None:
            period = definition["inputs"][input_.name]
            period["from"] = f"key {input_.name} from"
            if input_.period.end is not None:
                period["to"] = f"key {input_.name} to"
            if isinstance(period.get("ends"), dict):
                period["ends"] = {word: f"key {input_.name} {word}_closed" for word in period["ends"]}
    for output in table.outputs:
        definition["outputs"][output.name]["column"] = f"result {output.name}"
    definition["lookup"] = dict(zip(names, map(_column, arrays), strict=True))
    return definition


def _name_apart(table: Table, definition: dict[str, Any]) -> None:
    """Give the columns of rows headings of their own, where an output is called as an input is."""
    headings = definition["rows"][0]
    named = [("input", input_.name) for input_ in table.inputs] + [
        ("output", output.name) for output in table.outputs
    ]
    for place, (what, name) in enumerate(named):
        headings[place] = f"{what} {name}"
        definition[f"{what}s"][name]["column"] = headings[place]


def _column(array: pa.Array) -> list[str | None]:
    """Return values as the texts that read as them."""
    if not pa.types.is_string(array.type):
        encoded = array.dictionary_encode()
        texts = [_written(value) for value in encoded.dictionary.to_pylist()]
        array = pa.array(texts, pa.string()).take(encoded.indices)
    made: list[str | None] = array.to_pylist()
    return made


def table_of(name: str, definition: dict[str, Any]) -> Table:
    """Return the table that `definition_of` described."""
    given = dict(definition)
    if "lookup" in given:
        given["lookup"] = pa.table(
            {name: pa.array(texts, pa.string()) for name, texts in given["lookup"].items()}
        )
    parts, _ = parse_table(name, given)
    assert parts is not None
    return parts


def _frame_of(table: Table) -> dict[str, Any]:
    return {
        "semantics": SEMANTICS_VERSION,
        "inputs": {input_.name: _input(input_) for input_ in table.inputs},
        "outputs": {output.name: _output(output) for output in table.outputs},
        "match": table.match,
        "missing": {name: _result(value) for name, value in table.missing.items()},
        "otherwise": {name: _result(value) for name, value in table.otherwise.items()},
    }


def _input(one: Input) -> dict[str, Any]:
    meaning: dict[str, Any] = {"type": one.type}
    if one.step is not None:
        meaning["step"] = {"size": write_value(one.step), "offset": write_value(one.step_offset)}
    if one.shape:
        meaning["shape"] = one.shape
    if one.fold:
        meaning["fold"] = sorted(one.fold)
    if one.required:
        meaning["required"] = True
    if one.tz:
        meaning["tz"] = one.tz
    if one.period is not None:
        meaning["from"] = "from"
        if one.period.end is not None:
            meaning["to"] = "to"
        closed = one.period.closed
        if all(isinstance(end, bool) for end in closed):
            meaning["ends"] = ("[" if closed[0] else "(") + ("]" if closed[1] else ")")
        else:
            meaning["ends"] = {
                word: word for word, end in zip(("from", "to"), closed, strict=True) if isinstance(end, str)
            }
    return meaning


def _output(one: Output) -> dict[str, Any]:
    meaning: dict[str, Any] = {"type": one.type}
    if one.combine != "list" or one.separator != ", ":
        meaning |= {"combine": one.combine, "separator": one.separator}
    if one.order:
        meaning["order"] = list(one.order)
    return meaning


def _rows(table: Table) -> list[list[str]]:
    names = [column.name for column in columns_of(table.inputs, table.outputs)]
    has_when = any(row.when for row in table.rows)
    rows = [[*names, WHEN] if has_when else names]
    for row in table.rows:
        cells = [*map(write_condition, row.conditions), *map(_result, row.results)]
        rows.append([*cells, row.when] if has_when else cells)
    return rows


def _result(result: Result) -> str:
    """Return a result as a cell that reads as it."""
    if result is UNFINISHED:
        return ""
    if result is None:
        return "missing"
    if isinstance(result, Computed):
        return str(result)
    return quote_text(result) if isinstance(result, str) else write_value(result)


def _written(value: Any) -> str:
    return repr(value) if isinstance(value, float) else write_value(value)


def _hash_of_rows(arrays: list[pa.Array]) -> str:
    """Return the SHA-256 of columns of values, whatever their memory looks like."""
    digest = hashlib.sha256()
    for array in arrays:
        digest.update(str(array.type).encode())
        digest.update(np.packbits(pc.is_valid(array).to_numpy(zero_copy_only=False)).tobytes())
        texts = pc.fill_null(array.cast(pa.large_string()), "")
        digest.update(pc.binary_length(texts).to_numpy(zero_copy_only=False).tobytes())
        digest.update(bytes_of_texts(texts))
    return digest.hexdigest()
