"""Metadata that lies beside a file of CSV, as the W3C's recommendation "CSV on the Web" writes it: read, and written.

Read are the dialect, and of each column its heading, its type with its format, and the words that mean missing. What else it may
say (foreign keys, transformations, links) changes no value and is left.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kivvet.core.columns.date_pattern import PatternError, date_pattern
from kivvet.core.columns.field_form import PLAIN, FieldForm
from kivvet.core.read.fields_read import FieldsRead
from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import shown_path
from kivvet.io.csv_records import is_text_encoding
from kivvet.io.source_and_target import ReadOptions

CONTEXT = "http://www.w3.org/ns/csvw"
#: What the name of a file of metadata ends in, after that of the file it is about.
METADATA_ENDING = "-metadata.json"
_OF_FOLDER = "csv-metadata.json"
_MOST_BYTES = 4 << 20
_WHOLE = re.compile(
    r"(?:integer|long|int|short|byte|(?:nonNegative|positive|nonPositive|negative)Integer|unsigned\w+)"
)
_TYPES: Mapping[str, ValueType] = {
    **dict.fromkeys(("decimal", "double", "float", "number"), "number"),
    "boolean": "boolean",
    "date": "date",
    **dict.fromkeys(("dateTime", "datetime", "dateTimeStamp"), "datetime"),
}
_BASES = {
    "integer": "integer",
    "number": "double",
    "decimal": "decimal",
    "date": "date",
    "datetime": "dateTime",
}
_DATE_PARTS = {"yyyy": "%Y", "MM": "%m", "M": "%m", "dd": "%d", "d": "%d", "HH": "%H", "mm": "%M", "ss": "%S"}


@dataclass(frozen=True)
class Metadata:
    """What metadata says of a file.

    Attributes
    ----------
    path : Path
        Of the metadata.
    options : ReadOptions
    fields : FieldsRead
    key : tuple of str
    remarks : tuple of str
        What of it is not followed.
    """

    path: Path
    options: ReadOptions
    fields: FieldsRead
    key: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()


def metadata_beside(path: Path) -> Metadata | None:
    """Return what metadata beside a file says of it; None where there is none.

    Raises
    ------
    DataError
        If it cannot be read as such.
    """
    for name in (path.name + METADATA_ENDING, _OF_FOLDER):
        beside = path.with_name(name)
        if beside.is_file():
            table = _table(beside, path.name)
            if table is not None:
                return _read(beside, table)
    return None


def _table(path: Path, url: str) -> Mapping[str, Any] | None:
    try:
        raw = path.read_bytes()
        values = json.loads(raw) if len(raw) <= _MOST_BYTES else None
    except (OSError, ValueError, RecursionError) as error:
        raise DataError(
            f"is no JSON: {error}", place=Place(shown_path(path)), fix="mend it, or take it away"
        ) from error
    if not isinstance(values, dict):
        raise DataError(
            "is no metadata of CSV on the Web", place=Place(shown_path(path)), fix="mend it, or take it away"
        )
    tables = values.get("tables", [values])
    found = [table for table in tables if isinstance(table, dict)] if isinstance(tables, list) else []
    named = [one for one in found if str(one.get("url", "")).rsplit("/", 1)[-1] == url]
    if named:
        return {"dialect": values.get("dialect"), **named[0]}
    return found[0] if len(found) == 1 and "url" not in found[0] else None


def _read(path: Path, table: Mapping[str, Any]) -> Metadata:
    dialect = table.get("dialect")
    dialect = dialect if isinstance(dialect, dict) else {}
    schema = table.get("tableSchema")
    schema = schema if isinstance(schema, dict) else {}
    given = schema.get("columns", [])
    columns = (
        [one for one in given if isinstance(one, dict) and not one.get("virtual")]
        if isinstance(given, list)
        else []
    )
    headings = [_heading(column, number) for number, column in enumerate(columns, 1)]
    types: dict[str, ValueType] = {}
    forms: dict[str, FieldForm] = {}
    words: dict[str, tuple[str, ...]] = {}
    remarks: list[str] = []
    for heading, one in zip(headings, columns, strict=True):
        kind, form, said = _type(one.get("datatype", schema.get("datatype", "string")))
        types[heading] = kind
        if form != PLAIN:
            forms[heading] = form
        if said:
            remarks.append(f"column {heading}: {said}")
        null = one.get("null", schema.get("null", table.get("null", "")))
        texts = [null] if isinstance(null, str) else null if isinstance(null, list) else []
        if kept := tuple(str(text) for text in texts if str(text)):
            words[heading] = kept
    key = schema.get("primaryKey", [])
    by_name = {str(one.get("name", heading)): heading for heading, one in zip(headings, columns, strict=True)}
    names = [key] if isinstance(key, str) else key if isinstance(key, list) else []
    options = _options(dialect, headings)
    fields = FieldsRead(PLAIN, types, forms, (), words)
    return Metadata(
        path,
        options,
        fields,
        tuple(by_name[str(name)] for name in names if str(name) in by_name),
        tuple(remarks),
    )


def _options(dialect: Mapping[str, Any], headings: Sequence[str]) -> ReadOptions:
    encoding = str(dialect.get("encoding", "utf-8"))
    delimiter = dialect.get("delimiter")
    quote = dialect.get("quoteChar", '"')
    skipped = dialect.get("skipRows", 0)
    has_header = dialect.get("header", True) is not False and dialect.get("headerRowCount", 1) != 0
    n_heads = dialect.get("headerRowCount", 1)
    below = n_heads - 1 if has_header and isinstance(n_heads, int) and n_heads > 1 else 0
    line = skipped + 1 if isinstance(skipped, int) and skipped > 0 else None
    return ReadOptions(
        encoding=encoding if is_text_encoding(encoding) else "utf-8",
        delimiter=delimiter
        if isinstance(delimiter, str) and len(delimiter) == 1 and delimiter != ","
        else None,
        headings_on_line=line if has_header else None,
        headings=() if has_header else tuple(headings),
        quote=quote if isinstance(quote, str) and len(quote) == 1 else '"',
        skip_below_headings=below,
        skip_blank=bool(dialect.get("skipBlankRows", False)),
    )


def _heading(column: Mapping[str, Any], number: int) -> str:
    titles = column.get("titles", column.get("name", f"column_{number}"))
    while isinstance(titles, (dict, list)) and titles:
        titles = next(iter(titles.values())) if isinstance(titles, dict) else titles[0]
    return str(titles)


def _type(given: Any) -> tuple[ValueType, FieldForm, str]:
    """Return the type that a datatype stands for, how its fields are written, and what of it is not followed."""
    base = str(given.get("base", "string")) if isinstance(given, dict) else str(given)
    written = given.get("format") if isinstance(given, dict) else None
    kind: ValueType = "integer" if _WHOLE.fullmatch(base) else _TYPES.get(base, "text")
    if kind in ("integer", "number"):
        marks = written if isinstance(written, dict) else {}
        return kind, FieldForm(str(marks.get("decimalChar", ".")), str(marks.get("groupChar", ""))), ""
    if kind == "boolean" and isinstance(written, str) and written.count("|") == 1:
        yes, no = written.split("|")
        return kind, FieldForm(true_words=(yes,), false_words=(no,)), ""
    if kind in ("date", "datetime") and isinstance(written, str):
        pattern = re.sub("|".join(_DATE_PARTS), lambda match: _DATE_PARTS[match[0]], written)
        try:
            date_pattern(pattern)
        except PatternError:
            return "text", PLAIN, f"the format {written!r} is not read; its fields stay texts"
        return kind, FieldForm(pattern=pattern), ""
    return kind, PLAIN, ""


@dataclass(frozen=True)
class Described:
    """A column as metadata describes it.

    Attributes
    ----------
    heading : str
    type : str
    form : FieldForm
        How its fields are written.
    classes : tuple of str
        All that there are; empty where that is not said.
    words : tuple of str
        Those that mean missing, besides the empty one.
    is_needed : bool
        Whether no field is missing.
    """

    heading: str
    type: ValueType = "text"
    form: FieldForm = PLAIN
    classes: tuple[str, ...] = ()
    words: tuple[str, ...] = ()
    is_needed: bool = False


@dataclass(frozen=True)
class DescribedTable:
    """A file of CSV as metadata describes it.

    Attributes
    ----------
    url : str
        Its path from the metadata.
    columns : tuple of Described
    key : tuple of str
        Headings.
    delimiter, encoding, quote : str
    title, note : str
    lines_above : int
        Above the headings.
    """

    url: str
    columns: tuple[Described, ...]
    key: tuple[str, ...] = ()
    delimiter: str = ","
    encoding: str = "utf-8"
    quote: str = '"'
    title: str = ""
    note: str = ""
    lines_above: int = 0


def metadata_text(tables: Sequence[DescribedTable]) -> str:
    """Return metadata of one or several files of CSV, as JSON."""
    made = [_table_values(table) for table in tables]
    values = {"@context": CONTEXT, **made[0]} if len(made) == 1 else {"@context": CONTEXT, "tables": made}
    return json.dumps(values, indent=2, ensure_ascii=False) + "\n"


def _table_values(table: DescribedTable) -> dict[str, Any]:
    dialect = {
        word: value
        for word, value, plain in (
            ("delimiter", table.delimiter, ","),
            ("encoding", table.encoding, "utf-8"),
            ("quoteChar", table.quote, '"'),
            ("skipRows", table.lines_above, 0),
        )
        if value != plain
    }
    names: dict[str, str] = {}
    for at, one in enumerate(table.columns, 1):
        names[one.heading] = (
            one.heading if re.fullmatch(r"[A-Za-z]\w*", one.heading, re.ASCII) else f"column_{at}"
        )
    columns = []
    for one in table.columns:
        column: dict[str, Any] = {
            "name": names[one.heading],
            "titles": one.heading,
            "datatype": datatype(one.type, one.form, one.classes),
        }
        if one.words:
            column["null"] = ["", *one.words]
        if one.is_needed:
            column["required"] = True
        if one.form.unit:
            column["schema:unitText"] = one.form.unit
        columns.append(column)
    schema: dict[str, Any] = {"columns": columns}
    if table.key:
        schema["primaryKey"] = [names[one] for one in table.key]
    about = {word: text for word, text in (("dc:title", table.title), ("dc:description", table.note)) if text}
    return {
        "url": table.url,
        **about,
        **({"dialect": dialect} if dialect else {}),
        "tableSchema": schema,
    }


def datatype(kind: ValueType, form: FieldForm, classes: Sequence[str] = ()) -> Any:
    """Return the datatype of fields: of those that the standard cannot say, it is text.

    Classes are a pattern of theirs, since the standard has no list of values.
    """
    if kind == "text":
        return {"base": "string", "format": "|".join(map(re.escape, classes))} if classes else "string"
    if kind == "boolean":
        if len(form.true_words) > 1 or len(form.false_words) > 1:
            return "string"
        yes, no = (*form.true_words, "true")[0], (*form.false_words, "false")[0]
        return {"base": "boolean", "format": f"{yes}|{no}"}
    base = _BASES[kind]
    if kind in ("date", "datetime"):
        if form.is_zoned:
            return "dateTimeStamp"
        written = _written_pattern(form.pattern)
        return base if written == "" else "string" if written is None else {"base": base, "format": written}
    if form.unit or form.is_share:
        return "string"  # of a unit beside each number the standard knows nothing
    said = {"decimalChar": form.decimal} if form.decimal != "." else {}
    if form.thousands:
        said["groupChar"] = form.thousands
    return {"base": base, "format": said} if said else base


def _written_pattern(pattern: str) -> str | None:
    """Return a pattern in the standard's notation; None where it has none for it."""
    words = {sign: word for word, sign in _DATE_PARTS.items() if len(word) > 1}
    written = re.sub(r"%.", lambda match: words.get(match[0], match[0]), pattern)
    return None if "%" in written else written
