"""What a command writes and what the call writes are the same files, to the last sign; and a command that only shows writes none."""

from __future__ import annotations

import re
import shutil

import pyarrow.parquet as pq
import pytest
from python_calamine import CalamineWorkbook

import kivvet
from tests.conftest import kivvet as run

#: What a command asks to be written, and the call that asks the same.
WRITING = {
    "draft a mapping": (
        ["draft", "m", "--on", "samples", "--column", "method"],
        lambda book: book.draft("m", "samples", column="method"),
    ),
    "draft bins": (
        ["draft", "b", "--on", "samples", "--column", "ph", "--propose", "natural", "--bins", "4", "--results", "a,b,c,d"],
        lambda book: book.draft("b", "samples", column="ph", propose="natural", bins=4, results=["a", "b", "c", "d"]),
    ),
    "draft bins of counts": (
        ["draft", "b", "--on", "samples", "--column", "load", "--propose", "counts", "--bins", "5"],
        lambda book: book.draft("b", "samples", column="load", propose="counts", bins=5),
    ),
    "draft with bounds": (
        ["draft", "b", "--on", "samples", "--column", "temperature", "--bounds", "8,16", "--results", "cold,mild,warm"],
        lambda book: book.draft("b", "samples", column="temperature", bounds=["8", "16"], results=["cold", "mild", "warm"]),
    ),
    "draft a grid": (
        ["draft", "g", "--on", "samples", "--column", "ph", "--column", "oxygen", "--bins", "3"],
        lambda book: book.draft("g", "samples", column=["ph", "oxygen"], bins=3),
    ),
    "draft from classes": (
        ["draft", "c", "--on", "samples", "--column", "ph", "--classes", "ph_class"],
        lambda book: book.draft("c", "samples", column="ph", classes="ph_class"),
    ),
    "draft rows in a file": (
        ["draft", "m", "--on", "samples", "--column", "habitat", "--rows-file"],
        lambda book: book.draft("m", "samples", column="habitat", rows_file=True),
    ),
    "draft a lookup": (
        ["draft", "s", "--on", "data/samples.csv", "--key", "sample_id", "--keep", "station", "--copy"],
        lambda book: book.draft("s", "data/samples.csv", key="sample_id", keep="station", copy=True),
    ),
    "extend": (
        ["draft", "yes_no", "--extend", "--on", "sheets"],
        lambda book: book.extend("yes_no", "sheets"),
    ),
    "add a file": (
        ["add", "more", "data/loggers/2026-04.csv", "--apply", "flow_class", "--to", "out/more.csv"],
        lambda book: book.add("more", "data/loggers/2026-04.csv", apply="flow_class", to="out/more.csv"),
    ),
    "add a place in a database": (
        ["add", "there", "survey:samples", "--apply", "method"],
        lambda book: book.add("there", "survey:samples", apply=["method"]),
    ),
    "keep a summary": (
        ["summary", "samples", "--by", "river", "--value", "AVG(ph) AS mean", "--save-as", "by_r"],
        lambda book: book.keep_summary("by_r", "samples", by=["river"], value=["AVG(ph) AS mean"]),
    ),
    "keep an example": (
        ["explain", "samples", "--row", "812", "--table", "quality", "--as-example", "--note", "a warm day"],
        lambda book: book.add_example(book.explain("samples", 812, ["quality"])[0], "a warm day"),
    ),
    "simplify": (
        ["simplify", "method", "--write"],
        lambda book: book.simplify("method", write=True),
    ),
    "take rules over": (
        ["adopt", "data/lab.sql", "--on", "samples", "--name", "lab_band", "--write"],
        lambda book: book.adopt("data/lab.sql", on="samples", name="lab_band", write=True),
    ),
    "mark as reviewed": (
        ["review", "quality", "--mark", "--reviewer", "Ida", "--note", "limits of 2027"],
        lambda book: book.mark_reviewed("quality", reviewer="Ida", note="limits of 2027"),
    ),
    "apply": (
        ["apply", "samples", "--replace-edited"],
        lambda book: book.apply_dataset("samples", replace_edited=True),
    ),
    "apply text": (
        ["apply", "top_loads"],
        lambda book: book.apply_dataset("top_loads"),
    ),
    "refresh": (
        ["refresh"],
        lambda book: book.refresh(),
    ),
    "rules as a workbook": (
        ["export", "rules.xlsx", "quality", "method", "--replace"],
        lambda book: book.export(["quality", "method"]).save("rules.xlsx", replace=True),
    ),
    "a table as SQL": (
        ["export", "quality.sql", "quality"],
        None,
    ),
}  # fmt: skip
#: What is asked only: nothing of the book changes.
SHOWING = [
    *(["check"], ["status"], ["unmatched"], ["list"], ["history"], ["impact"], ["look", "samples"], ["show", "samples"]),
    *(["mend", "quality"], ["simplify", "method"], ["compare", "quality", "--against", "tables/quality.toml"], ["review", "quality"]),
    *(["adopt", "data/lab.sql", "--name", "lab_band"], ["formula", "load * 2", "--on", "samples"], ["refresh", "--dry-run"]),
    *(["summary", "samples", "--by", "river"], ["explain", "samples", "--row", "3"], ["check", "--propose-promises", "quality"]),
]  # fmt: skip


def files_of(folder):
    """All files of a book, but what is remembered of runs."""
    paths = ((path.relative_to(folder).as_posix(), path) for path in folder.rglob("*") if path.is_file())
    return {name: path for name, path in sorted(paths) if not name.startswith(".kivvet/")}


def differing(one, other):
    """The files that are not there in both, or hold something else, but for moments."""
    first, second = files_of(one), files_of(other)
    odd = set(first) ^ set(second)
    for name in set(first) & set(second):
        if first[name].read_bytes() != second[name].read_bytes() and settled(first[name]) != settled(
            second[name]
        ):
            odd.add(name)
    return odd


def settled(path):
    if path.suffix == ".parquet":
        table = pq.read_table(path)
        return [(name, table[name].to_pylist()) for name in table.column_names]
    if path.suffix == ".xlsx":
        book = CalamineWorkbook.from_path(str(path))
        return [(name, book.get_sheet_by_name(name).to_python()) for name in book.sheet_names]
    if path.suffix == ".db":
        return "a database"
    text = path.read_bytes().decode("utf-8", "replace")
    text = re.sub(r"\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:\.\d+)?)?(?:\+00:00)?)?", "<moment>", text)
    return re.sub(r'"source_marks": \[[^\]]*\]|"is_settled": \w+|[0-9a-f]{32,}', "<mark>", text)


def copied(folder, to):
    shutil.copytree(folder, to)
    return to


@pytest.mark.parametrize("what", [name for name, (_, call) in WRITING.items() if call is not None])
def test_a_command_and_a_call_write_the_same_files(changed, tmp_path, monkeypatch, what):
    command, call = WRITING[what]
    one, other = copied(changed, tmp_path / "one/river"), copied(changed, tmp_path / "other/river")
    ran = run(*command, cwd=one)
    assert ran.code == 0, ran.all
    monkeypatch.chdir(other)
    call(kivvet.open_book(other))
    assert differing(one, other) == set()
    assert differing(one, changed) or what in ("apply", "rules as a workbook"), "nothing was written"


@pytest.mark.parametrize("command", SHOWING, ids=" ".join)
def test_what_only_shows_writes_nothing(changed, command):
    before = {name: path.stat().st_mtime_ns for name, path in files_of(changed).items()}
    ran = run(*command, cwd=changed)
    assert ran.code in (0, 1), ran.all
    assert {name: path.stat().st_mtime_ns for name, path in files_of(changed).items()} == before
