"""Understanding a table's definition: plain values, as a file or a caller gives them, become parts.

All independent faults are collected as findings. A row that cannot be understood is left out and the
table marked as not complete, so that what does not depend on it can still be checked.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any, Literal

from kivvet.core.formulas.parser import FormulaError, parse_row_formula
from kivvet.core.formulas.tree import Condition as FormulaCondition
from kivvet.core.formulas.tree import Tree, write_formula
from kivvet.core.formulas.types import type_of
from kivvet.core.read.lookup_reader import parse_lookup
from kivvet.core.read.when import TypeMismatchError, WhenReader, read_given, spread
from kivvet.core.tables.inputs import Input, Output, Period, columns_of
from kivvet.core.tables.lookup_rows import LocateRow, LookupRows, no_place
from kivvet.core.tables.table import UNFINISHED, WHEN, Computed, Given, Result, Row, Table
from kivvet.core.words.condition_parser import ConditionError, parse_condition
from kivvet.core.words.conditions import Condition
from kivvet.core.words.findings import KINDS, SEVERITIES, Finding, Severity, finding
from kivvet.core.words.places import Place
from kivvet.core.words.values import (
    FOLDS,
    INPUT_TYPES,
    VALUE_TYPES,
    LiteralError,
    ValueType,
    parse_decimal,
    parse_value,
    write_value,
)
from kivvet.core.words.wording import did_you_mean, listed, near_name

TABLE_KEYWORDS = (
    "title",
    "owner",
    "note",
    "inputs",
    "outputs",
    "match",
    "missing",
    "otherwise",
    "rows",
    "lookup",
    "headings_on_line",
    "severity",
    "given",
)
INPUT_KEYWORDS = (
    "type",
    "step",
    "domain",
    "shape",
    "fold",
    "required",
    "column",
    "tz",
    "from",
    "to",
    "ends",
    "note",
)
_ENDS = {"[]": (True, True), "[)": (True, False), "(]": (False, True), "()": (False, False)}
OUTPUT_KEYWORDS = ("type", "width", "order", "meaning", "column", "combine", "separator", "note")
COMBINES = ("list", "join", "sum", "min", "max", "count", "flags")

Path = tuple[str | int, ...]


def is_line_number(given: object) -> bool:
    """Whether a value of a book is the number of a line."""
    return isinstance(given, int) and not isinstance(given, bool) and given >= 1


Locate = Callable[[Path], Place | None]
RowsAre = Literal["inline", "file", "unreadable"]


def parse_table(
    name: str,
    definition: Mapping[str, Any],
    locate: Locate = lambda _: None,
    rows_are: RowsAre = "inline",
    locate_row: LocateRow = no_place,
) -> tuple[Table | None, list[Finding]]:
    """Return the parts of the table a definition describes, and the faults found.

    Parameters
    ----------
    name : str
    definition : mapping
        As a table's TOML file gives it; `rows` a list of lists, `lookup` a frame or a list of mappings.
    locate : callable
        Gives the place of a path such as ``("rows", 2, 0)``, or None where it is not known.
    rows_are : {"inline", "file", "unreadable"}
        Rows of a file always begin with headings, and columns that no one names are left alone;
        unreadable ones are not looked at, and the table is not complete.
    locate_row : callable
        Gives the place of a row of a lookup.

    Returns
    -------
    tuple of (Table or None, list of Finding)
        None where inputs or outputs cannot be understood, so that nothing else can be.
    """
    return _TableParser(name, definition, locate, rows_are, locate_row).parse()


class _TableParser:
    def __init__(
        self,
        name: str,
        definition: Mapping[str, Any],
        locate: Locate,
        rows_are: RowsAre,
        locate_row: LocateRow,
    ) -> None:
        self.locate_row = locate_row
        self.rows_are = rows_are
        self.name = name
        self.definition = definition
        self.locate = locate
        self.findings: list[Finding] = []
        self.headings: tuple[str, ...] = ()

    def fault(
        self, kind: str, message: str, path: Path, *, fix: str = "", row: int | None = None, offset: int = 0
    ) -> None:
        place = self.locate(path)
        if place is not None and place.column is not None and offset:
            place = Place(place.file, place.line, place.column + offset)
        self.findings.append(
            finding(
                kind,
                message,
                table=self.name,
                remedy=fix,
                rows=() if row is None else (row,),
                places=(place,) if place else (),
            )
        )

    def parse(self) -> tuple[Table | None, list[Finding]]:
        self.unknown_words(self.definition, TABLE_KEYWORDS, (), "a table")
        inputs = self.named("inputs", self.parse_input)
        outputs = self.named("outputs", self.parse_output)
        match = self.definition.get("match", "one")
        if match not in ("one", "first", "every"):
            self.fault(
                "syntax",
                f"match = {match!r} is no way to match",
                ("match",),
                fix='write "one", "first" or "every"',
            )
            match = "one"
        if inputs is None or outputs is None:
            return None, self.findings
        self.check_combine(match, outputs)
        self.whens = WhenReader(inputs)
        missing, otherwise = (
            self.results_by_output("missing", outputs),
            self.results_by_output("otherwise", outputs),
        )
        n_faults = len(self.findings)
        rows: tuple[Row, ...] = ()
        lookup: LookupRows | None = None
        if self.rows_are == "unreadable":
            n_faults = -1
        elif ("rows" in self.definition) == ("lookup" in self.definition):
            both = "rows" in self.definition
            self.fault(
                "syntax",
                "a table has either rows or a lookup" + (", not both" if both else "; this one has neither"),
                ("lookup",) if both else (),
                fix="add rows = [...]" if not both else "remove one of the two",
            )
        elif "rows" in self.definition:
            rows = self.parse_rows(inputs, outputs)
        elif not is_line_number(line := self.definition.get("headings_on_line", 1)):
            self.fault(
                "syntax",
                f"headings_on_line is the number of a line, from 1; found {line!r}",
                ("headings_on_line",),
            )
        else:
            lookup, faults = parse_lookup(
                self.definition["lookup"],
                inputs,
                outputs,
                self.locate(("lookup",)),
                self.name,
                self.locate_row,
            )
            self.findings += faults
        given = self.parse_given()
        parts = Table(
            self.name,
            inputs,
            outputs,
            rows,
            lookup,
            match,
            missing,
            otherwise,
            self.severities(),
            str(self.definition.get("title", "")),
            str(self.definition.get("owner", "")),
            self.locate(()),
            tests=tuple(self.whens.tests),
            given=given,
            header=self.headings,
            has_rows_file=self.rows_are == "file",
            is_complete=len(self.findings) == n_faults,
        )
        return parts, self.findings

    # Definitions

    def unknown_words(self, given: Mapping[str, Any], known: Sequence[str], path: Path, what: str) -> None:
        for word in given:
            if word in known:
                continue
            at = (*path, word)
            if path and word in TABLE_KEYWORDS and word not in ("title", "note", "missing"):
                self.fault(
                    "syntax",
                    f"{word!r} belongs to the table, not to {what}",
                    at,
                    fix=f"move it above the first [heading] of the file: TOML puts what follows [{path[0]}] under it",
                )
            else:
                fix = did_you_mean(word, known) or f"known here: {listed(known, 20)}"
                self.fault("syntax", f"{word!r} is no keyword of {what}", at, fix=fix)

    def named(self, key: str, read: Callable[[str, Mapping[str, Any], Path], Any]) -> Any:
        """Return the inputs or outputs as a tuple; None where there is a fault that hides the rest."""
        given = self.definition.get(key)
        singular = key[:-1]
        if not isinstance(given, Mapping) or not given:
            found = "none" if given is None else f"{given!r}"
            self.fault(
                "syntax",
                f"a table names its {key}; found {found}",
                (key,) if given is not None else (),
                fix=f'add a line such as  {key}.NAME = "text"',
            )
            return None
        made = []
        for name, options in given.items():
            path = (key, name)
            if (
                name in TABLE_KEYWORDS
                and not isinstance(options, str)
                and not (isinstance(options, Mapping) and "type" in options)
            ):
                self.fault(
                    "syntax",
                    f"{name!r} stands under [{key}], so it is read as an {singular}",
                    path,
                    fix=f"move it above the line [{key}], or write {key}.NAME = ... instead of the heading",
                )
                continue
            if isinstance(options, str):
                options = {"type": options}  # noqa: PLW2901
            if not isinstance(options, Mapping):
                self.fault(
                    "syntax",
                    f"{singular} {name!r} needs a type; found {options!r}",
                    path,
                    fix='for example "text"',
                )
                continue
            made.append(read(name, options, path))
        return None if None in made or not made else tuple(made)

    def value_type(
        self, name: str, options: Mapping[str, Any], path: Path, types: Sequence[str]
    ) -> ValueType | None:
        kind = options.get("type")
        if kind in types:
            return kind
        near = near_name(str(kind), types) if kind else None
        message = f"{name!r} has no type" if kind is None else f"{kind!r} is no type for {name!r}"
        self.fault(
            "syntax",
            message,
            (*path, "type") if kind is not None else path,
            fix=f"did you mean {near!r}?" if near else f"one of: {listed(types)}",
        )
        return None

    def parse_input(self, name: str, options: Mapping[str, Any], path: Path) -> Input | None:
        self.unknown_words(options, INPUT_KEYWORDS, path, "an input")
        kind = self.value_type(name, options, path, INPUT_TYPES)
        if kind is None:
            return None
        step, offset = self.parse_step(kind, options.get("step"), (*path, "step"))
        domain, domain_of = self.parse_domain(name, kind, options, path)
        shape = options.get("shape")
        if shape is not None and (kind != "text" or not isinstance(shape, str) or not shape):
            self.fault(
                "syntax",
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
            self.fault(
                "syntax",
                f"fold makes differences of text not count; found {found}",
                (*path, "fold"),
                fix=f"use {listed(FOLDS)}",
            )
            fold = ()
        required = options.get("required", False)
        if not isinstance(required, bool):
            self.fault("syntax", f"required is true or false; found {required!r}", (*path, "required"))
            required = False
        return Input(
            name,
            kind,
            step,
            offset,
            domain,
            shape,
            fold,
            required,
            self.heading(name, options, path),
            self.parse_zone(kind, options, path),
            self.parse_period(name, kind, options, path),
            domain_of,
        )

    def parse_domain(
        self, name: str, kind: ValueType, options: Mapping[str, Any], path: Path
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
            self.fault(
                "syntax",
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
            self.fault(error.kind, f"in the domain of {name!r}: {error.problem}", (*path, "domain"), fix=fix)
            return None, ""

    def heading(self, name: str, options: Mapping[str, Any], path: Path) -> str | None:
        """Return the heading that a column of the table's own file has."""
        given = options.get("column")
        if given is not None and (not isinstance(given, str) or not given.strip()):
            self.fault(
                "syntax",
                f"column is the heading of {name!r} in the table's file; found {given!r}",
                (*path, "column"),
                fix='for example column = "Station no."',
            )
            return None
        return given

    def parse_zone(self, kind: ValueType, options: Mapping[str, Any], path: Path) -> str | None:
        given = options.get("tz")
        if given is None:
            return None
        if kind not in ("date", "datetime") or not isinstance(given, str) or not _is_zone(given):
            found = f"tz on a {kind} input" if kind not in ("date", "datetime") else repr(given)
            self.fault(
                "syntax",
                f"tz is the time zone that bounds of dates and times are in; found {found}",
                (*path, "tz"),
                fix='for example tz = "Europe/Vienna"',
            )
            return None
        return given

    def parse_period(
        self, name: str, kind: ValueType, options: Mapping[str, Any], path: Path
    ) -> Period | None:
        """Return the range that a lookup holds for an input, None where it holds single values."""
        given = {word: options[word] for word in ("from", "to", "ends") if word in options}
        if not given:
            return None
        if "lookup" not in self.definition:
            word = next(iter(given))
            self.fault(
                "syntax",
                f"{word!r} names a column of a lookup; this table has rows of conditions",
                (*path, word),
                fix='write the range in the cell: "5 to 9"',
            )
            return None
        start, end, ends = options.get("from"), options.get("to"), options.get("ends", "[]")
        if not isinstance(start, str) or not (end is None or isinstance(end, str)) or kind == "boolean":
            self.fault(
                "syntax",
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
            self.fault(
                "syntax",
                f"ends says whether both ends are in; found {ends!r}",
                (*path, "ends"),
                fix='one of "[]", "[)", "(]", "()", or { from = "COLUMN", to = "COLUMN" } of true and false',
            )
            closed = (True, True)
        if end is None and closed[1] is True:
            closed = (closed[0], False)  # until the next start, which belongs to the next row
        return Period(start, end, closed)

    def parse_step(self, kind: ValueType, given: Any, path: Path) -> tuple[Decimal | None, Decimal]:
        if given is None:
            return None, Decimal(0)
        size, offset = (
            (given.get("size"), given.get("offset", 0)) if isinstance(given, Mapping) else (given, 0)
        )
        try:
            numbers = parse_decimal(str(size)), parse_decimal(str(offset))
        except LiteralError:
            numbers = Decimal(0), Decimal(0)
        is_whole = kind not in ("integer", "date") or all(one == one.to_integral_value() for one in numbers)
        if kind not in ("number", "integer", "date") or numbers[0] <= 0 or not is_whole:
            self.fault(
                "syntax",
                f"a step is a number above 0 on a number, integer or date input; found {given!r}",
                path,
                fix="for example step = 0.1, or step = { size = 5, offset = 2 }",
            )
            return None, Decimal(0)
        return numbers

    def parse_output(self, name: str, options: Mapping[str, Any], path: Path) -> Output | None:
        self.unknown_words(options, OUTPUT_KEYWORDS, path, "an output")
        kind = self.value_type(name, options, path, VALUE_TYPES)
        if kind is None:
            return None
        width = options.get("width")
        if width is not None and (
            kind != "text" or not isinstance(width, int) or isinstance(width, bool) or width < 1
        ):
            self.fault(
                "syntax",
                f"width is a number of characters of a text output; found {width!r}",
                (*path, "width"),
            )
            width = None
        order = options.get("order", ())
        if not isinstance(order, (str, Mapping, list, tuple)) or (
            isinstance(order, (list, tuple)) and not all(isinstance(one, str) for one in order)
        ):
            self.fault(
                "syntax",
                f"order lists the classes of a text output, each once; found {order!r}",
                (*path, "order"),
            )
            order = ()
        if kind != "text" or isinstance(order, (str, Mapping)) or len(set(map(str, order))) != len(order):
            if order:
                self.fault(
                    "syntax",
                    f"order lists the classes of a text output, each once; found {order!r}",
                    (*path, "order"),
                )
            order = ()
        meaning = options.get("meaning", {})
        if not isinstance(meaning, Mapping) or not all(isinstance(one, str) for one in meaning.values()):
            self.fault("syntax", f"meaning gives a word by class; found {meaning!r}", (*path, "meaning"))
            meaning = {}
        combine, separator = options.get("combine", "list"), options.get("separator", ", ")
        needs_numbers = combine == "sum" and kind not in ("integer", "number", "decimal")
        needs_text = combine in ("join", "flags") and kind != "text"
        if combine not in COMBINES or needs_numbers or needs_text:
            self.fault(
                "syntax",
                f"combine = {combine!r} is no way to combine results of type {kind}",
                (*path, "combine"),
                fix=f"one of: {listed(COMBINES)}"
                if combine not in COMBINES
                else 'for example combine = "list"',
            )
            combine = "list"
        if not isinstance(separator, str):
            self.fault("syntax", f"separator is a text; found {separator!r}", (*path, "separator"))
            separator = ", "
        return Output(
            name,
            kind,
            width,
            tuple(map(str, order)),
            {k: str(v) for k, v in meaning.items()},
            self.heading(name, options, path),
            combine,
            separator,
        )

    def check_combine(self, match: str, outputs: tuple[Output, ...]) -> None:
        """Tell where an output says how results combine, and they never do."""
        for output in outputs:
            given = self.definition["outputs"][output.name]
            if (
                match != "every"
                and isinstance(given, Mapping)
                and ("combine" in given or "separator" in given)
            ):
                self.fault(
                    "syntax",
                    f"{output.name} says how results combine, and match = {match!r} gives one result",
                    ("outputs", output.name, "combine" if "combine" in given else "separator"),
                    fix='set match = "every", or leave it out',
                )

    def parse_given(self) -> tuple[Given, ...]:
        given = self.definition.get("given", ())
        statements = [given] if isinstance(given, str) else given
        if not isinstance(statements, (list, tuple)) or not all(isinstance(one, str) for one in statements):
            self.fault(
                "syntax",
                f"given lists statements that always hold; found {given!r}",
                ("given",),
                fix='for example given = ["low <= high"]',
            )
            return ()
        made = []
        for index, text in enumerate(statements):
            path: Path = ("given",) if isinstance(given, str) else ("given", index)
            try:
                made.append(read_given(text, self.locate(path)))
            except FormulaError as error:
                self.formula_fault(error, text, path, "in given")
        return tuple(made)

    def formula_fault(
        self, error: FormulaError, text: str, path: Path, where: str, row: int | None = None
    ) -> None:
        kind = "type" if isinstance(error, TypeMismatchError) else "syntax"
        self.fault(
            kind,
            f"{where}, {text.strip()!r}: {error.problem}",
            path,
            fix=error.fix,
            row=row,
            offset=error.offset,
        )

    def severities(self) -> dict[str, Severity]:
        given = self.definition.get("severity", {})
        chosen: dict[str, Severity] = {}
        if not isinstance(given, Mapping):
            self.fault(
                "syntax",
                "severity gives error, warning or note by kind of finding",
                ("severity",),
                fix='[severity]  gap = "warning"',
            )
            return chosen
        for kind, severity in given.items():
            if kind not in KINDS:
                self.fault(
                    "syntax",
                    f"{kind!r} is no kind of finding",
                    ("severity", kind),
                    fix=did_you_mean(kind, KINDS) or listed(KINDS, 30),
                )
            elif severity not in SEVERITIES:
                self.fault(
                    "syntax",
                    f"{severity!r} is no severity",
                    ("severity", kind),
                    fix=f"one of: {listed(SEVERITIES)}",
                )
            else:
                chosen[kind] = severity
        return chosen

    def results_by_output(self, key: str, outputs: tuple[Output, ...]) -> dict[str, Any]:
        given = self.definition.get(key, {})
        if not isinstance(given, Mapping):
            self.fault(
                "syntax",
                f"{key} gives a result for each output by name; found {given!r}",
                (key,),
                fix=f"write {key} = {{ {outputs[0].name} = {_toml(given)} }}",
            )
            return {}
        by_name = {output.name: output for output in outputs}
        results: dict[str, Any] = {}
        for name, cell in given.items():
            if name not in by_name:
                self.fault(
                    "unknown-column",
                    f"{key} names {name!r}, which is no output",
                    (key, name),
                    fix=did_you_mean(name, by_name) or f"outputs: {listed(by_name)}",
                )
                continue
            result = self.parse_result(cell, by_name[name], (key, name), None)
            if result is not UNFINISHED:
                results[name] = result
        return results

    # Rows

    def parse_rows(self, inputs: tuple[Input, ...], outputs: tuple[Output, ...]) -> tuple[Row, ...]:
        given = self.definition["rows"]
        if not isinstance(given, (list, tuple)) or not all(isinstance(row, (list, tuple)) for row in given):
            self.fault(
                "syntax",
                "rows is a list of lists, or the name of a CSV file",
                ("rows",),
                fix='for example  rows = [["< 5", "low"]]',
            )
            return ()
        headings = [one.column or one.name for one in columns_of(inputs, outputs)]
        first, columns, when = self.header(given, inputs, outputs, headings)
        if columns is None:
            return ()
        self.headings = tuple(str(cell).strip() for cell in given[0]) if first else ()
        read: list[tuple[Row, FormulaCondition | None]] = []
        for index in range(first, len(given)):
            row = self.parse_row(given[index], index, index - first + 1, inputs, outputs, columns, when)
            if row is not None:
                read.append(row)
        if when is None:
            return tuple(row for row, _ in read)
        asked = [{} if tree is None else self.whens.split(tree) for _, tree in read]
        n_dimensions = len(inputs) + len(self.whens.tests)
        return tuple(
            replace(row, tests=spread(one, n_dimensions)) for (row, _), one in zip(read, asked, strict=True)
        )

    def header(
        self,
        given: Sequence[Sequence[Any]],
        inputs: tuple[Input, ...],
        outputs: tuple[Output, ...],
        headings: list[str],
    ) -> tuple[int, list[int] | None, int | None]:
        """Return the index of the first row of conditions, the column of each heading (None: a fault) and of `when`."""
        names = [one.name for one in columns_of(inputs, outputs)]
        top = [str(cell).strip() for cell in given[0]] if given else []
        may_ask = WHEN not in names and WHEN not in headings
        named = set(top) - {WHEN} if may_ask else set(top)
        needs_header = len(headings) > 2 or self.rows_are == "file"
        is_header = bool(top) and (named in (set(names), set(headings)) or needs_header)
        if not is_header:
            if needs_header and not given:
                self.fault(
                    "syntax",
                    "the first row names the columns",
                    ("rows",),
                    fix=f"begin with {_toml(headings)}",
                )
                return 0, None, None
            return 0, list(range(len(headings))), None
        if self.rows_are == "inline" and not named & {*names, *headings}:
            self.fault(
                "syntax",
                f"with several inputs or outputs the first row names the columns; found {listed(top)}",
                ("rows", 0),
                fix=f"begin with {_toml(_with_when(headings, len(inputs), len(top)))}",
            )
            return 0, None, None
        columns: list[int] = []
        faults = len(self.findings)
        for name, heading in zip(names, headings, strict=True):
            places = [i for i, cell in enumerate(top) if cell in (name, heading)]
            if len(places) != 1:
                what = "twice" if places else "not"
                fix = did_you_mean(heading, top) if not places else "keep one"
                self.fault(
                    "unknown-column",
                    f"the column {heading!r} is {what} among the headings: {listed(top)}",
                    ("rows", 0),
                    fix=fix or f"begin with {_toml(_with_when(headings, len(inputs), len(top)))}",
                )
            else:
                columns.append(places[0])
        whens = [i for i, cell in enumerate(top) if may_ask and cell == WHEN]
        if len(whens) > 1:
            self.fault(
                "unknown-column",
                "the column 'when' is twice among the headings",
                ("rows", 0),
                fix="join them with AND",
            )
        for position, cell in enumerate(top):
            if (
                cell not in names
                and cell not in headings
                and position not in whens
                and self.rows_are == "inline"
            ):
                self.fault(
                    "unknown-column",
                    f"{cell!r} is neither input nor output",
                    ("rows", 0, position),
                    fix=did_you_mean(cell, names) or "",
                )
        return 1, columns if len(self.findings) == faults else None, whens[0] if whens else None

    def parse_row(
        self,
        cells: Sequence[Any],
        index: int,
        number: int,
        inputs: tuple[Input, ...],
        outputs: tuple[Output, ...],
        columns: list[int],
        when: int | None,
    ) -> tuple[Row, FormulaCondition | None] | None:
        places = [*columns, *([] if when is None else [when])]
        expected = len(places)
        if max(places) >= len(cells) or (len(cells) > expected and self.rows_are == "inline"):
            names = [*(one.name for one in columns_of(inputs, outputs)), *([] if when is None else [WHEN])]
            self.fault(
                "syntax",
                f"row {number} has {len(cells)} cells; {expected} are expected",
                ("rows", index),
                row=number,
                fix=f"one cell each for {listed(self.headings or names, 20)}",
            )
            return None
        conditions: list[Condition] = []
        faults = len(self.findings)
        for column, position in zip(inputs, columns, strict=False):
            condition = self.parse_cell(cells[position], column, ("rows", index, position), number)
            if condition is not None:
                conditions.append(condition)
        tree, text = None, ""
        if when is not None and (text := str("" if cells[when] is None else cells[when]).strip()):
            try:
                tree = self.whens.read(text)
            except FormulaError as error:
                self.formula_fault(error, text, ("rows", index, when), f"in row {number}, when", number)
        results: list[Result] = []
        for output, position in zip(outputs, columns[len(inputs) :], strict=True):
            results.append(self.parse_result(cells[position], output, ("rows", index, position), number))
        if len(conditions) < len(inputs) or len(self.findings) > faults:
            return None
        shown = "" if tree is None else write_formula(tree)
        return Row(number, tuple(conditions), tuple(results), self.locate(("rows", index)), when=shown), tree

    def parse_cell(self, cell: Any, column: Input, path: Path, number: int) -> Condition | None:
        try:
            text = _cell_text(cell, column.type)
            return parse_condition(text, column.type)
        except ConditionError as error:
            self.fault(
                error.kind,
                f"in row {number}, {column.name} = {str(cell).strip()!r}: {error.problem}",
                path,
                fix=error.fix or f"expected {error.expected}",
                row=number,
                offset=error.offset,
            )
        except LiteralError as error:
            self.fault(
                "type",
                f"in row {number}, {column.name} is {cell!r}; expected {error.expected}",
                path,
                fix=error.fix,
                row=number,
            )
        return None

    def parse_result(self, cell: Any, output: Output, path: Path, number: int | None) -> Result:
        if isinstance(cell, str) and cell.strip().startswith("="):
            return self.parse_computed(cell, output, path, number)
        try:
            result = parse_result(cell, output.type)
        except LiteralError as error:
            where = f"in row {number}, " if number else ""
            self.fault(
                "type",
                f"{where}{output.name} is {_shown(cell)}; expected {error.expected}",
                path,
                fix=error.fix,
                row=number,
            )
            return None
        if isinstance(result, str):
            if output.width is not None and len(result) > output.width:
                self.fault(
                    "width",
                    f"{output.name} = {result!r} has {len(result)} characters; {output.width} fit",
                    path,
                    fix=f"shorten it, or set width = {len(result)}",
                    row=number,
                )
            if output.order and result not in output.order:
                self.fault(
                    "type",
                    f"{output.name} = {result!r} is not in its order: {listed(output.order)}",
                    path,
                    fix=did_you_mean(result, output.order) or "add it to order",
                    row=number,
                )
        return result

    def parse_computed(self, cell: str, output: Output, path: Path, number: int | None) -> Result:
        """Return a result that is a formula; it must give values of the output's type."""
        text = cell.strip()[1:]
        where = f"in row {number}, {output.name}" if number else output.name
        as_text = f"; for the text itself write '\"{cell.strip()}\"'"
        if number is None or output.type == "decimal" or self.definition.get("match") == "every":
            why = (
                "a formula is a result of rows only"
                if number is None
                else "a formula gives no exact decimal"
                if output.type == "decimal"
                else "a formula is no result where every row that matches gives one"
            )
            self.fault(
                "type",
                f"{where} is {cell.strip()!r}: {why}",
                path,
                fix="name it in formulas.toml" + as_text,
                row=number,
            )
            return None
        try:
            tree = self.result_tree(text, output)
        except FormulaError as error:
            shift = cell.index("=") + 1
            self.formula_fault(
                type(error)(
                    error.problem, error.offset + shift, error.fix + (as_text if not error.fix else "")
                ),
                cell,
                path,
                where,
                number,
            )
            return None
        return Computed(write_formula(tree), tree)

    def result_tree(self, text: str, output: Output) -> Tree:
        """Return the tree of a result; `FormulaError` if it is none, or not of the output's type."""
        tree = parse_row_formula(text, "a result")
        try:
            kind = type_of(tree, self.whens.type_of)
        except FormulaError as error:
            raise TypeMismatchError(error.problem, error.offset, error.fix) from None
        wider = (("integer", "number"), ("date", "datetime"))
        if kind not in (None, output.type) and (kind, output.type) not in wider:
            raise TypeMismatchError(
                f"it gives {kind}, and {output.name} is {output.type}",
                0,
                f"CAST({text.strip()} AS {output.type.upper()})",
            )
        return tree


def parse_result(cell: Any, kind: ValueType) -> Result:
    """Return the result that a cell gives: a value, None for missing, UNFINISHED where it is blank.

    Raises
    ------
    LiteralError
        If it is not of the output's type.
    """
    if cell is None:
        return UNFINISHED
    text = _cell_text(cell, kind)
    text = text.strip()
    if not text:
        return UNFINISHED
    if text == "missing":
        return None
    if kind == "text":
        is_quoted = len(text) >= 2 and text[0] == text[-1] == '"'
        return text[1:-1].replace('""', '"') if is_quoted else text
    try:
        value = parse_value(text, kind)
    except LiteralError as error:
        raise LiteralError(error.expected, error.fix) from error
    if kind == "datetime" and not isinstance(value, dt.datetime):
        assert isinstance(value, dt.date)
        return dt.datetime.combine(value, dt.time())
    if kind == "integer" and not -(2**63) <= int(value) < 2**63:  # type: ignore[arg-type]
        raise LiteralError("an integer of at most 64 bits")
    return value


def _cell_text(cell: Any, kind: ValueType) -> str:
    """Return a cell given as text or as a plain value as the text that writes it."""
    if isinstance(cell, str):
        return cell
    if cell is None:
        return ""
    if isinstance(cell, float):
        cell = Decimal(repr(cell))
    if kind == "text":
        raise LiteralError(
            "text", f'write "{cell if not isinstance(cell, bool) else str(cell).lower()}" in quotes'
        )
    if not isinstance(cell, (bool, int, Decimal, dt.date)):
        raise LiteralError(f"a {kind}")
    return write_value(cell)


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


def _shown(cell: Any) -> str:
    return repr(cell.strip() if isinstance(cell, str) else cell)


def _with_when(headings: Sequence[str], n_inputs: int, n_cells: int) -> list[str]:
    """Return headings with `when` among them, where rows have a cell more than the inputs and outputs."""
    has_when = n_cells == len(headings) + 1 and WHEN not in headings
    return [*headings[:n_inputs], *([WHEN] if has_when else []), *headings[n_inputs:]]


def _toml(given: Any) -> str:
    import json

    return json.dumps(given, ensure_ascii=False, default=str)
