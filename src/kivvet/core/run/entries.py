"""The entries of a list of columns: which tables and formulas, what they read, what their columns are called."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from kivvet.core.read.options import Faults, Locate, Options
from kivvet.core.words.findings import Finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import toml_key

ENTRY_KEYWORDS = ("table", "formula", "input", "keep", "status", "row", "as", "write")
LATER_ENTRIES = {
    "over": "one table over several columns",
    "indicators": "a column of 0 and 1 for each class",
    "name": "names of such columns",
    "amount": "amounts in such columns",
}
_OF_TABLES, _OF_FORMULAS = ("keep", "status", "row"), ("as",)


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry of `columns`: a table or a formula, what it reads, and the names of what it makes.

    Attributes
    ----------
    table : str
        The name of a table or of a formula: they share one namespace.
    reads : mapping of str to str
        By input, the column to read instead.
    keep : tuple of (str, str) or None
        Outputs and the names they get; None keeps all under their own.
    status, row : str or None
        The names of columns that tell how each row was decided, and by which row.
    is_written : bool
    made_as : str or None
        The name of the column that a formula makes; None: the formula's.
    """

    table: str
    reads: Mapping[str, str] = field(default_factory=dict)
    keep: tuple[tuple[str, str], ...] | None = None
    status: str | None = None
    row: str | None = None
    is_written: bool = True
    place: Place | None = None
    made_as: str | None = None


def entry_text(entry: Entry, *, is_formula: bool = False) -> str:
    """Return an entry of `columns` as book.toml writes it."""

    def quoted(text: str) -> str:
        return json.dumps(text, ensure_ascii=False)

    parts = [f"{'formula' if is_formula else 'table'} = {quoted(entry.table)}"]
    if entry.reads:
        reads = ", ".join(f"{toml_key(name)} = {quoted(column)}" for name, column in entry.reads.items())
        parts.append(f"input = {{ {reads} }}")
    if entry.keep is not None:
        kept = [
            quoted(output) if output == column else f"{{ {toml_key(output)} = {quoted(column)} }}"
            for output, column in entry.keep
        ]
        parts.append(f"keep = [{', '.join(kept)}]")
    named = (("status", entry.status), ("row", entry.row), ("as", entry.made_as))
    parts += [f"{word} = {quoted(name)}" for word, name in named if name is not None]
    parts += [] if entry.is_written else ["write = false"]
    return f"{{ {', '.join(parts)} }}"


def entry_code(entry: Entry, *, is_formula: bool = False) -> str:
    """Return an entry of `columns` as Python writes it."""
    made: dict[str, Any] = {"formula" if is_formula else "table": entry.table}
    if entry.reads:
        made["input"] = dict(entry.reads)
    if entry.keep is not None:
        made["keep"] = [output if output == column else {output: column} for output, column in entry.keep]
    named = (("status", entry.status), ("row", entry.row), ("as", entry.made_as))
    made |= {word: name for word, name in named if name is not None}
    return repr(made if entry.is_written else {**made, "write": False})


def parse_entries(given: Any, locate: Locate = lambda _: None) -> tuple[list[Entry], list[Finding]]:
    """Return the entries of a `columns` list, and the faults found."""
    faults = Faults(locate)
    entries: list[Entry] = []
    if isinstance(given, str) or not isinstance(given, Sequence):
        faults.add(f"columns is a list of tables; found {given!r}", fix='for example columns = ["ph_class"]')
        return entries, faults.found
    for index, item in enumerate(given):
        if isinstance(item, str):
            entries.append(Entry(item, place=locate((index,))))
        elif not isinstance(item, Mapping):
            faults.add(f"an entry of columns is a name or {{ table = ... }}; found {item!r}", (index,))
        elif (entry := _parse_entry(Options(item, faults, (index,)))) is not None:
            entries.append(entry)
    return entries, faults.found


def _parse_entry(options: Options) -> Entry | None:
    options.unknown(ENTRY_KEYWORDS, "a columns entry", LATER_ENTRIES)
    is_formula = "formula" in options
    name = options.plain("formula" if is_formula else "table")
    if ("table" in options and is_formula) or not isinstance(name, str):
        if not any(word in options for word in LATER_ENTRIES):
            options.faults.add(
                "an entry of columns names its table, or its formula",
                options.path,
                fix='for example { table = "station", keep = ["river"] } or { formula = "load", as = "sample_load" }',
            )
        return None
    for word in _OF_TABLES if is_formula else _OF_FORMULAS:
        if word in options:
            owner, other = ("tables", "formula") if is_formula else ("formulas", "table")
            options.fault(
                word,
                f"{word!r} is a keyword of {owner}, not of a {other}",
                'a formula makes one column: { formula = "load", as = "sample_load" }'
                if is_formula
                else 'outputs of a table are renamed with keep = { river = "upstream_river" }',
            )
    status, row, made_as = (
        options.text(word, f"{word} is the name of a column") for word in ("status", "row", "as")
    )
    reads = options.by_name(
        "input",
        "input says which column to read by input",
        'for example input = { station = "site" }',
        of_texts=True,
    )
    keep = options.plain("keep")
    renamed = _parse_keep(keep)
    if keep is not None and renamed is None:
        options.fault(
            "keep",
            f"keep lists outputs, or renames them; found {keep!r}",
            'for example keep = ["river", { district = "area" }]',
        )
    is_written = options.flag("write", default=True)
    place = options.faults.locate(options.path)
    return Entry(name, dict(reads), renamed, status, row, is_written, place, made_as)


def _parse_keep(given: Any) -> tuple[tuple[str, str], ...] | None:
    if isinstance(given, Mapping):
        given = [given]
    if not isinstance(given, Sequence) or isinstance(given, str):
        return None
    pairs: list[tuple[str, str]] = []
    for item in given:
        if isinstance(item, str):
            pairs.append((item, item))
        elif isinstance(item, Mapping) and all(isinstance(name, str) for name in item.values()):
            pairs.extend(item.items())
        else:
            return None
    return tuple(pairs)
