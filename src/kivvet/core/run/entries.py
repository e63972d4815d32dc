"""The entries of a list of columns: which tables and formulas, what they read, what their columns are called."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import did_you_mean, listed, toml_key

ENTRY_KEYWORDS = ("table", "formula", "input", "keep", "status", "row", "as", "write")
LATER_ENTRIES = ("over", "indicators", "name", "amount")
_OF_TABLES, _OF_FORMULAS = ("keep", "status", "row"), ("as",)

Locate = Callable[[tuple[str | int, ...]], Place | None]


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
    faults: list[Finding] = []
    entries: list[Entry] = []

    def fault(message: str, path: tuple[str | int, ...], fix: str = "") -> None:
        place = locate(path)
        faults.append(finding("syntax", message, places=(place,) if place else (), remedy=fix))

    if isinstance(given, str) or not isinstance(given, Sequence):
        fault(f"columns is a list of tables; found {given!r}", (), 'for example columns = ["ph_class"]')
        return entries, faults
    for index, item in enumerate(given):
        path = (index,)
        if isinstance(item, str):
            entries.append(Entry(item, place=locate(path)))
            continue
        if not isinstance(item, Mapping):
            fault(f"an entry of columns is a name or {{ table = ... }}; found {item!r}", path)
            continue
        for word in item:
            if word in LATER_ENTRIES:
                fault(f"{word!r} in columns is not read by this version", (*path, word))
            elif word not in ENTRY_KEYWORDS:
                fault(
                    f"{word!r} is no keyword of a columns entry",
                    (*path, word),
                    did_you_mean(word, ENTRY_KEYWORDS) or listed(ENTRY_KEYWORDS),
                )
        if ("table" in item) == ("formula" in item) or not isinstance(
            item.get("table", item.get("formula")), str
        ):
            if not any(word in item for word in LATER_ENTRIES):
                fault(
                    "an entry of columns names its table, or its formula",
                    path,
                    'for example { table = "station", keep = ["river"] } or { formula = "load", as = "sample_load" }',
                )
            continue
        for word in _OF_TABLES if "formula" in item else _OF_FORMULAS:
            if word in item:
                fault(
                    f"{word!r} is a keyword of {'tables' if 'formula' in item else 'formulas'}, not of a {'formula' if 'formula' in item else 'table'}",
                    (*path, word),
                    'a formula makes one column: { formula = "load", as = "sample_load" }'
                    if "formula" in item
                    else 'outputs of a table are renamed with keep = { river = "upstream_river" }',
                )
        for word in ("status", "row", "as"):
            if word in item and (not isinstance(item[word], str) or not item[word]):
                fault(f"{word} is the name of a column; found {item[word]!r}", (*path, word))
        if not isinstance(item.get("write", True), bool):
            fault(f"write is true or false; found {item['write']!r}", (*path, "write"))
        reads, keep = item.get("input", {}), item.get("keep")
        if not isinstance(reads, Mapping) or not all(isinstance(name, str) for name in reads.values()):
            fault(
                f"input says which column to read by input; found {reads!r}",
                (*path, "input"),
                'for example input = { station = "site" }',
            )
            reads = {}
        renamed = _parse_keep(keep)
        if keep is not None and renamed is None:
            fault(
                f"keep lists outputs, or renames them; found {keep!r}",
                (*path, "keep"),
                'for example keep = ["river", { district = "area" }]',
            )
        entries.append(
            Entry(
                item.get("table", item.get("formula")),
                dict(reads),
                renamed,
                _name_or_none(item.get("status")),
                _name_or_none(item.get("row")),
                bool(item.get("write", True)),
                locate(path),
                _name_or_none(item.get("as")),
            )
        )
    return entries, faults


def _name_or_none(given: Any) -> str | None:
    return given if isinstance(given, str) and given else None


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
