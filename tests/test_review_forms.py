"""Findings as other programs read them: valid forms, in place, and changes that cure what they stand with."""

from __future__ import annotations

import json
from urllib.parse import unquote
from xml.etree import ElementTree as ET

import pytest

import kivvet
from tests.conftest import CASES, write_book

jsonschema = pytest.importorskip("jsonschema")
SCHEMA = json.loads((CASES / "sarif-2.1.0-parts.schema.json").read_text())

FAULTY = """\
inputs.oxygen = { type = "number", step = 0.1, domain = ">= 0" }
inputs.method = "text"
outputs.verdict = "text"
match = "first"
rows = [
  ["oxygen", "method", "verdict"],
  ["< 4",    "",       "poor"],
  ["< 3",    "kit",    "poor"],   # never
  ["5 to 3", "",       "none"],
  [">= 5",   "",       "good"] ]
"""
BESIDE = 'inputs.x = "number"\noutputs.y = "text"\nrows = "rows in a file.csv"\n'


@pytest.fixture
def folder(tmp_path):
    return write_book(
        tmp_path / "b",
        {
            "tables/verdict.toml": FAULTY,
            "tables/beside.toml": BESIDE,
            "tables/rows in a file.csv": "x,y\r\n< 4,a\r\n> 4,b\r\n1,a",
            "formulas.toml": "double = 'ph * '\n",
        },
    )


def sarif(run, folder, *arguments):
    ran = run("check", *arguments, "--format", "sarif", cwd=folder)
    made = json.loads(ran.out)
    jsonschema.Draft202012Validator(SCHEMA).validate(made)
    return ran.code, made["runs"][0]


def test_each_finding_is_a_result_in_its_place(folder, run):
    code, made = sarif(run, folder)
    report = json.loads(run("check", "--json", cwd=folder).out)
    assert code == 1 and len(made["results"]) == len(report["findings"])
    for result, found in zip(made["results"], report["findings"], strict=True):
        assert made["tool"]["driver"]["rules"][result["ruleIndex"]]["id"] == result["ruleId"] == found["kind"]
        assert result["level"] == found["severity"] and result["message"]["text"].startswith(found["message"])
        physical = result["locations"][0]["physicalLocation"]
        file = folder / unquote(physical["artifactLocation"]["uri"])
        assert file.is_file()
        if found["places"] and found["places"][0]["line"] is not None:
            assert physical["region"]["startLine"] == found["places"][0]["line"]
    prints = [one["partialFingerprints"]["finding/v1"] for one in made["results"]]
    assert len(set(prints)) == len(prints)


def lines_of(folder, change):
    file = folder / unquote(change["artifactLocation"]["uri"])
    lines = file.read_bytes().decode().splitlines(keepends=True)
    for one in reversed(change["replacements"]):
        region = one["deletedRegion"]
        start, end = region["startLine"] - 1, region["endLine"] - 1
        lines[start:end] = [one.get("insertedContent", {"text": ""})["text"]]
    return file, "".join(lines).encode()


def test_a_suggested_change_cures_what_it_stands_with(folder, run):
    fixed = set()
    for result in sarif(run, folder, "--no-data")[1]["results"]:
        for fix in result.get("fixes", ()):
            (change,) = fix["artifactChanges"]
            file, changed = lines_of(folder, change)
            before = file.read_bytes()
            file.write_bytes(changed)
            after = sarif(run, folder, "--no-data")[1]["results"]
            keys = [one["partialFingerprints"]["finding/v1"] for one in after]
            assert result["partialFingerprints"]["finding/v1"] not in keys
            assert {one["ruleId"] for one in after} <= {"shadowed", "impossible", "gap", "unfinished", "syntax", "overlap", "duplicate", "open", "unmatched", "missing-input"}  # fmt: skip
            assert b"# never" in changed or result["ruleId"] == "shadowed" or file.suffix == ".csv"
            fixed.add((result["ruleId"], file.name))
            file.write_bytes(before)
    assert fixed >= {
        ("shadowed", "verdict.toml"),
        ("impossible", "verdict.toml"),
        ("gap", "verdict.toml"),
        ("gap", "rows in a file.csv"),
        ("duplicate", "rows in a file.csv"),
    }


def test_test_results_have_a_case_for_each_table_formula_and_dataset(folder, run):
    ran = run("check", "--format", "junit", cwd=folder)
    top = ET.fromstring(ran.out)
    cases = {(one.get("classname"), one.get("name")): one for one in top.iter("testcase")}
    assert int(top.get("tests")) == len(cases)
    failed = {name for name, one in cases.items() if one.find("failure") is not None}
    assert int(top.get("failures")) == len(failed) and ran.code == 1
    assert ("kivvet.table", "verdict") in failed and ("kivvet.formula", "double") in failed
    assert ("kivvet.table", "ph_class") in cases and ("kivvet.table", "ph_class") not in failed
    failure = cases["kivvet.table", "verdict"].find("failure")
    assert failure.get("message") == "2 errors" or "error" in failure.get("message")
    assert "impossible" in failure.get("type") and "no value meets" in failure.text
    assert cases["kivvet.table", "verdict"].get("file") == "tables/verdict.toml"


def test_signs_that_xml_cannot_hold_are_written_out(tmp_path, run):
    table = 'inputs.x = "text"\noutputs.y = "text"\nmatch = "first"\nrows = [["a\\u0001b", "p"], ["a\\u0001b", "q"]]\n'
    folder = write_book(tmp_path / "b", {"tables/odd.toml": table})
    top = ET.fromstring(run("check", "odd", "--no-data", "--format", "junit", cwd=folder).out)
    assert "a\\x01b" in "".join(top.itertext())


def test_one_form_at_a_time_and_the_same_in_python(folder, run):
    assert run("check", "--json", "--format", "junit", cwd=folder).code == 2
    assert run("check", "--format", "json", cwd=folder).out == run("check", "--json", cwd=folder).out
    assert run("check", "--format", "text", cwd=folder).out == run("check", cwd=folder).out
    book = kivvet.open_book(folder)
    assert json.loads(book.report_as(book.check(), "sarif"))["version"] == "2.1.0"
