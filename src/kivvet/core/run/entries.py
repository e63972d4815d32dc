"""The entries of a list of columns: which tables and formulas, what they read, what their columns are called."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from kivvet.core.formulas.formula import Formula
from kivvet.core.read.forms import (
    FILLED,
    FILLED_AT_ALL,
    FLAG,
    INTEGER,
    TEXT,
    Keywords,
    by_name,
    exactly,
    list_of,
    one_of,
    options_of,
)
from kivvet.core.read.options import Faults, Locate, Options, toml_text
from kivvet.core.words.findings import Finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import listed

_WRITE = FLAG.says("whether the column is written; false: it is only read by others")
_OVER = FILLED_AT_ALL | list_of(FILLED_AT_ALL, at_least=1)
_KEPT = TEXT | by_name(TEXT)
ENTRY_KEYWORDS: Keywords = {
    "table": TEXT.says("the table that makes the columns"),
    "formula": TEXT.says("the formula that makes the column"),
    "input": by_name(TEXT).says("by input, the column to read instead"),
    "keep": (by_name(TEXT) | list_of(_KEPT)).says("the outputs to write, and new names for them"),
    "status": FILLED.says("a column that tells how each row was decided"),
    "row": FILLED.says("a column that tells by which row of the table"),
    "as": FILLED.says("the name of the column that a formula makes"),
    "write": _WRITE,
    "over": (_OVER | by_name(_OVER, at_least=1, at_most=1)).says(
        "columns that are read one after the other, or a pattern of their names"
    ),
}
CLASS_KEYWORDS: Keywords = {
    "indicators": FILLED.says("the column whose classes become columns"),
    "name": FILLED.says("the pattern of their names, such as is_{class}"),
    "amount": FILLED.says("the column of numbers that stand under their class"),
    "otherwise": (exactly(0) | exactly("missing")).says("what stands under the other classes"),
    "type": one_of(("integer", "boolean")).says("whether indicators are 1 and 0, or true and false"),
    "rest": FILLED.says("one more column, for rows without a class"),
    "classes": list_of(TEXT | INTEGER | FLAG, at_least=1).says("the classes, where no table says them"),
    "write": _WRITE,
}
#: Of the list of columns of a dataset.
COLUMNS = list_of(
    TEXT
    | options_of(ENTRY_KEYWORDS, one_of_these=("table", "formula"))
    | options_of(CLASS_KEYWORDS, "indicators")
)
#: The parts of names that stand for something else, by what they are in.
OVER_PARTS, CLASS_PARTS = ("{input}", "{output}"), ("{column}", "{class}", "{number}", "{amount}")
_OF_TABLES, _OF_FORMULAS = ("keep", "status", "row"), ("as",)
_EXAMPLE = 'for example { table = "station", keep = ["river"] } or { formula = "load", as = "sample_load" }'
_OVER_EXAMPLE = (
    'for example over = ["foam", "odour"], or over = "q*" for all columns of the source that begin so'
)

#: What stands in a row of the columns of other classes than its own.
Elsewhere = Literal["zero", "missing"]


@dataclass(frozen=True, slots=True)
class ByClass:
    """One column for each class of a column.

    Attributes
    ----------
    name : str
        The pattern of the names: ``{column}``, ``{class}``, ``{number}`` (of the class in the order, from 1) and
        ``{amount}`` stand for what they are called.
    amount : str or None
        The column whose values stand under the class of their row; None: 1, or true, stands there.
    elsewhere : {"zero", "missing"}
        What stands there under the other classes.
    is_boolean : bool
        Whether indicators are true and false instead of 1 and 0.
    rest : str or None
        The name of one more column, for rows without a class.
    classes : tuple
        The classes, where neither a table nor a formula says them.
    """

    name: str
    amount: str | None = None
    elsewhere: Elsewhere = "zero"
    is_boolean: bool = False
    rest: str | None = None
    classes: tuple[Any, ...] = ()


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry of `columns`: a table or a formula, what it reads, and the names of what it makes.

    Attributes
    ----------
    table : str
        The name of a table or of a formula: they share one namespace. With `by_class`, of the column that has classes.
    reads : mapping of str to str
        By input, the column to read instead.
    keep : tuple of (str, str) or None
        Outputs and the names they get; None keeps all under their own.
    status, row : str or None
        The names of columns that tell how each row was decided, and by which row.
    is_written : bool
    made_as : str or None
        The name of the column that a formula makes; None: the formula's.
    over : tuple of (str, tuple of str) or None
        An input (empty: the only one), and the columns, or patterns of names of columns of the source, that it reads one
        after the other.
    by_class : ByClass or None
    whole : Entry or None
        Of an entry that `over` made: the one that it stands in.
    """

    table: str
    reads: Mapping[str, str] = field(default_factory=dict)
    keep: tuple[tuple[str, str], ...] | None = None
    status: str | None = None
    row: str | None = None
    is_written: bool = True
    place: Place | None = None
    made_as: str | None = None
    over: tuple[str, tuple[str, ...]] | None = None
    by_class: ByClass | None = None
    whole: Entry | None = None


def names_used(entries: Sequence[Entry], where: Formula | None = None) -> tuple[set[str], set[str]]:
    """Return the tables and formulas that entries name, and the columns, made or of the source, that they name besides."""
    tables = {entry.table for entry in entries if entry.by_class is None}
    columns = {column for entry in entries for column in entry.reads.values()}
    columns |= {column for entry in entries if entry.over is not None for column in entry.over[1]}
    for entry in entries:
        if entry.by_class is not None:
            columns |= {entry.table, *([entry.by_class.amount] if entry.by_class.amount else [])}
    return tables, columns | set(() if where is None else where.reads)


def entry_values(entry: Entry, *, is_formula: bool = False) -> dict[str, Any]:
    """Return an entry as the plain values that define it."""
    if entry.by_class is not None:
        return _class_values(entry.table, entry.by_class, is_written=entry.is_written)
    made: dict[str, Any] = {"formula" if is_formula else "table": entry.table}
    if entry.over is not None:
        about, columns = entry.over
        shown: Any = list(columns) if len(columns) > 1 or "*" not in columns[0] else columns[0]
        made["over"] = {about: shown} if about else shown
    if entry.reads:
        made["input"] = dict(entry.reads)
    if entry.keep is not None:
        made["keep"] = [output if output == column else {output: column} for output, column in entry.keep]
    named = (("status", entry.status), ("row", entry.row), ("as", entry.made_as))
    made |= {word: name for word, name in named if name is not None}
    return made if entry.is_written else {**made, "write": False}


def _class_values(column: str, by_class: ByClass, *, is_written: bool) -> dict[str, Any]:
    made: dict[str, Any] = {"indicators": column, "name": by_class.name}
    if by_class.classes:
        made["classes"] = list(by_class.classes)
    if by_class.amount is not None:
        made["amount"] = by_class.amount
    if by_class.elsewhere == "missing":
        made["otherwise"] = "missing"
    if by_class.is_boolean:
        made["type"] = "boolean"
    if by_class.rest is not None:
        made["rest"] = by_class.rest
    return made if is_written else {**made, "write": False}


def entry_text(entry: Entry, *, is_formula: bool = False) -> str:
    """Return an entry of `columns` as book.toml writes it."""
    return toml_text(entry_values(entry, is_formula=is_formula))


def entry_code(entry: Entry, *, is_formula: bool = False) -> str:
    """Return an entry of `columns` as Python writes it."""
    return repr(entry_values(entry, is_formula=is_formula))


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
        else:
            options = Options(item, faults, (index,))
            entry = _parse_by_class(options) if "indicators" in options else _parse_entry(options)
            if entry is not None:
                entries.append(entry)
    return entries, faults.found


def _parse_entry(options: Options) -> Entry | None:
    is_formula = "formula" in options
    name = options.plain("formula" if is_formula else "table")
    if ("table" in options and is_formula) or not isinstance(name, str):
        of_classes = [word for word in CLASS_KEYWORDS if word in options and word != "write"]
        options.unknown((*ENTRY_KEYWORDS, *CLASS_KEYWORDS), "a columns entry")
        options.faults.add(
            "an entry of columns names its table, or its formula",
            options.path,
            fix='for example { indicators = "status", name = "is_{class}" }' if of_classes else _EXAMPLE,
        )
        return None
    options.unknown(ENTRY_KEYWORDS, "a columns entry")
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
    over = _parse_over(options)
    return Entry(name, dict(reads), renamed, status, row, is_written, place, made_as, over)


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


def _parse_over(options: Options) -> tuple[str, tuple[str, ...]] | None:
    given = options.plain("over")
    if given is None:
        return None
    about, columns = "", given
    if isinstance(given, Mapping) and len(given) == 1:
        about, columns = next(iter(given.items()))
    columns = [columns] if isinstance(columns, str) else columns
    if (
        not isinstance(columns, (list, tuple))
        or not columns
        or not all(isinstance(column, str) and column for column in columns)
    ):
        options.fault(
            "over", f"over lists columns that are read one after the other; found {given!r}", _OVER_EXAMPLE
        )
        return None
    return about, tuple(columns)


def _parse_by_class(options: Options) -> Entry | None:
    options.unknown(CLASS_KEYWORDS, "a columns entry with indicators")
    column = options.text(
        "indicators", "indicators is the name of the column that has the classes", fix='indicators = "status"'
    )
    amount = options.text(
        "amount", "amount is the name of a column of numbers", fix='for example amount = "load"'
    )
    rest = options.text("rest", "rest is the name of a column", fix='for example rest = "without_status"')
    name = options.text("name", "name is a pattern of names", fix='for example name = "is_{class}"')
    if name is None:
        name = "{column}_{class}" if amount is None else "{amount}_{class}"
    if "{class}" not in name and "{number}" not in name:
        options.fault(
            "name",
            f"the names {name!r} would all be the same",
            f'say where the class stands: name = "{name}_{{class}}"',
        )
        return None
    if strange := [part for part in _parts_of(name) if part not in CLASS_PARTS]:
        options.fault("name", f"{strange[0]} stands for nothing", f"there are {listed(CLASS_PARTS)}")
        return None
    elsewhere: Elsewhere = "zero"
    if "otherwise" in options:
        given = options.plain("otherwise")
        is_zero = isinstance(given, (int, float)) and not isinstance(given, bool) and given == 0
        if amount is None or not (is_zero or given == "missing"):
            options.fault(
                "otherwise",
                "otherwise says what stands in the columns of amounts of other classes"
                + ("" if amount is None else f"; found {given!r}"),
                "indicators have 0 there; leave it out" if amount is None else 'otherwise = 0 or "missing"',
            )
        elif given == "missing":
            elsewhere = "missing"
    kind = options.plain("type")
    if kind is not None and (amount is not None or kind not in ("integer", "boolean")):
        options.fault(
            "type",
            f"type is that of indicators; found {kind!r}" + ("" if amount is None else " beside amount"),
            'type = "boolean" for true and false, "integer" for 1 and 0',
        )
        kind = None
    classes = options.plain("classes", ())
    is_list = isinstance(classes, (list, tuple)) and all(isinstance(one, (str, int)) for one in classes)
    if not is_list or ("classes" in options and not classes) or len(set(map(str, classes))) != len(classes):
        options.fault(
            "classes",
            f"classes lists the values that the column can have, each once; found {classes!r}",
            'for example classes = ["kick net", "sweep"]',
        )
        return None
    if column is None:
        return None
    by_class = ByClass(name, amount, elsewhere, kind == "boolean", rest, tuple(classes))
    is_written = options.flag("write", default=True)
    place = options.faults.locate(options.path)
    return Entry(column, is_written=is_written, place=place, by_class=by_class)


def _parts_of(pattern: str) -> list[str]:
    """Return the parts of a pattern of names that stand in braces."""
    return [f"{{{rest.split('}')[0]}}}" for rest in pattern.split("{")[1:]]
