"""How text is read, as a book says it: the options of a file, and the forms of the values of its columns."""

from __future__ import annotations

import codecs
from collections.abc import Mapping
from typing import Any

from kivvet.core.columns.date_pattern import PatternError, date_pattern
from kivvet.core.columns.field_form import FieldForm
from kivvet.core.read.options import Options, is_line_number
from kivvet.core.words.values import VALUE_TYPES, ValueType
from kivvet.core.words.wording import did_you_mean, listed, repeated
from kivvet.io.csv_records import is_delimiter, is_text_encoding
from kivvet.io.source_and_target import AS_IT_IS_NAMED, ReadOptions, WriteOptions

READ_KEYWORDS = (
    "encoding",
    "delimiter",
    "quote",
    "headings_on_line",
    "headings",
    "decimal",
    "thousands",
)
_FORM_KEYWORDS = ("type", "pattern", "unit", "as", "true", "false", "decimal", "thousands")
_FORM_EXAMPLE = '{ type = "date", pattern = "%d.%m.%Y" }'
_WRITE_KEYWORDS = ("delimiter", "encoding", "decimal", "dates", "times")
_THOUSANDS_MARKS = ("", ".", ",", " ", "'", "’", "\u00a0", "\u202f", "_")


def read_options(options: Options) -> ReadOptions:
    """Return how a file is read; what is wrong is told, and then as it is by default."""
    encoding = options.plain("encoding", "utf-8")
    if not isinstance(encoding, str) or not is_text_encoding(encoding):
        options.fault("encoding", f"{encoding!r} is no encoding of text", 'for example "utf-8" or "cp1252"')
        encoding = "utf-8"
    delimiter = options.plain("delimiter")
    if delimiter is not None and not is_delimiter(delimiter):
        options.fault("delimiter", f"delimiter is one sign; found {delimiter!r}", 'for example ";" or "\\t"')
        delimiter = None
    quote = options.plain("quote", '"')
    if not is_delimiter(quote) and quote != '"':
        options.fault("quote", f"quote is one sign; found {quote!r}", 'for example "\'"')
        quote = '"'
    if quote == delimiter:
        options.fault("quote", f"quote and delimiter are both {quote!r}", "they are two signs")
        quote = '"'
    line = options.plain("headings_on_line")
    if line is not None and not is_line_number(line):
        options.line()
        line = None
    decimal, thousands = _marks(options)
    return ReadOptions(encoding, delimiter, line, _headings(options), quote, decimal, thousands)


def _headings(options: Options) -> tuple[str, ...]:
    given = options.texts("headings", "headings is a list of texts", 'for example headings = ["id", "flow"]')
    if twice := repeated(given):
        options.fault("headings", f"two of the headings are {twice[0]!r}", "rename one of them")
        return ()
    if any(not one.strip() for one in given):
        options.fault("headings", "a heading is blank", "give each column a heading")
        return ()
    return given


def _marks(options: Options) -> tuple[str, str]:
    decimal = options.one_of(
        "decimal", (".", ","), ".", "is no decimal mark", 'write decimal = ","  or  decimal = "."'
    )
    thousands = options.one_of(
        "thousands",
        _THOUSANDS_MARKS,
        "",
        "is no mark between thousands",
        'for example thousands = "."',
    )
    if thousands == decimal:
        options.fault(
            "thousands", f"the decimal mark and the mark of thousands are both {decimal!r}", "they differ"
        )
        return decimal, ""
    return decimal, thousands


def write_options(options: Options, target: str | None) -> WriteOptions:
    """Return how the target is written that `written_as` describes."""
    given = options.by_name(
        "written_as",
        "written_as says how a CSV target is written",
        'for example written_as = { delimiter = ";" }',
    )
    if not given:
        return AS_IT_IS_NAMED
    if target is None or not target.lower().endswith((".csv", ".tsv")):
        options.fault("written_as", "written_as has a meaning for .csv and .tsv targets only", "leave it out")
    said = Options(given, options.faults, (*options.path, "written_as"))
    said.unknown(_WRITE_KEYWORDS, "written_as")
    read = read_options(
        Options(
            {word: given[word] for word in _WRITE_KEYWORDS[:3] if word in given}, options.faults, said.path
        )
    )
    patterns = {}
    for word, kind in (("dates", "date"), ("times", "datetime")):
        one = Options({"pattern": given[word]} if word in given else {}, options.faults, (*said.path, word))
        patterns[word] = _pattern(one, kind)
    return WriteOptions(read.delimiter, read.encoding, read.decimal, **patterns)


def options_recorded(options: ReadOptions, delimiter: str) -> dict[str, Any]:
    """Return all that decides how a file is read, in one way of writing."""
    said = options.said()
    if said.get("headings_on_line") == 1 and not options.headings:
        del said["headings_on_line"]
    return {
        **said,
        "encoding": codecs.lookup(options.encoding).name,
        "delimiter": options.delimiter or delimiter,
    }


def column_types(options: Options, read: ReadOptions) -> tuple[dict[str, ValueType], dict[str, FieldForm]]:
    """Return by column the type that `types` gives, and the form of its fields where it is one of its own."""
    given = options.by_name(
        "types", "types gives a type by column", 'for example types = { station = "text" }'
    )
    types: dict[str, ValueType] = {}
    forms: dict[str, FieldForm] = {}
    for column, said in given.items():
        kind = said.get("type") if isinstance(said, Mapping) else said
        if kind not in VALUE_TYPES:
            options.faults.add(
                f"{kind!r} is no type for column {column!r}",
                ("types", column),
                fix=did_you_mean(str(kind), VALUE_TYPES) or f"one of: {listed(VALUE_TYPES)}",
            )
            continue
        types[column] = kind
        if isinstance(said, Mapping):
            forms[column] = _form(Options(said, options.faults, (*options.path, "types", column)), kind, read)
    return types, forms


def _form(options: Options, kind: ValueType, read: ReadOptions) -> FieldForm:
    options.unknown(_FORM_KEYWORDS, "a type of a column")
    marks = {
        "decimal": options.plain("decimal", read.decimal),
        "thousands": options.plain("thousands", read.thousands),
    }
    decimal, thousands = _marks(Options(marks, options.faults, options.path))
    allowed = {
        "pattern": ("date", "datetime"),
        "unit": ("integer", "number", "decimal"),
        "as": ("number", "decimal"),
        "decimal": ("integer", "number", "decimal"),
        "thousands": ("integer", "number", "decimal"),
        "true": ("boolean",),
        "false": ("boolean",),
    }
    for word, kinds in allowed.items():
        if word in options and kind not in kinds:
            options.fault(word, f"{word} has no meaning for {kind}", f"it is for {listed(kinds)}")
    unit = options.text("unit", "unit is a text", default="", fix='for example unit = "%"') or ""
    is_share = (
        "as" in options
        and options.one_of(
            "as",
            ("share", "written"),
            "written",
            'is "share" or "written"',
            'as = "share" makes 12.5 % 0.125',
        )
        == "share"
    )
    if is_share and unit.strip() != "%":
        options.fault("as", 'as = "share" is for numbers with a percent sign', 'set unit = "%"')
        is_share = False
    return FieldForm(
        decimal,
        thousands,
        unit.strip(),
        is_share,
        _pattern(options, kind),
        options.texts("true", "true is a list of words", 'for example true = ["yes"]'),
        options.texts("false", "false is a list of words", 'for example false = ["no"]'),
    )


def _pattern(options: Options, kind: str) -> str:
    pattern = (
        options.text("pattern", "pattern is a text", default="", fix=f"for example {_FORM_EXAMPLE}") or ""
    )
    if not pattern or kind not in ("date", "datetime"):
        return ""
    try:
        made = date_pattern(pattern)
    except PatternError as error:
        options.fault("pattern", f"pattern {pattern!r}: {error}", f"for example {_FORM_EXAMPLE}")
        return ""
    if made.has_time and kind == "date":
        options.fault(
            "pattern", f"pattern {pattern!r} says a time, and the type is date", 'set type = "datetime"'
        )
        return ""
    return pattern
