"""A name is a name: whatever signs are in it, commands tell the same of it, and what they propose to type can be typed."""

from __future__ import annotations

import json
import re
import shlex
import shutil
import subprocess

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kivvet.core.words.wording import shell_word
from kivvet.io.patterns import files_of
from tests.conftest import kivvet as run
from tests.conftest import some

SIGNS = [
    *("two words", "Größe", "日本", "a'b", 'say "x"', "x.y", "50%", "a|b", "a;b", "a,b", "$HOME", "`id`", "!x", "a\\b"),
    *("#hash", "(a)", "[a]", "{a}", "a:b", "~", "&", "<b>", "e\u0301", "\U0001f30a"),
]  # fmt: skip
#: Signs and words of conditions, formulas and options, and what reads as a number.
WORDS = [
    "*",
    "?",
    "to",
    "any",
    "missing",
    "not",
    "rows",
    "null",
    "SELECT",
    "otherwise",
    "0",
    "007",
    "1e3",
    "true",
]
PLAIN = "plain"
#: What is asked of a book in which a dataset, its file, its column, a table, its class, a formula and an output have that name.
ASKED = {
    "check": ["check"],
    "list": ["list"],
    "look": ["look", "NAME"],
    "apply": ["apply", "NAME"],
    "status": ["status"],
    "history": ["history", "NAME"],
    "show": ["show", "NAME"],
    "show rows": ["show", "NAME", "--where", '"QUOTED" > 5'],
    "unmatched": ["unmatched", "NAME"],
    "explain a row": ["explain", "NAME", "--row", "1"],
    "explain a value": ["explain", "NAME", "--set", "NAME=7", "--table", "NAME"],
    "summary": ["summary", "NAME", "--by", '"QUOTED class"', "--value", 'SUM("QUOTED") AS total'],
    "mend": ["mend", "NAME"],
    "simplify": ["simplify", "NAME"],
    "review": ["review", "NAME"],
    "compare": ["compare", "NAME", "--against", "tables/NAME.toml"],
    "impact": ["impact", "NAME"],
    "formula": ["formula", '"QUOTED" + 1', "--on", "NAME"],
    "refresh": ["refresh", "NAME"],
    "draft": ["draft", "fresh", "--on", "NAME", "--column", "NAME", "--bins", "2"],
    "export": ["export", "made.xlsx", "NAME"],
    "sql": ["export", "made.sql", "NAME"],
    "chart": ["chart", "NAME", "--on", "NAME", "--to", "made.png"],
    "report": ["report", "--to", "made.html"],
}
_NO_JSON = ("draft", "sql", "report")


def text(value):
    return json.dumps(value, ensure_ascii=False)


def book_of(folder, name):
    quoted = '"' + name.replace('"', '""') + '"'
    files = {
        f"data/{name}.csv": f"{quoted},other\n1,u\n7,v\n,w\n12,x\n",
        f"tables/{name}.toml": f"""\
inputs.{text(name)} = "number"
outputs.{text(name + " class")} = "text"
rows = [["< 5", {text(name)}], [">= 6", "high"]]
severity.gap = "warning"
""",
        "formulas.toml": f"{text(name + ' twice')} = {text(quoted + ' * 2')}\n",
        "book.toml": f"""\
title = "Names"

[datasets.{text(name)}]
source  = {text(f"data/{name}.csv")}
target  = {text(f"out/{name}.parquet")}
types   = {{ {text(name)} = "number" }}
columns = [{text(name)}, {text(name + " twice")}]
""",
    }
    for path, content in files.items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_text(content, encoding="utf-8")
    return folder


def asked(what, name):
    return [word.replace("QUOTED", name.replace('"', '""')).replace("NAME", name) for word in ASKED[what]]


def settled(value, name):
    """What was told, with the plain name in the place of the odd one, and without what says when and of which bytes."""
    if isinstance(value, dict):
        moments = (
            "source",
            "hash",
            "when",
            "at",
            "seconds",
            "id",
            "run",
            "marks",
            "bytes",
            "last_change",
            "of",
        )
        is_told = {
            key: not (key in moments or (key == "column" and isinstance(one, int)))
            for key, one in value.items()
        }
        return {settled(key, name): settled(one, name) for key, one in value.items() if is_told[key]}
    if isinstance(value, list):
        return [settled(one, name) for one in value]
    if not isinstance(value, str):
        return value
    for form in (name, name.replace('"', '""'), name.replace("'", "''"), text(name)[1:-1]):
        value = value.replace(form, PLAIN)
    value = re.sub(r"""['"]+(plain(?: class| twice)?)['"]+""", r"\1", value)
    return re.sub(r"[0-9a-f]{16,}|\d{4}-\d\d-\d\d[T ][\d:.+]+( UTC)?", "<mark>", value)


def told(folder, name):
    """What commands tell as JSON, in order, each of the book as those before left it."""
    made = {}
    for what in ASKED:
        form = () if what in _NO_JSON else ("--json",)
        ran = run(*asked(what, name), *form, cwd=folder)
        assert ran.code in (0, 1), (what, ran.all)
        if form:
            made[what] = settled(json.loads(ran.out), name)
    for drawn in (
        "name",
        "notes",
    ):  # a name for a file, of letters that any system takes; and which signs the fonts have
        made["chart"].pop(drawn)
    return made


def differing(one, other, where=""):
    """Yield the places where two forms of JSON differ, with what stands there."""
    if isinstance(one, dict) and isinstance(other, dict) and one.keys() == other.keys():
        for key in one:
            yield from differing(one[key], other[key], f"{where}.{key}")
    elif isinstance(one, list) and isinstance(other, list) and len(one) == len(other):
        for at, (mine, its) in enumerate(zip(one, other, strict=True)):
            yield from differing(mine, its, f"{where}[{at}]")
    elif one != other:
        yield where, one, other


@pytest.fixture(scope="module")
def plainly(tmp_path_factory):
    return told(book_of(tmp_path_factory.mktemp("plain"), PLAIN), PLAIN)


@pytest.mark.parametrize("name", some(SIGNS))
def test_what_is_told_does_not_depend_on_names(tmp_path, plainly, name):
    for what, values in told(book_of(tmp_path, name), name).items():
        assert list(differing(values, plainly[what])) == [], what


def proposed(printed):
    """The commands that a text proposes, as a shell takes them apart; those with a word to fill in are left out."""
    printed = printed.replace("# read by: kivvet shares", "")
    for match in re.finditer(r"""kivvet [a-z]+(?: (?:"[^"\n]*"|'[^'\n]*'|[^\s"'();,]|,(?!\s))+)*""", printed):
        words = shlex.split(match[0])
        if not {"SOURCE", "NAME", "TABLE", "COLUMN", "DATASET", "..."}.intersection(words):
            yield words[1:]


@pytest.mark.parametrize("name", some([*SIGNS, *WORDS]))
def test_what_is_proposed_to_be_typed_can_be_typed(tmp_path, name):
    folder = book_of(tmp_path, name)
    seen = []
    for what in ASKED:
        ran = run(*asked(what, name), cwd=folder)
        assert ran.code in (0, 1), (what, ran.all)
        seen += [words for words in proposed(ran.all) if words not in seen]
    assert ["review", name, "--mark"] in seen and len(seen) > 3
    for words in seen:
        again = run(*words, cwd=folder)
        assert again.code in (0, 1) and "Usage" not in again.all, (words, again.all)


@given(st.text(st.characters(exclude_characters="\0", exclude_categories=["Cs"]), min_size=1))
def test_a_word_of_a_shell_is_taken_apart_as_itself(text):
    assert shlex.split(shell_word(text)) == [text]


def test_a_real_shell_takes_words_as_they_are_meant(tmp_path):
    signs = [
        *SIGNS,
        *WORDS,
        "a\tb",
        " x ",
        "$(id)",
        "a\\$b",
        "'",
        '"',
        "''\"\"",
        "\\",
        "a!b",
        "-x",
        "x>y",
        "a&&b",
    ]
    line = " ".join(map(shell_word, signs))
    for shell in ("sh", "bash"):
        if shutil.which(shell) is not None:
            told = subprocess.run(
                [shell, "-c", f'printf "%s\\0" {line}'], cwd=tmp_path, capture_output=True, check=True
            )
            assert told.stdout.decode().split("\0")[:-1] == signs


@pytest.mark.parametrize("name", ["[a].csv", "*.csv", "?.csv", "x[1-3].csv", "{a,b}.csv"])
def test_a_file_is_read_as_itself_whatever_signs_are_in_its_name(tmp_path, name):
    for file in (name, "a.csv", "x1.csv", "x2.csv"):
        (tmp_path / file).write_text(f"x\n{len(file)}\n")
    assert files_of(tmp_path, name) == [tmp_path / name]
    (tmp_path / name).unlink()
    assert tmp_path / name not in files_of(tmp_path, name) or "{" in name
