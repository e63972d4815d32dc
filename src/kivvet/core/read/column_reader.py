"""The inputs and outputs of a definition of a table."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Collection, Mapping, Sequence
from decimal import Decimal
from typing import Any, TypeVar

from kivvet.core.read.forms import (
    ANYTHING,
    FILLED,
    FILLED_AT_ALL,
    FLAG,
    NUMBER,
    POSITIVE,
    TEXT,
    Keywords,
    by_name,
    exactly,
    list_of,
    one_of,
    options_of,
    whole,
)
from kivvet.core.read.options import Faults, KeyPath, Options
from kivvet.core.space.make_axis import holds_nothing
from kivvet.core.tables.inputs import Input, Output, Period
from kivvet.core.words.condition_parser import ConditionError, parse_condition
from kivvet.core.words.conditions import Condition
from kivvet.core.words.values import (
    FOLDS,
    INPUT_TYPES,
    VALUE_TYPES,
    LiteralError,
    ValueType,
    parse_decimal,
)
from kivvet.core.words.wording import listed, near_name

COMBINES = ("list", "join", "sum", "min", "max", "count", "flags")
_ENDS = {"[]": (True, True), "[)": (True, False), "(]": (False, True), "()": (False, False)}
_STEP: Keywords = {
    "size": POSITIVE.says("how far apart the values are"),
    "offset": (NUMBER | TEXT).says("a value that there is"),
}
_BY_COLUMN: Keywords = {word: TEXT.says("a column of true and false") for word in ("from", "to")}
INPUT_KEYWORDS: Keywords = {
    "type": one_of(INPUT_TYPES).says("the type of its values"),
    "step": (POSITIVE | options_of(_STEP, "size")).says("how far apart its values are, such as 0.1"),
    "domain": (FILLED | NUMBER | list_of(TEXT | NUMBER, at_least=1)).says(
        "the values it can have: a condition, a list, or the key or output of another table"
    ),
    "shape": FILLED_AT_ALL.says("how its texts are built: A stands for a letter, 9 for a digit"),
    "fold": (one_of(FOLDS) | list_of(one_of(FOLDS))).says("differences of text that do not count"),
    "required": FLAG.says("whether a missing value is an error"),
    "column": FILLED.says("its heading in the file of the rows"),
    "tz": FILLED_AT_ALL.says("the time zone that bounds are in, such as Europe/Vienna"),
    "from": TEXT.says("of a lookup, the column in which ranges begin"),
    "to": TEXT.says("of a lookup, the column in which ranges end"),
    "ends": (one_of(_ENDS) | options_of(_BY_COLUMN)).says(
        "whether the ends of ranges are in: [] both, [) only the beginning"
    ),
    "note": ANYTHING.says("words for readers"),
}
_RANK: Keywords = {"column": FILLED_AT_ALL.says("the column that ranks the classes")}
OUTPUT_KEYWORDS: Keywords = {
    "type": one_of(VALUE_TYPES).says("the type of its values"),
    "width": whole(1).says("the most signs that a class has"),
    "order": (exactly("rows") | list_of(TEXT, each_once=True) | options_of(_RANK, "column")).says(
        "the classes in their order: a list, rows, or the column that ranks them"
    ),
    "meaning": by_name(TEXT).says("what a class means, in words"),
    "column": FILLED.says("its heading in the file of the rows"),
    "combine": one_of(COMBINES).says('how the results of all rows that match combine (match = "every")'),
    "separator": TEXT.says("what stands between results that are joined"),
    "note": ANYTHING.says("words for readers"),
}


Column = TypeVar("Column", Input, Output)


class ColumnReader:
    """Reads inputs and outputs.

    Parameters
    ----------
    faults : Faults
    definition : mapping
        Of the whole table: whether it has a lookup says whether its inputs may be ranges.
    table_keywords : collection of str
        What belongs to the table and not to a column.
    """

    def __init__(
        self, faults: Faults, definition: Mapping[str, Any], table_keywords: Collection[str]
    ) -> None:
        self.faults = faults
        self.definition = definition
        self.table_keywords = table_keywords

    def inputs(self) -> tuple[Input, ...] | None:
        """Return the inputs; None where there is a fault that hides the rest."""
        return self.named("inputs", self.parse_input)

    def outputs(self) -> tuple[Output, ...] | None:
        """Return the outputs; None where there is a fault that hides the rest."""
        return self.named("outputs", self.parse_output)

    def unknown_words(self, options: Options, known: Collection[str], what: str) -> None:
        """Tell words that are no keywords; those of the table itself have slipped under a heading of TOML."""
        path = options.path
        slipped = [
            word
            for word in options.given
            if word not in known and word in self.table_keywords and word not in ("title", "note", "missing")
        ]
        for word in slipped:
            self.faults.add(
                f"{word!r} belongs to the table, not to {what}",
                (*path, word),
                fix=f"move it above the first [heading] of the file: TOML puts what follows [{path[0]}] under it",
            )
        options.unknown((*known, *slipped), what)

    def named(
        self, key: str, read: Callable[[str, Mapping[str, Any], KeyPath], Column | None]
    ) -> tuple[Column, ...] | None:
        """Return the inputs or outputs as a tuple; None where there is a fault that hides the rest."""
        given = self.definition.get(key)
        singular = key[:-1]
        if not isinstance(given, Mapping) or not given:
            found = "none" if given is None else f"{given!r}"
            self.faults.add(
                f"a table names its {key}; found {found}",
                (key,) if given is not None else (),
                fix=f'add a line such as  {key}.NAME = "text"',
            )
            return None
        read_columns: list[Column | None] = []
        for name, options in given.items():
            path = (key, name)
            if (
                name in self.table_keywords
                and not isinstance(options, str)
                and not (isinstance(options, Mapping) and "type" in options)
            ):
                self.faults.add(
                    f"{name!r} stands under [{key}], so it is read as an {singular}",
                    path,
                    fix=f"move it above the line [{key}], or write {key}.NAME = ... instead of the heading",
                )
                continue
            if isinstance(options, str):
                options = {"type": options}  # noqa: PLW2901
            if not isinstance(options, Mapping):
                self.faults.add(
                    f"{singular} {name!r} needs a type; found {options!r}",
                    path,
                    fix='for example "text"',
                )
                continue
            read_columns.append(read(name, options, path))
        whole = tuple(column for column in read_columns if column is not None)
        return whole if whole and len(whole) == len(read_columns) else None

    def value_type(
        self, name: str, options: Mapping[str, Any], path: KeyPath, types: Sequence[str]
    ) -> ValueType | None:
        kind = options.get("type")
        if kind in types:
            return kind
        near = near_name(str(kind), types) if kind else None
        message = f"{name!r} has no type" if kind is None else f"{kind!r} is no type for {name!r}"
        self.faults.add(
            message,
            (*path, "type") if kind is not None else path,
            fix=f"did you mean {near!r}?" if near else f"one of: {listed(types)}",
        )
        return None

    def parse_input(self, name: str, options: Mapping[str, Any], path: KeyPath) -> Input | None:
        given = Options(options, self.faults, path)
        self.unknown_words(given, INPUT_KEYWORDS, "an input")
        kind = self.value_type(name, options, path, INPUT_TYPES)
        if kind is None:
            return None
        step, offset = self.parse_step(kind, options.get("step"), (*path, "step"))
        domain, domain_of = self.parse_domain(name, kind, options, path)
        shape = options.get("shape")
        if shape is not None and (kind != "text" or not isinstance(shape, str) or not shape):
            self.faults.add(
                f"shape belongs to a text input; found {shape!r}",
                (*path, "shape"),
                fix='for example "A99"',
            )
            shape = None
        fold = options.get("fold", ())
        if isinstance(fold, str) or not isinstance(fold, (list, tuple)):
            fold = (fold,)
        fold = tuple(fold)
        if (unknown := [one for one in fold if one not in FOLDS]) or (fold and kind != "text"):
            found = listed(unknown) if unknown else f"fold on a {kind} input"
            self.faults.add(
                f"fold makes differences of text not count; found {found}",
                (*path, "fold"),
                fix=f"use {listed(FOLDS)}",
            )
            fold = ()
        made = Input(
            name,
            kind,
            step,
            offset,
            domain,
            shape,
            fold,
            given.flag("required"),
            self.heading(name, given),
            self.parse_zone(kind, options, path),
            self.parse_period(name, kind, options, path),
            domain_of,
        )
        if holds_nothing(made):
            self.faults.add(
                f"no value lies in the domain of {name!r}, {options['domain']}",
                (*path, "domain"),
                fix="give the lower end first"
                if step is None
                else "give the lower end first, and ends between which a step lies",
                kind="impossible",
            )
        return made

    def parse_domain(
        self, name: str, kind: ValueType, options: Mapping[str, Any], path: KeyPath
    ) -> tuple[Condition | None, str]:
        """Return the domain of an input as a condition, or the key or output of another table that says it."""
        given = options.get("domain")
        if given is None:
            return None, ""
        is_list = isinstance(given, (list, tuple)) and all(
            isinstance(one, (str, int, float, Decimal, dt.date)) and not isinstance(one, bool)
            for one in given
        )
        is_number = (
            isinstance(given, (int, float, Decimal))
            and not isinstance(given, bool)
            and kind in ("number", "integer")
        )
        if not (isinstance(given, str) or is_list or is_number) or not str(given).strip() or given == []:
            self.faults.add(
                f"the domain of {name!r} is a condition or a list of values; found {given!r}",
                (*path, "domain"),
                fix='for example domain = ">= 0"'
                if kind in ("number", "integer")
                else 'for example domain = ["a", "b"]',
            )
            return None, ""
        is_name = isinstance(given, str) and re.fullmatch(r"[A-Za-z_][\w-]*\.[A-Za-z_][\w-]*", given)
        if is_name and kind in ("text", "integer"):
            return None, str(given)  # the keys or the classes of another table; a book knows which they are
        texts = [str(one) for one in given] if is_list else None
        try:
            text = _as_list_condition(texts, kind) if texts is not None else str(given)
            return parse_condition(text, kind), ""
        except ConditionError as error:
            fix = error.fix or f"expected {error.expected}"
            self.faults.add(
                f"in the domain of {name!r}: {error.problem}", (*path, "domain"), fix=fix, kind=error.kind
            )
            return None, ""

    def heading(self, name: str, options: Options) -> str | None:
        """Return the heading that a column of the table's own file has."""
        return options.text(
            "column",
            f"column is the heading of {name!r} in the table's file",
            fix='for example column = "Station no."',
        )

    def parse_zone(self, kind: ValueType, options: Mapping[str, Any], path: KeyPath) -> str | None:
        given = options.get("tz")
        if given is None:
            return None
        if kind not in ("date", "datetime") or not isinstance(given, str) or not _is_zone(given):
            found = f"tz on a {kind} input" if kind not in ("date", "datetime") else repr(given)
            self.faults.add(
                f"tz is the time zone that bounds of dates and times are in; found {found}",
                (*path, "tz"),
                fix='for example tz = "Europe/Vienna"',
            )
            return None
        return given

    def parse_period(
        self, name: str, kind: ValueType, options: Mapping[str, Any], path: KeyPath
    ) -> Period | None:
        """Return the range that a lookup holds for an input, None where it holds single values."""
        given = {word: options[word] for word in ("from", "to", "ends") if word in options}
        if not given:
            return None
        if "lookup" not in self.definition:
            word = next(iter(given))
            self.faults.add(
                f"{word!r} names a column of a lookup; this table has rows of conditions",
                (*path, word),
                fix='write the range in the cell: "5 to 9"',
            )
            return None
        start, end, ends = options.get("from"), options.get("to"), options.get("ends", "[]")
        if not isinstance(start, str) or not (end is None or isinstance(end, str)) or kind == "boolean":
            self.faults.add(
                f"from and to name the columns where a range of {name} begins and ends; found {given!r}",
                path,
                fix='for example from = "valid_from", to = "valid_to"',
            )
            return None
        by_column = (
            isinstance(ends, Mapping)
            and set(ends) <= {"from", "to"}
            and all(isinstance(v, str) for v in ends.values())
        )
        if by_column:
            closed: tuple[bool | str, bool | str] = (ends.get("from", True), ends.get("to", True))
        elif ends in _ENDS:
            closed = _ENDS[ends]
        else:
            self.faults.add(
                f"ends says whether both ends are in; found {ends!r}",
                (*path, "ends"),
                fix='one of "[]", "[)", "(]", "()", or { from = "COLUMN", to = "COLUMN" } of true and false',
            )
            closed = (True, True)
        if end is None and closed[1] is True:
            closed = (closed[0], False)  # until the next start, which belongs to the next row
        return Period(start, end, closed)

    def parse_step(self, kind: ValueType, given: Any, path: KeyPath) -> tuple[Decimal | None, Decimal]:
        if given is None:
            return None, Decimal(0)
        size, offset = (
            (given.get("size"), given.get("offset", 0)) if isinstance(given, Mapping) else (given, 0)
        )
        try:
            numbers = parse_decimal(str(size)), parse_decimal(str(offset))
        except LiteralError:
            numbers = Decimal(0), Decimal(0)
        is_whole = kind not in ("integer", "date") or all(
            number == number.to_integral_value() for number in numbers
        )
        if kind not in ("number", "integer", "date") or numbers[0] <= 0 or not is_whole:
            self.faults.add(
                f"a step is a number above 0 on a number, integer or date input; found {given!r}",
                path,
                fix="for example step = 0.1, or step = { size = 5, offset = 2 }",
            )
            return None, Decimal(0)
        return numbers

    def parse_output(self, name: str, options: Mapping[str, Any], path: KeyPath) -> Output | None:
        given = Options(options, self.faults, path)
        self.unknown_words(given, OUTPUT_KEYWORDS, "an output")
        kind = self.value_type(name, options, path, VALUE_TYPES)
        if kind is None:
            return None
        width = options.get("width")
        if width is not None and (
            kind != "text" or not isinstance(width, int) or isinstance(width, bool) or width < 1
        ):
            self.faults.add(
                f"width is a number of characters of a text output; found {width!r}",
                (*path, "width"),
            )
            width = None
        order, ordered_by = self.parse_order(name, kind, given)
        meaning = given.by_name("meaning", "meaning gives a word by class", of_texts=True)
        combine: Any = options.get("combine", "list")
        needs_numbers = combine == "sum" and kind not in ("integer", "number", "decimal")
        needs_text = combine in ("join", "flags") and kind != "text"
        if combine not in COMBINES or needs_numbers or needs_text:
            self.faults.add(
                f"combine = {combine!r} is no way to combine results of type {kind}",
                (*path, "combine"),
                fix=f"one of: {listed(COMBINES)}"
                if combine not in COMBINES
                else 'for example combine = "list"',
            )
            combine = "list"
        separator = options.get("separator", ", ")
        if not isinstance(separator, str):
            given.fault("separator", f"separator is a text; found {separator!r}")
            separator = ", "
        return Output(
            name,
            kind,
            width,
            order,
            dict(meaning),
            self.heading(name, given),
            combine,
            separator,
            ordered_by,
        )

    def parse_order(self, name: str, kind: ValueType, given: Options) -> tuple[tuple[str, ...], str | None]:
        """Return the classes in order, where they are listed, and what else says their order."""
        says = "order lists the classes of a text output, each once"
        wish = given.plain("order")
        example = 'order = ["low", "high"], order = "rows", or order = { column = "rank" }'
        if wish is None:
            return (), None
        if kind != "text":
            given.fault("order", f"{says}; {name!r} is {kind}", "values of other types have their own order")
            return (), None
        if wish == "rows":
            return (), ""
        if isinstance(wish, Mapping):
            column = wish.get("column")
            if set(wish) != {"column"} or not isinstance(column, str) or not column:
                given.fault(
                    "order", f"order names the column that ranks the classes; found {wish!r}", example
                )
                return (), None
            return (), column
        if isinstance(wish, str):
            given.fault("order", f"{says}; found {wish!r}", example)
            return (), None
        order = given.texts("order", says)
        if len(set(order)) != len(order):
            given.fault("order", f"{says}; found {wish!r}")
            return (), None
        return order, None


def _as_list_condition(texts: list[str], kind: ValueType) -> str:
    from kivvet.core.words.conditions import quote_text

    return " | ".join(quote_text(text) if kind == "text" else text for text in texts)


def _is_zone(name: str) -> bool:
    from zoneinfo import ZoneInfo

    try:
        ZoneInfo(name)
    except (ValueError, OSError, KeyError):
        return False
    return True
