"""What users can import is all that they meet: names, types of results, and a call for each command."""

from __future__ import annotations

import inspect
import pickle
import re
import typing

import pandas as pd
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

import kivvet
from kivvet.cli.main import _COMMANDS
from tests.strategies import odd_texts, texts

FACES = (kivvet.RuleTable, kivvet.Book, kivvet.Report, kivvet.Applied, kivvet.Look, kivvet.Finding)
FUNCTIONS = [getattr(kivvet, name) for name in kivvet.__all__ if inspect.isfunction(getattr(kivvet, name))]


def public(face):
    return {
        name: value
        for part in reversed(face.__mro__[:-1])
        for name, value in vars(part).items()
        if not name.startswith("_")
    }


def test_dir_shows_the_public_names_and_no_others():
    assert dir(kivvet) == sorted([*kivvet.__all__, "__version__"], key=dir(kivvet).index)
    assert set(dir(kivvet)) == {*kivvet.__all__, "__version__"}
    assert all(getattr(kivvet, name).__name__ == name for name in kivvet.__all__)


def returned(function):
    """The types that a call or a property says it returns, whole, as text."""
    signature = function.fget if isinstance(function, property) else getattr(function, "func", function)
    said = getattr(signature, "__annotations__", {}).get("return", "")
    return set(re.findall(r"[A-Z]\w+", str(said)))


PLAIN = {
    "Any",
    "OnRows",
    "None",
    "Mapping",
    "Path",
    "FrameT",
    "DataFrame",
    "RecordBatchReader",
    "Iterator",
    "Sequence",
    "Callable",
}
WORDS = {
    "Match",
    "Value",
    "Severity",
    "State",
    "ValueType",
    "Method",
}  # texts of a few kinds, and plain values


@pytest.mark.parametrize("face", FACES, ids=lambda face: face.__name__)
def test_what_a_public_call_returns_can_be_imported_from_kivvet(face):
    for name, value in public(face).items():
        if callable(value) or isinstance(value, property) or hasattr(value, "func"):
            assert returned(value) - PLAIN - WORDS <= set(kivvet.__all__), name
            assert "Any" not in returned(value) or name == "as_dict", name


def test_functions_return_public_types():
    for function in FUNCTIONS:
        assert returned(function) - PLAIN <= set(kivvet.__all__), function


def test_every_public_call_is_documented_with_its_errors():
    for face in (kivvet.RuleTable, kivvet.Book):
        assert face.__doc__
        for name, value in public(face).items():
            if inspect.isfunction(value):
                assert value.__doc__, name
                if name not in (
                    "check",
                    "status",
                    "classes",
                    "uses_of_column",
                    "apply_with_report",
                    "unmatched",
                    "overview",
                    "report_as",
                    "watch",
                    "close",
                    "to_markdown",
                ):
                    assert "Raises" in value.__doc__, name


@pytest.mark.parametrize("command", _COMMANDS)
def test_what_a_command_does_a_call_does(command):
    names = {"new": "new_book", "demo": "open_book", "apply": "apply_dataset", "list": "overview"}
    names |= {"import": "import_rules", "serve": "open_book"}  # which is for editors alone
    name = names.get(command, command)
    assert hasattr(kivvet.Book, name) or name in kivvet.__all__


def test_a_table_shows_its_users_what_is_theirs_alone():
    assert set(public(kivvet.RuleTable)) == {
        *(
            "promises",
            "name",
            "title",
            "owner",
            "inputs",
            "outputs",
            "rows",
            "n_rows",
            "match",
            "missing",
            "otherwise",
            "examples",
        ),
        *(
            "drafted",
            "classes",
            "check",
            "compare",
            "same_meaning",
            "simplified",
            "explain",
            "chart",
            "apply",
            "apply_with_report",
            "to_markdown",
        ),
    }


def test_what_is_returned_is_a_value_that_can_be_sent_elsewhere(small_book):
    book = kivvet.open_book(small_book)
    report = book.apply_dataset("samples")
    for value in (
        report,
        book.check(),
        book.status(),
        book.unmatched(),
        book.explain("samples", 1),
        book.look("samples"),
        book.tables,
        book.tables["ph_class"].apply_with_report(pd.DataFrame({"ph": [6.4]})).report,
    ):
        again = pickle.loads(pickle.dumps(value))
        assert again == value or repr(again) == repr(value)
    assert typing.get_type_hints(kivvet.RuleTable.check)["return"] is kivvet.Report


def test_a_book_is_looked_at_drafted_into_and_asked_without_the_command_line(small_book):
    book = kivvet.open_book(small_book)
    assert book.look("samples")["ph"].type == "number"
    assert book.look(small_book / "data" / "samples.csv", ["id"]).rows == 4
    drafted = book.draft("remark", "samples", column="remark")
    assert drafted.table.n_rows == 2 and drafted.files[0].name == "remark.toml"
    again = kivvet.open_book(small_book)
    assert again.extend("remark", "samples").n_added == 0
    assert again.formula("ph * 2", "samples").type == "number"
    assert again.explain("ph_class", {"ph": "6.4"})[0].results == {"ph_class": "acidic"}
    for wrong, says in (
        ({}, "reads columns, or looks up keys"),
        ({"column": "ph", "keep": ["id"]}, "lookups only"),
        ({"key": ["id"], "classes": "ph"}, "no meaning for a lookup"),
    ):
        with pytest.raises(kivvet.DataError, match=says):
            again.draft("other", "samples", **wrong)


def test_a_new_book_is_complete(tmp_path):
    kivvet.new_book(tmp_path / "rules", "Rules")
    assert kivvet.open_book(tmp_path / "rules").check().is_clean
    with pytest.raises(kivvet.BookError, match="holds a book already"):
        kivvet.new_book(tmp_path / "rules")


def test_one_name_stands_for_itself_and_not_for_its_letters(small_book):
    book = kivvet.open_book(small_book)
    assert len(book.refresh("samples")) == len(book.status("samples")) == 1
    assert book.unmatched("samples") == book.unmatched(["samples"])
    assert book.check("ph_class").tables == ("ph_class",)
    assert [one.table for one in book.explain("samples", 1, "station")] == ["station"]
    with pytest.raises(kivvet.TableError) as told:
        book.apply(pd.DataFrame({"ph": [1.0]}), "ph_class")
    assert str(told.value).split("\n")[1].startswith("error syntax: columns is a list")
    with pytest.raises(kivvet.DataError, match="an int is no frame"):
        kivvet.look(5)


@given(st.dictionaries(st.one_of(odd_texts, texts), st.sampled_from("abc"), min_size=1, max_size=8))
def test_a_mapping_of_values_gives_each_value_its_result_whatever_signs_it_holds(mapping):
    table = kivvet.RuleTable("t", {"x": "text"}, {"y": "text"}, mapping, otherwise={"y": "none"})
    keys = [key for key in mapping if key.strip()]
    made = table.apply(pa.table({"x": pa.array([*keys, "no such value"], pa.string())}))["y"].to_pylist()
    assert made == [*(mapping[key] for key in keys), "none"]


def test_a_mapping_of_other_values_takes_them_as_rows_do():
    numbers = kivvet.RuleTable("t", {"x": "integer"}, {"y": "text"}, {1: "one", 2: "two", None: "no value"})
    assert numbers.apply(pa.table({"x": [2, None, 1]}))["y"].to_pylist() == ["two", "no value", "one"]
    with pytest.raises(kivvet.DataError, match="one input and one output"):
        kivvet.RuleTable("t", {"x": "text", "z": "text"}, {"y": "text"}, {"a": "b"})
