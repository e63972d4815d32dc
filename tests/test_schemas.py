"""The JSON Schemas of a book's files: made of what the readers go by, so neither refuses what the other takes."""

from __future__ import annotations

import datetime as dt
import json
import tomllib
from copy import deepcopy
from pathlib import Path

import jsonschema
import pytest

import kivvet
from kivvet.books.files import dataset, open_book, read_formulas, summaries
from kivvet.core.read import column_reader, fields_read, table_parser
from kivvet.core.read.forms import ANYTHING, by_name
from kivvet.core.run import entries
from tests.conftest import SMALL_BOOK, write_book

ROOT = Path(__file__).parent.parent
VALIDATORS = {one.name: jsonschema.Draft202012Validator(one.values) for one in kivvet.schemas()}
#: Values of every plain kind, empty and not.
ODD = [
    *(True, 0, 1, -1, 2.5, "", " ", "x", "text", dt.date(2024, 1, 1)),
    *([], [1], [True], ["x"], ["x", "x"], [""], [[]], [[1]], [["a"], ["b"]], [{}]),
    *({}, {"x": 1}, {"x": "y"}, {"x": ["y"]}, {"x": {}}, {"ph": "y"}, {"size": 1}, {"column": "x"}),
]


def plain(value):
    """Values of TOML as editors hand them to a schema: days and times are texts."""
    if isinstance(value, dict):
        return {key: plain(one) for key, one in value.items()}
    if isinstance(value, list):
        return [plain(one) for one in value]
    return value.isoformat() if isinstance(value, (dt.date, dt.time)) else value


def is_valid(name, values):
    return VALIDATORS[name].is_valid(plain(values))


TABLE = {"inputs": {"ph": {"type": "number"}}, "outputs": {"band": {"type": "text"}}, "rows": [["< 7", "a"]]}
DATASET = {"source": "x.csv", "target": "y.csv", "columns": [{"table": "a"}, {"indicators": "a"}]}
SUMMARY = {"from": "d", "by": ["river"]}
#: What may be said where: the keywords, a definition that is right, and the path to where they stand in it.
PARTS = {
    "table": ("table", table_parser.TABLE_KEYWORDS, TABLE, ()),
    "input": ("table", column_reader.INPUT_KEYWORDS, TABLE, ("inputs", "ph")),
    "output": ("table", column_reader.OUTPUT_KEYWORDS, TABLE, ("outputs", "band")),
    "formula": ("formulas", read_formulas.FORMULA_KEYWORDS, {"f": {"formula": "x + 1"}}, ("f",)),
    "dataset": ("book", dataset.DATASET_KEYWORDS, {"datasets": {"d": DATASET}}, ("datasets", "d")),
    "entry": ("book", entries.ENTRY_KEYWORDS, {"datasets": {"d": DATASET}}, ("datasets", "d", "columns", 0)),
    "classes": (
        "book",
        entries.CLASS_KEYWORDS,
        {"datasets": {"d": DATASET}},
        ("datasets", "d", "columns", 1),
    ),
    "summary": (
        "book",
        summaries.KEYWORDS,
        {"datasets": {"d": DATASET}, "summaries": {"s": SUMMARY}},
        ("summaries", "s"),
    ),
    "form": (
        "table",
        fields_read._FORM_KEYWORDS,
        {
            "inputs": {"ph": "number"},
            "outputs": {"band": "text"},
            "lookup": "x.csv",
            "types": {"ph": {"type": "number"}},
        },
        ("types", "ph"),
    ),
}


def refused(name, values):
    """The errors that the reader tells of a definition."""
    if name == "table":
        found = table_parser.parse_table("t", values)[1]
    elif name == "formulas":
        found = [
            one for key, given in values.items() for one in read_formulas.parse_named_formula(key, given)[1]
        ]
    else:
        here, nowhere = Path("/nowhere"), lambda _: None
        found = [
            *(one for key, given in values.get("datasets", {}).items() for one in dataset.parse_dataset(key, given, here, nowhere)[1]),
            *(one for key, given in values.get("summaries", {}).items() for one in summaries.parse_summary(key, given, here, nowhere)[1]),
        ]  # fmt: skip
    return [one for one in found if one.severity == "error"]


@pytest.mark.parametrize("part", PARTS)
def test_what_a_schema_refuses_the_reader_refuses_and_both_know_what_a_keyword_may_hold(part):
    name, keywords, right, path = PARTS[part]
    assert is_valid(name, right) and (part == "form" or not refused(name, right))
    for word, form in keywords.items():
        both = 0
        for value in ODD:
            values = deepcopy(right)
            at = values
            for step in path:
                at = at[step]
            at[word] = deepcopy(value)
            if not is_valid(name, values):
                assert refused(name, values), f"the reader takes {word} = {value!r}"
                both += 1
        assert both or form.schema == ANYTHING.schema, word
    values = deepcopy(right)
    at = values
    for step in path:
        at = at[step]
    at["nonsense"] = "x"
    assert not is_valid(name, values) and refused(name, values)


def definitions(folder):
    """The TOML files of a book by the schemas they are of."""
    for name, paths in {
        "book": [folder / "book.toml"],
        "formulas": folder.glob("formulas.toml"),
        "table": folder.glob("tables/*.toml"),
    }.items():
        for path in paths:
            yield name, path, tomllib.loads(path.read_text(encoding="utf-8"))


def test_every_book_that_ships_validates(river, survey):
    books = {one.parent for below in ("examples", "src") for one in (ROOT / below).rglob("book.toml")}
    seen = [
        (name, path)
        for folder in (river, survey, *books)
        for name, path, values in definitions(folder)
        if VALIDATORS[name].validate(plain(values)) is None
    ]
    assert len(seen) > 40 and {name for name, _ in seen} == {"book", "formulas", "table"}


FAULTS = {
    "a keyword that is none": ("tables/ph_class.toml", "inputs", 'inptus.x = "text"\ninputs'),
    "no outputs": ("tables/ph_class.toml", "outputs.ph_class", "inputs.ph_class"),
    "a type that is none": ("tables/ph_class.toml", '"number"', '"numbr"'),
    "a number for a list": ("tables/ph_class.toml", "rows = [", "given = 1\nrows = ["),
    "a way to match that is none": ("tables/ph_class.toml", "rows = [", 'match = "last"\nrows = ['),
    "a kind of finding that is none": ("book.toml", "[datasets", '[severity]\ngaps = "error"\n[datasets'),
    "a source that is no text": ("book.toml", "source  =", "source = 1  #"),
}


@pytest.mark.parametrize("fault", FAULTS)
def test_a_faulty_book_validates_no_more_and_is_refused(fault, tmp_path, run):
    folder = write_book(tmp_path)
    file, old, new = FAULTS[fault]
    text = (folder / file).read_text(encoding="utf-8")
    (folder / file).write_text(text.replace(old, new, 1), encoding="utf-8")
    wrong = [path for name, path, values in definitions(folder) if not is_valid(name, values)]
    assert wrong == [folder / file]
    ran = run("check", "--no-data", cwd=folder)
    assert ran.code and file in ran.all


def test_pins_and_the_history_of_a_team_validate(tmp_path, run):
    write_book(tmp_path / "common")
    more = 'history = "history"\n[uses]\ncommon = "../common"\n'
    text = SMALL_BOOK["book.toml"].replace("[datasets", more + "[datasets", 1)
    folder = write_book(tmp_path / "own", {"book.toml": text})
    for command in (["pin"], ["apply"], ["refresh"]):
        ran = run(*command, cwd=folder)
        assert ran.code == 0, ran.all
    pins = json.loads((folder / "pins.json").read_text(encoding="utf-8"))
    assert pins["books"] and VALIDATORS["pins"].validate(pins) is None
    runs = [json.loads(one.read_text()) for one in (folder / "history").glob("*.json")]
    assert runs
    for one in runs:
        VALIDATORS["run"].validate(one)
        assert not is_valid("run", {**one, "record": {**one["record"], "rows": -1}})


def test_the_command_prints_one_lists_all_and_writes_them_into_a_folder(tmp_path, run):
    assert json.loads(run("schema", "table", cwd=tmp_path).out) == kivvet.schema("table").values
    told = run("schema", "--to", tmp_path / "s", cwd=tmp_path)
    written = sorted(one.name for one in (tmp_path / "s").iterdir())
    assert told.code == 0 and written == sorted(one.file_name for one in kivvet.schemas())
    for one in kivvet.schemas():
        assert json.loads((tmp_path / "s" / one.file_name).read_text("utf-8")) == one.values
        jsonschema.Draft202012Validator.check_schema(one.values)
    assert [line.split()[0] for line in run("schema", cwd=tmp_path).out.splitlines()] == list(VALIDATORS)
    assert [one["name"] for one in json.loads(run("schema", "--json", cwd=tmp_path).out)["schemas"]] == list(
        VALIDATORS
    )
    wrong = run("schema", "tabel", cwd=tmp_path)
    assert wrong.code == 2 and "did you mean 'table'?" in wrong.err
    (tmp_path / "file").write_text("")
    assert run("schema", "--to", tmp_path / "file", cwd=tmp_path).code == 2
    assert run("schema", "--to", "/proc/nothing", cwd=tmp_path).code == 2


def test_every_keyword_says_what_it_is_for():
    for name, keywords, *_ in PARTS.values():
        assert all(form.words for form in keywords.values()), name
    assert all(form.words for form in open_book.BOOK_KEYWORDS.values())
    assert by_name(ANYTHING).says("x").described()["description"] == "x"
