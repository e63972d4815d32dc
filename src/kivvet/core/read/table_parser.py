"""Understanding a table's definition: plain values, as a file or a caller gives them, become parts.

All independent faults are collected as findings. A row that cannot be understood is left out and the
table marked as not complete, so that what does not depend on it can still be checked.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from kivvet.core.formulas.errors import FormulaError
from kivvet.core.read.class_order import Ranked, by_rank, in_row_order
from kivvet.core.read.column_reader import INPUT_KEYWORDS, OUTPUT_KEYWORDS, ColumnReader
from kivvet.core.read.examples import read_examples
from kivvet.core.read.fields_read import FIELD_KEYWORDS, fields_read
from kivvet.core.read.file_keywords import FILE_KEYWORDS, NOTE, PLACE, READ_KEYWORDS, TITLE
from kivvet.core.read.forms import ANYTHING, CELL, TEXT, Keywords, by_name, list_of, one_of, options_of
from kivvet.core.read.lookup_reader import parse_lookup
from kivvet.core.read.options import (
    SEVERITY,
    Faults,
    KeyPath,
    Locate,
    Options,
    is_line_number,
    read_severities,
    toml_text,
)
from kivvet.core.read.origin import DRAFTED, read_origin
from kivvet.core.read.promise_reader import PromiseError, read_promise
from kivvet.core.read.review import REVIEWED, read_review
from kivvet.core.read.row_reader import RowReader, RowsAre
from kivvet.core.read.when import formula_fault, read_given
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.lookup_rows import LocateRow, LookupRows, no_place
from kivvet.core.tables.table import UNFINISHED, Given, Match, Row, Table
from kivvet.core.words.findings import Finding
from kivvet.core.words.promises import Promise
from kivvet.core.words.values import INPUT_TYPES, VALUE_TYPES, ValueType
from kivvet.core.words.wording import did_you_mean, listed

_ROWS = list_of(list_of(CELL))
_MATCHES: tuple[Match, ...] = ("one", "first", "every")
TABLE_KEYWORDS: Keywords = {
    "title": TITLE,
    "owner": ANYTHING.says("who answers for it"),
    "note": NOTE,
    "drafted": DRAFTED.says("what kivvet draft wrote of the data"),
    "reviewed": REVIEWED.says("what kivvet review wrote"),
    "inputs": by_name(one_of(INPUT_TYPES) | options_of(INPUT_KEYWORDS, "type"), at_least=1).says(
        "what the table reads: a type by name, or options"
    ),
    "outputs": by_name(one_of(VALUE_TYPES) | options_of(OUTPUT_KEYWORDS, "type"), at_least=1).says(
        "what the table gives: a type by name, or options"
    ),
    "match": one_of(_MATCHES).says("which of the rows that hold gives the result: one, first or every"),
    "missing": by_name(CELL).says("by output, the result where an input is missing"),
    "otherwise": by_name(CELL).says("by output, the result where no row holds"),
    "rows": (TEXT | _ROWS | PLACE).says("conditions and results, headings first; or a file or place of them"),
    "lookup": (TEXT | PLACE).says("a file of single keys and results, or a place in a database"),
    "headings_on_line": READ_KEYWORDS["headings_on_line"],
    **FILE_KEYWORDS,
    **FIELD_KEYWORDS,
    "severity": SEVERITY.says("by kind of finding, how grave it is here"),
    "given": (TEXT | list_of(TEXT)).says('statements that always hold between inputs, such as "low <= high"'),
    "examples": (TEXT | _ROWS).says("values and the results they have to have, headings first; or a file"),
    "promises": list_of(TEXT).says('what holds of all results, such as "rate <= 0.4"'),
}
#: Of the file of a table.
TABLE_FORM = options_of(TABLE_KEYWORDS, "inputs", "outputs", one_of_these=("rows", "lookup"))


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


def _type_expected(output: Output, match: Match) -> ValueType | None:
    """Return the type of what an example expects of an output."""
    if match != "every":
        return output.type
    of_combined: dict[str, ValueType] = {"join": "text", "list": "text", "flags": "text", "count": "integer"}
    return of_combined.get(output.combine, output.type)


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
        self.faults = Faults(locate, table=name)
        self.options = Options(definition, self.faults)

    def parse(self) -> tuple[Table | None, list[Finding]]:
        options = self.options
        options.unknown(TABLE_KEYWORDS, "a table")
        columns = ColumnReader(self.faults, self.definition, TABLE_KEYWORDS)
        inputs, outputs = columns.inputs(), columns.outputs()
        match = options.one_of(
            "match", _MATCHES, "one", "is no way to match", 'write "one", "first" or "every"'
        )
        if inputs is None or outputs is None:
            return None, self.faults.found
        self.check_combine(match, outputs)
        computes = self.definition.get("match") != "every"
        reader = RowReader(self.faults, inputs, outputs, self.rows_are, computes=computes)
        missing = self.results_by_output("missing", reader)
        otherwise = self.results_by_output("otherwise", reader)
        n_faults = len(self.faults)
        for word in FIELD_KEYWORDS:
            if word in options and "lookup" not in options:
                fix = "leave it out: conditions and results say themselves what they are"
                options.fault(word, f"{word} is for the columns of a lookup", fix)
        rows: tuple[Row, ...] = ()
        ranks: dict[str, list[Ranked]] = {}
        lookup: LookupRows | None = None
        if self.rows_are == "unreadable":
            n_faults = -1
        elif ("rows" in options) == ("lookup" in options):
            both = "rows" in options
            self.faults.add(
                "a table has either rows or a lookup" + (", not both" if both else "; this one has neither"),
                ("lookup",) if both else (),
                fix="add rows = [...]" if not both else "remove one of the two",
            )
        elif "rows" in options:
            self.refuse_of_files()
            rows = reader.parse_rows(options.plain("rows"))
        elif is_line_number(options.line()) and len(self.faults) == n_faults:
            fields = fields_read(options)
            lookup, faults, ranks = parse_lookup(
                options.plain("lookup"),
                inputs,
                outputs,
                self.faults.locate(("lookup",)),
                self.name,
                self.locate_row,
                fields,
            )
            self.faults.found += faults
        if any(output.ordered_by is not None for output in outputs):
            outputs = tuple(
                self.ordered(output, position, rows, reader, ranks) for position, output in enumerate(outputs)
            )
        table = Table(
            self.name,
            inputs,
            outputs,
            rows,
            lookup,
            match,
            missing,
            otherwise,
            read_severities(options),
            str(options.plain("title", "")),
            str(options.plain("owner", "")),
            self.faults.locate(()),
            computed_inputs=tuple(reader.whens.computed_inputs),
            given=self.parse_given(),
            header=reader.headings,
            has_rows_file=self.rows_are == "file",
            is_complete=len(self.faults) == n_faults,
            note=str(options.plain("note", "")),
            origin=read_origin(options),
            reviewed=read_review(options),
        )
        reads = {name: None if about is None else about.type for name, about in table.reads.items()}
        given = {output.name: _type_expected(output, match) for output in outputs}
        examples = read_examples(options.plain("examples"), reads, given, self.faults)
        return replace(table, examples=examples, promises=self.parse_promises(table)), self.faults.found

    def ordered(
        self,
        output: Output,
        position: int,
        rows: tuple[Row, ...],
        reader: RowReader,
        ranks: Mapping[str, list[Ranked]],
    ) -> Output:
        """Return an output with its classes in the order that rows or a column say."""
        if output.ordered_by is None:
            return output
        labels = {row.number: text for row in rows if isinstance(text := row.results[position], str)}
        if output.ordered_by == "":
            return in_row_order(
                output, labels.values() if rows else (one[1] for one in ranks.get(output.name, ()))
            )
        found = ranks.get(output.name)
        if found is None and rows:
            cells = reader.cells_of(output.ordered_by)
            if cells is None:
                self.faults.add(
                    f"{output.name} is ordered by {output.ordered_by!r}, and the rows have no such column",
                    ("outputs", output.name, "order"),
                    fix=did_you_mean(output.ordered_by, reader.headings)
                    or "add it to the headings, the first row, and a number to each row",
                    kind="unknown-column",
                )
                return output
            found = [(cell, labels[number], number) for number, cell in cells if number in labels]
        return by_rank(output, found or [], self.faults)

    def refuse_of_files(self) -> None:
        """Tell options that say how a file is read, where the rows stand in the definition itself."""
        if self.rows_are != "inline" or isinstance(self.definition["rows"], str):
            return
        for word in ("headings_on_line", *FILE_KEYWORDS):
            if word in self.options:
                self.options.fault(
                    word, f"{word} is for rows in a file of their own, and these stand here", "leave it out"
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
                self.faults.add(
                    f"{output.name} says how results combine, and match = {match!r} gives one result",
                    ("outputs", output.name, "combine" if "combine" in given else "separator"),
                    fix='set match = "every", or leave it out',
                )

    def parse_given(self) -> tuple[Given, ...]:
        given = self.definition.get("given", ())
        statements = (
            (given,)
            if isinstance(given, str)
            else self.options.texts(
                "given", "given lists statements that always hold", 'for example given = ["low <= high"]'
            )
        )
        made = []
        for index, text in enumerate(statements):
            path: KeyPath = ("given",) if isinstance(given, str) else ("given", index)
            try:
                made.append(read_given(text, self.faults.locate(path)))
            except FormulaError as error:
                formula_fault(self.faults, error, text, path, "in given")
        return tuple(made)

    def parse_promises(self, table: Table) -> tuple[Promise, ...]:
        texts = self.options.texts(
            "promises", "promises lists what holds of all results", 'for example promises = ["rate <= 0.4"]'
        )
        made: list[Promise] = []
        if texts and (table.lookup is not None or table.match == "every"):
            what = "a lookup" if table.lookup is not None else 'match = "every"'
            self.faults.add(
                f"a table with {what} keeps no promises", ("promises",), fix="hold it by examples"
            )
            return ()
        for index, text in enumerate(texts):
            path: KeyPath = ("promises", index)
            place = self.faults.locate(path)
            try:
                made.append(read_promise(text, table, place))
            except PromiseError as error:
                message = f"promise {text!r}: {error.problem}"
                self.faults.add(message, path, fix=error.fix, kind=error.kind)
        return tuple(made)

    def results_by_output(self, key: str, reader: RowReader) -> dict[str, Any]:
        """Return what `missing` or `otherwise` gives, by output."""
        by_name = {output.name: output for output in reader.outputs}
        example = toml_text(self.definition.get(key))
        given = self.options.by_name(
            key,
            f"{key} gives a result for each output by name",
            f"write {key} = {{ {reader.outputs[0].name} = {example} }}",
        )
        results: dict[str, Any] = {}
        for name, cell in given.items():
            if name not in by_name:
                self.faults.add(
                    f"{key} names {name!r}, which is no output",
                    (key, name),
                    fix=did_you_mean(name, by_name) or f"outputs: {listed(by_name)}",
                    kind="unknown-column",
                )
                continue
            result = reader.parse_result(cell, by_name[name], (key, name), None)
            if result is not UNFINISHED:
                results[name] = result
        return results
