"""Decision tables of the OMG's Decision Model and Notation (DMN 1.3, XML) as tables of ours, and back.

Hit policies: UNIQUE and ANY are rows of which those that meet agree, FIRST the first, COLLECT and RULE ORDER all of them, with the
aggregation that is said. Input and output values are domains and classes in order, annotations are notes, a default output is what is
given where no row decides.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any
from xml.etree import ElementTree as ET

from kivvet.core.adopt.feel import FeelError, condition_of, literal_of, literal_text, unary_tests
from kivvet.core.check.check import findings_of
from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.parser import parse_row_formula
from kivvet.core.formulas.tree import (
    Arithmetic,
    ColumnName,
    Constant,
    Tree,
    columns_read,
    walk,
    write_formula,
)
from kivvet.core.tables.inputs import Combine, Input, Output
from kivvet.core.tables.table import UNFINISHED, Computed, Match, Row, Table
from kivvet.core.words.conditions import AnyOf, AnyValue, Equals, IsMissing
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import Value, ValueType
from kivvet.core.words.wording import listed

NAMESPACE = "https://www.omg.org/spec/DMN/20191111/MODEL/"
_OURS = "urn:kivvet"
_TYPES: dict[ValueType, str] = {
    "text": "string",
    "integer": "number",
    "number": "number",
    "decimal": "number",
    "boolean": "boolean",
    "date": "date",
    "datetime": "dateTime",
}
_FROM_TYPES: dict[str, ValueType] = {
    "string": "text",
    "number": "number",
    "integer": "integer",
    "long": "integer",
    "double": "number",
    "boolean": "boolean",
    "date": "date",
    "dateTime": "datetime",
    "date and time": "datetime",
}
_AGGREGATIONS: dict[str, Combine] = {"SUM": "sum", "MIN": "min", "MAX": "max", "COUNT": "count"}
_MOST_BYTES = 64 << 20


@dataclass
class TakenTable:
    """A decision table as ours, and what of it did not fit, row by row."""

    table: Table
    left: list[str] = field(default_factory=list)


@dataclass
class TakenFormula:
    """A decision that is a literal expression."""

    name: str
    text: str
    tree: Tree


def read_decisions(content: bytes) -> tuple[list[TakenTable | TakenFormula], list[str]]:
    """Return the decisions of a file, and what was not taken over.

    Raises
    ------
    DataError
        If it is no XML of that standard, or declares entities.
    """
    if len(content) > _MOST_BYTES:
        raise DataError("is larger than a file of decisions is", expected=f"at most {_MOST_BYTES >> 20} MB")
    if b"<!DOCTYPE" in content or b"<!ENTITY" in content:
        raise DataError("declares entities, which are not expanded", fix="take the declaration out")
    try:
        root = ET.fromstring(content)
    except (ET.ParseError, ValueError, LookupError) as error:
        raise DataError(f"is no XML: {error}") from error
    if _local(root.tag) != "definitions":
        raise DataError(f"is no file of decisions: it begins with {_local(root.tag)}", expected="definitions")
    made: list[TakenTable | TakenFormula] = []
    left: list[str] = []
    for decision in _all(root, "decision"):
        name = decision.get("name") or decision.get("id") or "decision"
        try:
            one = _decision(name, decision)
        except FeelError as error:
            left.append(f"{name} is not taken over: {error}")
            continue
        made.append(one)
        if isinstance(one, TakenTable):
            left += [f"{name}: {said}" for said in one.left]
    return made, left


def _local(tag: str) -> str:
    return tag.rsplit("}", 1)[-1]


def _all(element: ET.Element, name: str) -> list[ET.Element]:
    return [one for one in element.iter() if _local(one.tag) == name]


def _children(element: ET.Element, name: str) -> list[ET.Element]:
    return [one for one in element if _local(one.tag) == name]


def _text(element: ET.Element | None) -> str:
    if element is None:
        return ""
    inner = next(iter(_children(element, "text")), None)
    return (inner.text or "").strip() if inner is not None else (element.text or "").strip()


def _decision(name: str, decision: ET.Element) -> TakenTable | TakenFormula:
    tables = _children(decision, "decisionTable")
    if tables:
        return _table(name, tables[0])
    expressions = _children(decision, "literalExpression")
    if not expressions:
        raise FeelError("it is neither a decision table nor an expression")
    text = _text(expressions[0])
    return TakenFormula(name, text, _arithmetic(text))


def _arithmetic(text: str) -> Tree:
    """Return an expression of arithmetic; `FeelError` for any other."""
    try:
        tree = parse_row_formula(text, "a result")
    except FormulaError as error:
        raise FeelError(f"{text[:60]!r} is no arithmetic: {error.problem.splitlines()[0]}") from error
    if not all(isinstance(node, (Arithmetic, ColumnName, Constant)) for node in walk(tree)):
        raise FeelError(f"{text[:60]!r} is more than arithmetic")
    return tree


def _table(name: str, element: ET.Element) -> TakenTable:
    left: list[str] = []
    inputs = tuple(_input(child) for child in _children(element, "input"))
    outputs = [_output(child, name) for child in _children(element, "output")]
    if not inputs or not outputs:
        raise FeelError("it has no input or no output")
    match, combine = _policy(element)
    outputs = [replace(output, combine=combine) for output in outputs]
    rows = []
    for number, rule in enumerate(_children(element, "rule"), 1):
        try:
            rows.append(_rule(rule, number, inputs, outputs))
        except FeelError as error:
            left.append(f"row {number} is left out: {error}")
    given: dict[str, Value] = {}
    for one, output in zip(_children(element, "output"), outputs, strict=True):
        default = next(iter(_children(one, "defaultOutputEntry")), None)
        value = None if default is None else literal_of(_text(default), output.type)
        if value is not None:
            given[output.name] = value
    rows = [replace(row, number=number) for number, row in enumerate(rows, 1)]
    outputs = [_with_all_classes(output, at, rows, given, left) for at, output in enumerate(outputs)]
    table = Table(
        name, inputs, tuple(outputs), tuple(rows), match=match, missing=given, otherwise=dict(given)
    )
    return TakenTable(table, left)


def _with_all_classes(
    output: Output, at: int, rows: Sequence[Row], given: Mapping[str, Value], left: list[str]
) -> Output:
    """Return an output whose order names all that rows and the default give."""
    if not output.order:
        return output
    found = [row.results[at] for row in rows] + [given.get(output.name)]
    more = [one for one in dict.fromkeys(found) if isinstance(one, str) and one not in output.order]
    if more:
        left.append(
            f"{listed(map(repr, more), 6)} of {output.name} stood in no list of output values, and is taken into it"
        )
    return replace(output, order=(*output.order, *more))


def _input(element: ET.Element) -> Input:
    expression = next(iter(_children(element, "inputExpression")), None)
    text = _text(expression) or element.get("label") or ""
    said = expression.get("typeRef", "") if expression is not None else ""
    ours = expression.get(f"{{{_OURS}}}type") if expression is not None else None
    kind = ours or _FROM_TYPES.get(said.split(":")[-1], "text" if not said else None)
    if kind is None:
        raise FeelError(f"input {text} is of type {said}")
    values = next(iter(_children(element, "inputValues")), None)
    domain = None if values is None else condition_of(_text(values), kind)  # type: ignore[arg-type]
    name = text.strip("`")
    try:
        tree = parse_row_formula(text, "an input")
        name = tree.name if isinstance(tree, ColumnName) else name
        if not isinstance(tree, ColumnName):
            raise FeelError(f"the input {text!r} is worked out")
    except FormulaError:
        pass  # a name with blanks in it
    return Input(name, kind, domain=domain)  # type: ignore[arg-type]


def _output(element: ET.Element, name: str) -> Output:
    said = element.get("typeRef", "").split(":")[-1]
    kind: Any = element.get(f"{{{_OURS}}}type") or _FROM_TYPES.get(said, "text" if not said else None)
    if kind is None:
        raise FeelError(f"an output is of type {said}")
    values = next(iter(_children(element, "outputValues")), None)
    order: tuple[str, ...] = ()
    if values is not None and kind == "text":
        condition = condition_of(_text(values), kind)
        parts = condition.parts if isinstance(condition, AnyOf) else (condition,)
        order = tuple(str(part.value) for part in parts if isinstance(part, Equals))
    return Output(element.get("name") or element.get("label") or name, kind, order=order)


def _policy(element: ET.Element) -> tuple[Match, Combine]:
    policy = element.get("hitPolicy", "UNIQUE").upper()
    aggregation = element.get("aggregation", "").upper()
    if policy in ("UNIQUE", "ANY"):
        return "one", "list"
    if policy == "FIRST":
        return "first", "list"
    if policy in ("COLLECT", "RULE ORDER"):
        if aggregation and aggregation not in _AGGREGATIONS:
            raise FeelError(f"the aggregation {aggregation} is not known")
        return "every", _AGGREGATIONS.get(aggregation, "list")
    raise FeelError(f"the hit policy {policy} orders results by the output, which is not taken over")


def _rule(rule: ET.Element, number: int, inputs: Sequence[Input], outputs: Sequence[Output]) -> Row:
    asked = _children(rule, "inputEntry")
    gives = _children(rule, "outputEntry")
    if len(asked) != len(inputs) or len(gives) != len(outputs):
        raise FeelError(
            f"it has {len(asked)} tests and {len(gives)} results, not {len(inputs)} and {len(outputs)}"
        )
    conditions = tuple(condition_of(_text(one), about.type) for one, about in zip(asked, inputs, strict=True))
    results = tuple(_result(_text(one), about) for one, about in zip(gives, outputs, strict=True))
    notes = [_text(child) for child in _children(rule, "annotationEntry")]
    described = _text(next(iter(_children(rule, "description")), None))
    note = "; ".join(filter(None, [*notes, described]))
    return Row(number, conditions, results, note=" ".join(note.split()))


def _result(text: str, about: Output) -> Any:
    if not text or text == "-":
        return UNFINISHED
    try:
        return literal_of(text, about.type)
    except FeelError:
        if about.type not in ("number", "integer", "decimal"):
            raise
        tree = _arithmetic(text)
        return Computed(write_formula(tree), tree)


# And back.


def write_decisions(tables: Sequence[Table]) -> bytes:
    """Return tables as a file of decisions.

    Raises
    ------
    DataError
        With the table and the row, where the standard has nothing that means the same.
    """
    ET.register_namespace("", NAMESPACE)
    ET.register_namespace("kivvet", _OURS)
    root = ET.Element(
        f"{{{NAMESPACE}}}definitions", {"id": "rules", "name": "rules", "namespace": "urn:rules"}
    )
    for number, table in enumerate(tables, 1):
        decision = ET.SubElement(root, _tag("decision"), {"id": f"decision_{number}", "name": table.name})
        ET.SubElement(decision, _tag("variable"), {"id": f"variable_{number}", "name": table.name})
        _write_table(decision, table, f"t{number}")
    ET.indent(root)
    content: bytes = ET.tostring(root, encoding="utf-8", xml_declaration=True)
    return content + b"\n"


def _tag(name: str) -> str:
    return f"{{{NAMESPACE}}}{name}"


def _refused(table: Table, why: str) -> DataError:
    return DataError(f"table {table.name} cannot be said in DMN: {why}", fix="leave it out of the tables")


def _write_table(decision: ET.Element, table: Table, mark: str) -> None:
    if table.lookup is not None:
        raise _refused(table, "it is a lookup, whose rows are data")
    if table.computed_inputs:
        asking = next((row.number for row in table.rows if row.when), 1)
        raise _refused(table, f"row {asking} asks for something in `when`")
    for one in table.inputs:
        if one.fold or one.tz is not None or one.required:
            raise _refused(
                table, f"input {one.name} says how texts are folded, a time zone, or that it is required"
            )
    if any(finding.kind == "overlap" and finding.severity == "error" for finding in findings_of(table)):
        raise _refused(table, "rows of it meet and give different results")
    combine = {output.combine for output in table.outputs}
    if table.match == "every" and combine - {"list", *_AGGREGATIONS.values()}:
        raise _refused(table, f"results are combined as {', '.join(sorted(combine))}")
    rows, default = _ends(table)
    policy = {"first": "FIRST", "every": "COLLECT"}.get(table.match, "UNIQUE")
    if len(rows) > len(table.rows):
        policy = "FIRST"  # the rows for missing values come last
    if policy == "UNIQUE" and any(
        finding.kind in ("duplicate", "shadowed") for finding in findings_of(table)
    ):
        policy = "ANY"
    said = {"id": mark, "hitPolicy": policy}
    (combined,) = combine if len(combine) == 1 else ("list",)
    if table.match == "every" and combined != "list":
        said["aggregation"] = next(word for word, one in _AGGREGATIONS.items() if one == combined)
    element = ET.SubElement(decision, _tag("decisionTable"), said)
    for number, one in enumerate(table.inputs, 1):
        asked = ET.SubElement(element, _tag("input"), {"id": f"{mark}_i{number}", "label": one.name})
        kinds = {"typeRef": _TYPES[one.type]} | (
            {f"{{{_OURS}}}type": one.type} if one.type in ("integer",) else {}
        )
        expression = ET.SubElement(asked, _tag("inputExpression"), {"id": f"{mark}_e{number}", **kinds})
        ET.SubElement(expression, _tag("text")).text = one.name
        if one.domain is not None and not one.is_domain_fed:
            values = ET.SubElement(asked, _tag("inputValues"), {"id": f"{mark}_v{number}"})
            ET.SubElement(values, _tag("text")).text = _tests(table, 0, one.domain)
    for number, output in enumerate(table.outputs, 1):
        kinds = {"typeRef": _TYPES[output.type]}
        kinds |= {f"{{{_OURS}}}type": output.type} if output.type in ("integer", "decimal") else {}
        made = ET.SubElement(
            element, _tag("output"), {"id": f"{mark}_o{number}", "name": output.name, **kinds}
        )
        if output.order and output.ordered_by is None:
            values = ET.SubElement(made, _tag("outputValues"), {"id": f"{mark}_w{number}"})
            ET.SubElement(values, _tag("text")).text = ", ".join(map(literal_text, output.order))
        if default.get(output.name) is not None:
            entry = ET.SubElement(made, _tag("defaultOutputEntry"), {"id": f"{mark}_d{number}"})
            ET.SubElement(entry, _tag("text")).text = literal_text(default[output.name])
    has_notes = any(row.note for row in rows)
    if has_notes:
        ET.SubElement(element, _tag("annotation"), {"name": "note"})
    for row in rows:
        _write_rule(element, table, row, mark, has_notes=has_notes)


def _write_rule(element: ET.Element, table: Table, row: Row, mark: str, *, has_notes: bool) -> None:
    rule = ET.SubElement(element, _tag("rule"), {"id": f"{mark}_r{row.number}"})
    for number, condition in enumerate(row.conditions, 1):
        entry = ET.SubElement(rule, _tag("inputEntry"), {"id": f"{mark}_r{row.number}_i{number}"})
        ET.SubElement(entry, _tag("text")).text = _tests(table, row.number, condition)
    for number, result in enumerate(row.results, 1):
        entry = ET.SubElement(rule, _tag("outputEntry"), {"id": f"{mark}_r{row.number}_o{number}"})
        ET.SubElement(entry, _tag("text")).text = _result_text(table, row, result)
    if has_notes:
        noted = ET.SubElement(rule, _tag("annotationEntry"))
        ET.SubElement(noted, _tag("text")).text = row.note


def _tests(table: Table, row: int, condition: Any) -> str:
    try:
        return unary_tests(condition)
    except FeelError as error:
        raise _refused(table, f"row {row}: {error}" if row else f"a domain: {error}") from error


def _result_text(table: Table, row: Row, result: Any) -> str:
    if result is UNFINISHED:
        raise _refused(table, f"row {row.number} has no result yet")
    if isinstance(result, Computed):
        plain = all(isinstance(node, (Arithmetic, ColumnName, Constant)) for node in walk(result.tree))
        if not plain or any(not name.replace("_", "").isalnum() for name in columns_read(result.tree)):
            raise _refused(table, f"row {row.number} gives more than arithmetic: {result.text}")
        return result.text
    return literal_text(result)


def _ends(table: Table) -> tuple[list[Row], dict[str, Value]]:
    """Return the rows with what stands for missing values, and the default outputs."""
    rows = list(table.rows)
    if dict(table.missing) == dict(table.otherwise):
        return rows, dict(table.otherwise)
    if table.match == "every":
        raise _refused(table, "what it gives for missing values differs from what it gives otherwise")
    results = tuple(table.missing.get(output.name) for output in table.outputs)
    for number in range(len(table.inputs)):
        asked = [row.conditions[number] for row in table.rows]
        if any(
            not isinstance(one, AnyValue) for one in asked
        ):  # a missing value is told apart where some row asks
            conditions = tuple(IsMissing() if at == number else AnyValue() for at in range(len(table.inputs)))
            rows.append(
                Row(
                    len(rows) + 1,
                    conditions,
                    results,
                    note="where a value is missing, and no row above holds",
                )
            )
    return rows, dict(table.otherwise)
