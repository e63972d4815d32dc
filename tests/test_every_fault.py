"""A fault in any line of any file of the survey is told with that file and that line, alone, and says what was expected."""

from __future__ import annotations

import re
import shutil

import pytest

import kivvet
from kivvet.editor.session import Session
from tests.conftest import some

FILES = ["book.toml", "formulas.toml", *(f"tables/{name}.toml" for name in (
    "basin", "burden", "exceedance", "flow_class", "habitat_group", "load_tenth", "method", "month", "nitrate_band", "nitrate_limit",
    "oxygen_status", "ph_class", "quality", "season", "station", "visit", "yes_no",
))]  # fmt: skip
_KEYWORDS = "inputs|outputs|match|rows|lookup|missing|otherwise|promises|examples|source|target|types|columns|where|from|by|values"
#: By name: which lines can have it, and what it makes of one; what lines above say decides too, where a third part is given.
FAULTS = {
    "a keyword misspelled": (rf"^({_KEYWORDS})\b", r"\1x"),
    "a keyword with another's name": (r"^(rows|lookup) +=", r"row_s ="),
    "a type that is none": (r'(\btype = "|^(?:in|out)puts\.\w+ += ")(number|integer|text|date|boolean)"', r'\1numbr"'),
    "a type that is a number": (r'\btype = "(number|integer|text|date|boolean)"', "type = 5"),
    "a text that does not end": (r'^(\w[\w.]* += ")([^"\n]*)"$', r"\1\2"),
    "a bracket that does not close": (r"^\[([\w.]+)\]$", r"[\1"),
    "a bracket too many": (r"^\[([\w.]+)\]$", r"[\1]]"),
    "a title twice": (r"^((title|owner) += .*)$", r"\1\n\1"),
    "a step below nothing": (r"\bstep = [\d.]+", "step = -0.1"),
    "a step that is a text": (r"\bstep = ([\d.]+)", r'step = "\1 or so"'),
    "a domain that ends before it begins": (r'(\{.*)\bdomain = "[^"]*[<>\d][^"]*"', r'\1domain = "9 to 2"'),
    "a domain that is none": (r'(\{.*)\bdomain = "[^"]*[<>\d][^"]*"', r'\1domain = "from here to there"'),
    "bounds that cross": (r'^  \["[\d.]+ to <?[\d.]+",', '  ["9 to 2",'),
    "a bound that is no number": (r'^  \["[<>]=? ?[\d.]+",', '  ["< much",'),
    "a sign without a bound": (r'^  \["[<>]=? ?[\d.]+",', '  [">=",'),
    "a row of a cell too many": (r'^(  \[".*")\],', r'\1, "x", "y"],'),
    "a match that is none": (r'^match += ".*"', 'match = "last"'),
    "a keyword of nobody": (r'^(title += .*)$', r"\1\ncolour = 'blue'"),
}  # fmt: skip
_UNLIKE_THEMSELVES = ("a title twice", "a keyword of nobody")  # they stand in a line more


def is_fit(lines, n, name):
    """Whether a fault is one where it stands: rows of examples and of texts may say what rows of numbers may not."""
    above = next((line for line in reversed(lines[: n + 1]) if re.match(r"[\w.\[]", line)), "")
    if lines[n].startswith("  ["):
        return (above.startswith("rows") and "a row" in name) or (
            above.startswith("rows") and "bound" in name
        )
    return True


def cases(folder, file, name):
    """Yield the number of a line, and the text of a file that has a fault there."""
    pattern, made = FAULTS[name]
    lines = (folder / file).read_text(encoding="utf-8").split("\n")
    for n, line in enumerate(lines):
        faulty = re.sub(pattern, made, line, count=1)
        if faulty != line and is_fit(lines, n, name):
            yield n + 1, "\n".join([*lines[:n], faulty, *lines[n + 1 :]])


@pytest.fixture(scope="module")
def survey(river, tmp_path_factory):
    folder = tmp_path_factory.mktemp("faults") / "river"
    shutil.copytree(river, folder)
    return folder


def told(folder):
    """What is wrong with a book, of the rules alone: the errors, and where each of them is."""
    try:
        findings = list(kivvet.open_book(folder).check(data=False))
    except kivvet.BookError as error:
        return [(str(error), [error.place] if error.place is not None else [])]
    return [(str(one), list(one.places)) for one in findings if one.severity == "error"]


@pytest.mark.parametrize("name", FAULTS)
def test_a_fault_is_told_where_it_is(survey, name):
    n_cases, wrong = 0, []
    assert told(survey) == []
    for file in FILES:
        path = survey / file
        kept = path.read_bytes()
        for line, text in some(list(cases(survey, file, name)), 4):
            n_cases += 1
            path.write_text(text, encoding="utf-8")
            found = told(survey)
            path.write_bytes(kept)
            lines = {place.line for _, places in found for place in places if place.file.endswith(file)}
            if not lines & {line, line + 1}:
                wrong.append((file, line, text.split("\n")[line - 1], found))
    assert n_cases, "no line can have it"
    assert wrong == []


def messages(folder):
    """What the check of a saved book tells, as far as it is about a file that is open."""
    return {(one.kind, one.severity, one.message) for one in kivvet.open_book(folder).check(data=False)}


@pytest.mark.parametrize(
    "name", some([one for one in FAULTS if "bracket" not in one and "does not end" not in one])
)
def test_an_editor_tells_of_a_text_what_the_check_tells_of_the_file(survey, name):
    folder = survey.resolve()
    session, n_cases = Session(), 0
    try:
        for file in FILES:
            path = folder / file
            kept = path.read_bytes()
            for _, text in list(cases(folder, file, name))[:1]:
                n_cases += 1
                session.texts.put(path, text)
                typed = [one for each in session.diagnose(folder).values() for one in each if not one.is_past]
                session.texts.put(path, kept.decode())
                path.write_text(text, encoding="utf-8")
                saved = messages(folder)
                path.write_bytes(kept)
                assert {(one.finding.kind, one.severity, one.finding.message) for one in typed} == saved, file
        assert n_cases
        told_again = [one for each in session.diagnose(folder).values() for one in each]
        assert {one.finding.message for one in told_again} == {message for _, _, message in messages(folder)}
    finally:
        session.texts.clear()
