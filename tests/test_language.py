"""The command line is one language: a word means one thing in every command, and in Python too."""

from __future__ import annotations

import csv
import inspect
import io
import json
import os
import re
import subprocess
from collections import Counter
from pathlib import Path

import click
import pyarrow as pa
import pytest
from pyarrow import parquet

import kivvet
from kivvet.cli.main import root
from kivvet.cli.options import WORDS
from tests.conftest import write_book

PAGE = Path(__file__).parent.parent / "docs/commands.md"
COMMANDS = {
    name: command
    for name in root.list_commands(click.Context(root))
    if (command := root.get_command(click.Context(root), name)) is not None
}
#: The calls behind each command; those of Python alone are named beside.
CALLS = {
    "add": ["add"],
    "apply": ["apply_dataset", "apply_as_of", "view_sql"],
    "chart": ["chart"],
    "check": ["check", "propose_promises"],
    "compare": ["compare"],
    "draft": ["draft", "extend"],
    "explain": ["explain", "add_example"],
    "formula": ["formula"],
    "history": ["history"],
    "impact": ["impact"],
    "look": ["look"],
    "mend": ["mend"],
    "pack": ["pack"],
    "pin": ["pin"],
    "refresh": ["refresh"],
    "report": ["report"],
    "review": ["review", "mark_reviewed"],
    "shares": ["shares"],
    "show": ["rows"],
    "simplify": ["simplify"],
    "status": ["status"],
    "summary": ["cross_table", "keep_summary"],
    "unmatched": ["unmatched"],
    "watch": ["watch"],
}
#: What only the command line has, since Python has calls, values or methods for it.
OF_COMMANDS = {
    *("book", "format", "json", "csv", "csv_safe", "fail_if", "in_full", "all", "extend", "mark", "save_as"),
    *("as_example", "only_files", "shrink_to", "uses", "no_data"),
    *(
        "apply.to",
        "apply.show_sql",
        "check.propose_promises",
        "chart.to",
        "chart.replace",
        "report.to",
        "report.replace",
        "history.first",
    ),
    *("explain.where", "explain.only", "explain.set"),  # to find the row, or to give its values
}
OF_CALLS = {"on_rows", "data", "stop", "explained"}


def options_of(command):
    return [one for one in command.params if isinstance(one, click.Option) and one.name != "help"]


def test_every_option_is_a_word_of_the_language_with_one_meaning():
    words = {name: word for group in WORDS.values() for name, word in group.items()}
    seen = {}
    for command in COMMANDS.values():
        for one in options_of(command):
            (name,) = one.opts
            assert name in words, f"{command.name} {name}"
            assert one.name == name.removeprefix("--").replace("-", "_")
            assert one.is_flag == (not words[name].metavar), name
            seen.setdefault(name, set()).add((one.is_flag, one.nargs))
    assert set(seen) == set(words)
    assert all(len(ways) == 1 for ways in seen.values())


@pytest.mark.parametrize("name", CALLS)
def test_the_parameters_of_python_have_the_names_of_the_options(name):
    calls = [inspect.signature(getattr(kivvet.Book, call)).parameters for call in CALLS[name]]
    parameters = {one for call in calls for one in call} - {"self"}
    options = {one.name for one in options_of(COMMANDS[name])}
    arguments = {one.name for one in COMMANDS[name].params if isinstance(one, click.Argument)}
    only_here = {one for one in options if one in OF_COMMANDS or f"{name}.{one}" in OF_COMMANDS}
    assert options - only_here <= parameters, options - only_here - parameters
    named = {one for call in calls for one, about in call.items() if about.kind is about.KEYWORD_ONLY}
    assert named - options - arguments <= OF_CALLS, named - options - OF_CALLS


def page():
    """The page of all options, made of what the commands have."""
    lines = [
        "# Commands",
        "",
        "Every command says what it does with `--help`. An option means the same in each command that has it; in Python the",
        "parameter has the same name. `--format` chooses how a result is told: as text or JSON, most also as CSV or Markdown, findings as",
        "SARIF or JUnit; `--json` and `--csv` are short for two of them. In Python results have `as_dict()`, `to_markdown()`, and most",
        "`to_frame()`.",
        "",
        'Names are completed in a shell after `eval "$(_KIVVET_COMPLETE=bash_source kivvet)"` (`zsh_source` for zsh).',
    ]
    for title, words in WORDS.items():
        lines += ["", f"## {title[0].upper()}{title[1:]}", "", "| option | means | of |", "|---|---|---|"]
        for word, about in words.items():
            of = [
                name for name, one in COMMANDS.items() if any(word in each.opts for each in options_of(one))
            ]
            shown = f"{word} {about.metavar}".strip().replace("|", "\\|")
            of_all = "all that read a book" if word == "--book" else ", ".join(of)
            lines.append(f"| `{shown}` | {about.meaning.replace('|', chr(92) + '|')} | {of_all} |")
    return "\n".join(lines) + "\n"


def test_the_page_of_commands_says_what_they_have():
    if os.environ.get("KIVVET_GOLDEN") == "write":
        PAGE.write_text(page(), "utf-8")
    assert PAGE.read_text("utf-8") == page()


TOLD = [
    *(["check"], ["check", "--no-data"], ["unmatched"], ["status"], ["list"], ["history"], ["impact"]),
    *(["look", "samples"], ["show", "samples"], ["summary", "samples", "--by", "ph_class"], ["refresh"]),
    *(["formula", "ph * 2", "--on", "samples"], ["explain", "samples", "--row", "1"], ["apply"]),
    *(["compare", "ph_class"], ["shares", "ph_class", "--on", "samples", "--against", "samples"]),
]


@pytest.mark.parametrize("command", TOLD, ids=" ".join)
def test_every_result_is_told_in_every_form(command, tmp_path, run):
    folder = write_book(tmp_path)
    assert run("apply", cwd=folder).code == 0
    code = run(*command, cwd=folder).code
    said = {form: run(*command, "--format", form, cwd=folder) for form in ("json", "csv", "markdown")}
    assert {ran.code for ran in said.values()} == {code}, said
    assert json.loads(said["json"].out) and json.loads(run(*command, "--json", cwd=folder).out)
    rows = list(csv.reader(io.StringIO(said["csv"].out)))
    assert len({len(row) for row in rows}) <= 1
    assert said["markdown"].out.strip() and "Traceback" not in said["markdown"].out
    for line in said["markdown"].out.splitlines():
        assert line == line.rstrip() and not line.startswith(" ")
    assert run(*command, "--json", "--csv", cwd=folder).code == 2


OF_THE_SURVEY = [
    *(["check"], ["check", "--in-full"], ["unmatched"], ["status"], ["list"], ["history", "--first", "3"]),
    *(
        ["look", "samples"],
        ["look", "data/stations.xlsx"],
        ["show", "samples", "--first", "5"],
        ["show", "load"],
    ),
    ["summary", "samples", "--by", "river", "--across", "quality"],
    ["summary", "samples", "--by", "river", "--value", "SUM(load)", "--value", "MEDIAN(ph) AS middle"],
    *(["formula", "load * 2", "--on", "samples"], ["explain", "samples", "--row", "7"]),
    *(
        ["explain", "quality", "--set", "oxygen=3"],
        ["shares", "quality", "--on", "samples", "--against", "samples"],
    ),
    *(["list", "--uses", "load"], ["compare", "ph_class", "--against", "tables/ph_class.toml"]),
]


def numbers(text):
    """The numbers that a text tells, days, moments, shares and parts of names left out."""
    text = re.sub(r"and [\d,]+ more|\d{4}-\d\d-\d\d(?:[ T]\d\d:\d\d(?::\d\d)?)?|\d[\d,.]* ?%", " ", text)
    text = re.sub(r"[\w./-]*[A-Za-z_][\w./-]*", " ", text)
    return [one.replace(",", "") for one in re.findall(r"(?<![\w.])\d[\d,]*(?:\.\d+)?", text)]


def facts(value):
    """All numbers that values of JSON hold, in texts too, how many each list has, and how often each text stands in them."""
    found, texts = set(), Counter()

    def see(one):
        if isinstance(one, (int, float)) and not isinstance(one, bool):
            found.add(float(one))
        elif isinstance(one, str):
            texts[one] += 1
            found.update(map(float, numbers(one)))
        elif isinstance(one, (dict, list)):
            found.add(float(len(one)))
            for part in [*one, *one.values()] if isinstance(one, dict) else one:
                see(part)

    see(value)
    return found | {float(n) for n in texts.values()}


def is_told_of(text, known):
    """Whether a number is one of those known, in as many digits as it is written in."""
    value, digits = float(text), len(text.partition(".")[2])
    figures = len(text.replace(".", "").lstrip("0"))
    return value in known or any(
        abs(one - value) <= 0.5000001 * 10**-digits
        or (figures >= 5 and abs(one - value) <= 1e-5 * abs(value))
        for one in known
    )


@pytest.mark.parametrize("command", OF_THE_SURVEY, ids=" ".join)
def test_every_number_that_is_told_stands_in_the_json_too(command, river, run):
    known = facts(json.loads(run(*command, "--json", cwd=river).out))
    for form in ("text", "markdown"):
        told = numbers(run(*command, "--format", form, cwd=river).out)
        assert [one for one in told if not is_told_of(one, known)] == []
        assert told or command[0] in ("status", "list", "compare", "show")


#: What a command asks, and the call that asks the same.
ALIKE = [
    (["check"], lambda book: book.check()),
    (["check", "--no-data", "quality"], lambda book: book.check(["quality"], data=False)),
    (["check", "station", "method"], lambda book: book.check(["station", "method"])),
    (["status"], lambda book: book.status()),
    (["status", "samples", "sheets"], lambda book: book.status(["samples", "sheets"])),
    (["unmatched"], lambda book: book.unmatched()),
    (["unmatched", "sheets"], lambda book: book.unmatched(["sheets"])),
    (["look", "samples"], lambda book: book.look("samples")),
    (["look", "samples", "ph", "method"], lambda book: book.look("samples", columns=["ph", "method"])),
    (["list"], lambda book: book.overview()),
    (["list", "--uses", "load"], lambda book: book.uses("load")),
    (["history", "samples"], lambda book: book.history("samples")),
    (["history", "--first", "2"], lambda book: book.history(first=2)),
    (["impact"], lambda book: book.impact()),
    (["impact", "quality", "samples"], lambda book: book.impact(["quality", "samples"])),
    (["explain", "samples", "--row", "7"], lambda book: book.explain("samples", 7)),
    (["explain", "samples", "--row", "7", "--table", "quality"], lambda book: book.explain("samples", 7, ["quality"])),
    (["show", "samples", "--first", "3"], lambda book: book.rows("samples", first=3)),
    (["show", "samples", "--where", "ph < 5", "--columns", "ph,river"], lambda book: book.rows("samples", where="ph < 5", columns=["ph", "river"])),
    (["summary", "samples", "--by", "river", "--across", "quality"], lambda book: book.cross_table("samples", by=["river"], across="quality")),
    (["summary", "samples", "--by", "method", "--value", "AVG(ph) AS mean", "--where", "flow > 9"], lambda book: book.cross_table("samples", by=["method"], value=["AVG(ph) AS mean"], where="flow > 9")),
    (["formula", "load * 2", "--on", "samples"], lambda book: book.formula("load * 2", on="samples")),
    (["shares", "quality", "--on", "samples", "--against", "samples"], lambda book: book.shares("quality", on="samples", against="samples")),
]  # fmt: skip


def plain(result):
    """A result as JSON holds it."""
    values = result.as_dict() if hasattr(result, "as_dict") else [one.as_dict() for one in result]
    return json.loads(json.dumps(values, ensure_ascii=False))


@pytest.mark.parametrize(("command", "call"), ALIKE, ids=[" ".join(command) for command, _ in ALIKE])
def test_a_command_and_a_call_give_the_same(command, call, river, run, monkeypatch):
    monkeypatch.chdir(river)
    printed = json.loads(run(*command, "--json", cwd=river).out)
    given = plain(call(kivvet.open_book(river)))
    if isinstance(given, list):  # where there are several, a command says the version above them
        (printed,) = [value for value in printed.values() if isinstance(value, list)]
    else:  # and of what it was asked, where the call was handed that
        printed = {
            name: value
            for name, value in printed.items()
            if name in given or name not in ("version", "source")
        }
    assert printed == given


def test_commands_that_are_named_in_what_is_told_go_to_the_book_that_was_given(small_book, run, tmp_path):
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()
    given = ["--book", str(small_book)]
    for command in (["status"], ["summary", "samples", "--by", "ph_class"], ["check", "nope"], ["history"]):
        told = run(*command, *given, cwd=elsewhere)
        named = [line for line in (told.out + told.err).splitlines() if "kivvet " in line]
        assert all(f"--book {small_book}" in line for line in named), named
        assert named or command[0] in ("check", "status")
    told = run("status", *given, cwd=elsewhere)
    hint = next(line for line in told.out.splitlines() if "kivvet " in line)
    assert run(*hint[hint.index("kivvet ") :].split()[1:], cwd=elsewhere).code == 0
    assert "--book" not in run("status", cwd=small_book).out


def complete(line, folder, monkeypatch, capsys):
    monkeypatch.chdir(folder)
    words = line.split(" ")
    monkeypatch.setenv("COMP_WORDS", line)
    monkeypatch.setenv("COMP_CWORD", str(len(words) - 1))
    monkeypatch.setenv("_KIVVET_COMPLETE", "bash_complete")
    capsys.readouterr()
    with pytest.raises(SystemExit):
        root.main(args=[], prog_name="kivvet")
    return [one.partition(",")[2] for one in capsys.readouterr().out.split()]


@pytest.mark.parametrize(
    ("line", "found"),
    [
        ("kivvet chec", ["check"]),
        ("kivvet check p", ["ph_class"]),
        ("kivvet apply s", ["samples"]),
        ("kivvet summary sam", ["samples", "sam"]),  # or a file
        ("kivvet show samples --each ph_", ["ph_class"]),
        ("kivvet draft x --on samples --column re", ["remark"]),
        ("kivvet show samples --only ph_class=a", ["ph_class=acidic", "ph_class=alkaline"]),
        ("kivvet chart sta", ["station"]),
        ("kivvet check --fo", ["--format"]),
        ("kivvet check --format j", ["json", "junit"]),
    ],
)
def test_names_of_the_book_are_completed(line, found, small_book, monkeypatch, capsys):
    assert complete(line, small_book, monkeypatch, capsys) == found


def test_where_no_book_is_nothing_is_completed_and_nothing_fails(tmp_path, monkeypatch, capsys):
    assert complete("kivvet check p", tmp_path, monkeypatch, capsys) == []
    (tmp_path / "book.toml").write_text("= broken")
    assert complete("kivvet check p", tmp_path, monkeypatch, capsys) == []


@pytest.mark.parametrize("command", TOLD, ids=" ".join)
def test_what_programs_read_is_printed_by_the_command_alone_as_in_this_process(
    command, tmp_path, run, quick_kivvet
):
    folder = write_book(tmp_path)
    assert run("apply", cwd=folder).code == 0
    for form in ("csv", "markdown", "json"):
        alone = subprocess.run(
            [quick_kivvet / "kivvet", *command, "--format", form],
            capture_output=True,
            text=True,
            cwd=folder,
            check=False,
        )
        here = run(*command, "--format", form, cwd=folder)
        assert alone.returncode == here.code, alone.stderr
        assert without_times(alone.stdout) == without_times(here.out)


def without_times(text):
    return re.sub(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d\.\d+\+00:00)?|\b[0-9a-f]{8}\b", "<time>", text)


def test_options_for_files_of_text_are_refused_for_others(tmp_path, run):
    parquet.write_table(pa.table({"a": ["x", "Total"]}), tmp_path / "d.parquet")
    for said in ("leave_out = \"a = 'Total'\"", "skip_last = 1", 'delimiter = ";"', "skip_blank = true"):
        (tmp_path / "book.toml").write_text(
            f'[datasets.d]\nsource = "d.parquet"\ntarget = "o.csv"\ncolumns = []\n{said}\n'
        )
        ran = run("apply", cwd=tmp_path)
        assert ran.code == 1 and re.search(
            "is for files of text( and workbooks)?, and d.parquet is n", ran.err
        )
