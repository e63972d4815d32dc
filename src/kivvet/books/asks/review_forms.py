"""Findings in the forms that other programs read: SARIF 2.1.0 (an OASIS standard) for review tools, and the XML of test
results that CI systems read.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable
from importlib.metadata import version
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, get_args
from urllib.parse import quote
from xml.etree import ElementTree as ET

from kivvet.books.asks.suggested_changes import SuggestedChange, suggested_change
from kivvet.books.files.open_book import BOOK_FILE
from kivvet.books.files.read_formulas import FORMULAS_FILE
from kivvet.core.words.errors import BookError
from kivvet.core.words.findings import KINDS, Finding, Report, Subject
from kivvet.core.words.places import Place
from kivvet.core.words.wording import count, listed, shown_path

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

ReviewForm = Literal["sarif", "junit"]
_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"


def report_as(book: OpenBook, report: Report, form: ReviewForm) -> str:
    """Return a report as the text of another form; see `Book.report_as`."""
    if form not in get_args(ReviewForm):
        raise BookError(f"a report has no form {form!r}", expected=f"one of: {listed(get_args(ReviewForm))}")
    return (
        json.dumps(_sarif(book, report), indent=2, ensure_ascii=False) if form == "sarif" else _junit(report)
    )


# SARIF


def _sarif(book: OpenBook, report: Report) -> dict[str, Any]:
    kinds = sorted({finding.kind for finding in report.findings})
    return {
        "$schema": _SCHEMA,
        "version": "2.1.0",
        "runs": [
            {
                "tool": {
                    "driver": {
                        "name": "kivvet",
                        "semanticVersion": version("kivvet"),
                        "rules": [
                            {
                                "id": kind,
                                "name": "".join(part.title() for part in kind.split("-")),
                                "shortDescription": {"text": kind.replace("-", " ")},
                                "defaultConfiguration": {"level": KINDS[kind]},
                            }
                            for kind in kinds
                        ],
                    }
                },
                "columnKind": "unicodeCodePoints",
                "results": [_result(book, finding, kinds.index(finding.kind)) for finding in report.findings],
            }
        ],
    }


def _result(book: OpenBook, found: Finding, rule: int) -> dict[str, Any]:
    said = f"{found.message}\n{found.remedy}" if found.remedy else found.message
    logical = [{"name": found.subject.name or "book", "kind": found.subject.kind}]
    at = found.places or _file_of(book, found)
    places = [{"physicalLocation": _physical(place), "logicalLocations": logical} for place in at]
    result: dict[str, Any] = {
        "ruleId": found.kind,
        "ruleIndex": rule,
        "level": found.severity,
        "message": {"text": said},
        "locations": places[:1],
        "partialFingerprints": {"finding/v1": _fingerprint(found)},
    }
    if places[1:]:
        result["relatedLocations"] = places[1:]
    if (change := suggested_change(book, found)) is not None:
        result["fixes"] = [_fix(found, change)]
    properties = {
        "possible": found.possible or None,
        "rows": list(found.rows) or None,
        "region": None if found.region is None else dict(found.region),
        "witness": None if found.witness is None else dict(found.witness),
        "count": found.count,
        "dataset": found.dataset or None,
    }
    result["properties"] = {name: value for name, value in properties.items() if value is not None}
    return result


def _file_of(book: OpenBook, found: Finding) -> tuple[Place, ...]:
    """Return the file that a finding without a place is about: of its table or formula, else that of the book."""
    file = next(
        (path for path in book.files_of_tables if path.suffix == ".toml" and path.stem == found.table),
        None,
    )
    if found.is_of_formula:
        file = book.folder / FORMULAS_FILE
    return (Place(shown_path(file or book.folder / BOOK_FILE)),)


def _physical(place: Place) -> dict[str, Any]:
    location: dict[str, Any] = {"artifactLocation": {"uri": _uri(place.file)}}
    if place.sheet:
        location["artifactLocation"]["description"] = {"text": str(place).removeprefix(f"{place.file}:")}
    elif place.line is not None:
        location["region"] = {
            "startLine": place.line,
            **({} if place.column is None else {"startColumn": place.column}),
        }
    return location


def _uri(file: str) -> str:
    path = Path(file)
    return path.as_uri() if path.is_absolute() else quote(path.as_posix())


def _fingerprint(found: Finding) -> str:
    """Return what tells a finding from others, whatever lines are added above it."""
    about = [
        found.kind,
        found.table,
        found.dataset,
        found.region,
        found.message if found.region is None else "",
    ]
    return hashlib.sha256(json.dumps(about, sort_keys=True).encode()).hexdigest()


def _fix(found: Finding, change: SuggestedChange) -> dict[str, Any]:
    replacements = []
    for line in change.lines:
        is_insertion = line.first == line.end
        region: dict[str, Any] = {"startLine": line.first, "startColumn": 1}
        region |= {"endLine": line.end, "endColumn": 1}
        replacement: dict[str, Any] = {"deletedRegion": region}
        if line.text or is_insertion:
            replacement["insertedContent"] = {"text": line.text}
        replacements.append(replacement)
    uri = _uri(shown_path(change.file))
    return {
        "description": {"text": found.remedy},
        "artifactChanges": [{"artifactLocation": {"uri": uri}, "replacements": replacements}],
    }


# Test results


def _junit(report: Report) -> str:
    """Return a case for each table, formula and dataset, which fails where there are errors."""
    subjects = [Subject("table", name) for name in report.tables]
    subjects += [Subject("formula", name) for name in report.formulas]
    subjects += [finding.subject for finding in report.findings]
    subjects += [Subject("dataset", name) for name in report.datasets]
    different = list(dict.fromkeys(subjects))
    n_failed = len({finding.subject for finding in report.findings if finding.severity == "error"})
    counts = {"tests": str(len(different)), "failures": str(n_failed), "errors": "0", "skipped": "0"}
    top = ET.Element("testsuites", {"name": "kivvet check", **counts})
    suite = ET.SubElement(top, "testsuite", {"name": "kivvet check", **counts})
    for subject in different:
        own = [finding for finding in report.findings if finding.subject == subject]
        case = {"classname": f"kivvet.{subject.kind}", "name": subject.name or "book"}
        errors = [one for one in own if one.severity == "error"]
        if place := next((error.places[0] for error in errors if error.places), None):
            case |= {"file": place.file, **({} if place.line is None else {"line": str(place.line)})}
        element = ET.SubElement(suite, "testcase", case)
        if errors:
            kinds = listed(dict.fromkeys(error.kind for error in errors))
            failure = ET.SubElement(
                element, "failure", {"message": count(len(errors), "error"), "type": kinds}
            )
            failure.text = _in_xml(errors)
        if others := [one for one in own if one.severity != "error"]:
            ET.SubElement(element, "system-out").text = _in_xml(others)
    ET.indent(top)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(top, encoding="unicode")


def _in_xml(found: Iterable[Finding]) -> str:
    """Return findings as text that XML can hold: signs that it cannot are written as they are in code."""
    return "".join(map(_as_sign, "\n".join(map(str, found))))


def _as_sign(sign: str) -> str:
    is_fit = (
        sign in "\t\n\r" or " " <= sign <= "\ud7ff" or "\ue000" <= sign <= "\ufffd" or sign >= "\U00010000"
    )
    return sign if is_fit else repr(sign)[1:-1]
