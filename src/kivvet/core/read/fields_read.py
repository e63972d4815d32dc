"""How the fields of text columns are read: the types that are said, how their values are written, words for missing.

A dataset says so of its source, and a lookup of the file of its rows, in the same words.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from kivvet.core.columns.date_pattern import PatternError, date_pattern
from kivvet.core.columns.field_form import PLAIN, FieldForm
from kivvet.core.read.forms import FILLED, TEXT, Keywords, by_name, list_of, one_of, options_of
from kivvet.core.read.options import Options
from kivvet.core.words.values import VALUE_TYPES, ValueType
from kivvet.core.words.wording import did_you_mean, listed, toml_key

_DECIMAL_MARKS = (".", ",")
_THOUSANDS_MARKS = ("", ".", ",", " ", "'", "’", "\u00a0", "\u202f", "_")
_WAYS_TO_KEEP = ("share", "written")
#: How numbers are written.
MARK_KEYWORDS: Keywords = {
    "decimal": one_of(_DECIMAL_MARKS).says("the decimal mark of numbers"),
    "thousands": one_of(_THOUSANDS_MARKS).says("the mark between thousands"),
}
_FORM_KEYWORDS: Keywords = {
    "type": one_of(VALUE_TYPES).says("the type of the values"),
    "pattern": FILLED.says("how dates and times are written, such as %d.%m.%Y"),
    "unit": FILLED.says("a unit that stands behind the numbers"),
    "as": one_of(_WAYS_TO_KEEP).says("whether 12.5 % is 0.125 (share) or 12.5 (written)"),
    "true": list_of(TEXT).says("words that mean true"),
    "false": list_of(TEXT).says("words that mean false"),
    **MARK_KEYWORDS,
}
FIELD_KEYWORDS: Keywords = {
    "types": by_name(one_of(VALUE_TYPES) | options_of(_FORM_KEYWORDS, "type")).says(
        "by column, the type its fields are read as, and how they are written"
    ),
    "missing_words": (list_of(TEXT) | by_name(list_of(TEXT))).says(
        "words that mean missing, in every column or by column"
    ),
}
_FORM_EXAMPLE = '{ type = "date", pattern = "%d.%m.%Y" }'


@dataclass(frozen=True)
class FieldsRead:
    """How fields are read, by column.

    Attributes
    ----------
    plain : FieldForm
        The marks of numbers where nothing else is said.
    types : mapping of str to str
        By column, the type that is said.
    forms : mapping of str to FieldForm
        By column how its fields are written, where that is not as by `plain`.
    missing_words : tuple of str
        Words that mean missing in every column.
    missing_words_of : mapping of str to tuple of str
        Further ones by column.
    """

    plain: FieldForm = PLAIN
    types: Mapping[str, ValueType] = field(default_factory=dict)
    forms: Mapping[str, FieldForm] = field(default_factory=dict)
    missing_words: tuple[str, ...] = ()
    missing_words_of: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    def form_of(self, column: str) -> FieldForm:
        """Return how the fields of a column are written."""
        return self.forms.get(column, self.plain)

    def words_of(self, column: str) -> tuple[str, ...]:
        """Return the words that mean missing in a column."""
        return (*self.missing_words, *self.missing_words_of.get(column, ()))


#: Fields as Kivvet itself writes values, and none that means missing but the empty one.
AS_IT_STANDS = FieldsRead()


def fields_read(options: Options) -> FieldsRead:
    """Return how fields are read, of a definition that says `types`, `missing_words`, `decimal` and `thousands`; what is
    wrong is told.
    """
    plain = FieldForm(*number_marks(options))
    types, forms = _column_types(options, plain)
    return FieldsRead(plain, types, forms, *_missing_words(options))


def number_marks(options: Options) -> tuple[str, str]:
    """Return the decimal mark and the mark of thousands; what is wrong is told."""
    decimal = options.one_of(
        "decimal", _DECIMAL_MARKS, ".", "is no decimal mark", 'write decimal = ","  or  decimal = "."'
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


def _column_types(options: Options, read: FieldForm) -> tuple[dict[str, ValueType], dict[str, FieldForm]]:
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


def _form(options: Options, kind: ValueType, read: FieldForm) -> FieldForm:
    options.unknown(_FORM_KEYWORDS, "a type of a column")
    marks = {
        "decimal": options.plain("decimal", read.decimal),
        "thousands": options.plain("thousands", read.thousands),
    }
    decimal, thousands = number_marks(Options(marks, options.faults, options.path))
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
            _WAYS_TO_KEEP,
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
        pattern_of(options, kind),
        options.texts("true", "true is a list of words", 'for example true = ["yes"]'),
        options.texts("false", "false is a list of words", 'for example false = ["no"]'),
    )


def pattern_of(options: Options, kind: str) -> str:
    """Return the pattern of dates or times that is said; empty where none is, or it is wrong, which is told."""
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


def _missing_words(options: Options) -> tuple[tuple[str, ...], dict[str, tuple[str, ...]]]:
    """Return the words that mean missing in every column, and further ones by column."""
    given = options.plain("missing_words")
    if not isinstance(given, Mapping):
        says = "missing_words is a list of words, or such a list by column"
        return options.texts("missing_words", says, 'for example missing_words = ["n/a"]'), {}
    words_of: dict[str, tuple[str, ...]] = {}
    for column, words in given.items():
        if isinstance(words, list) and all(isinstance(word, str) for word in words):
            words_of[column] = tuple(words)
        else:
            options.faults.add(
                f"missing_words lists words by column; found {words!r}",
                ("missing_words", column),
                fix=f'for example missing_words = {{ {toml_key(column)} = ["n/a"] }}',
            )
    return (), words_of
