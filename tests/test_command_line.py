"""The command line as its users meet it: a process, what it prints, what it ends with."""

import json
import os
import pty
import subprocess
import sys

import pytest

import kivvet as library
from tests.conftest import golden, kivvet, write_book


def test_the_whole_story_of_the_demo(tmp_path):
    ran = kivvet("demo", "river-survey", cwd=tmp_path)
    golden("demo.txt", ran.out)
    assert (ran.code, ran.err) == (0, "")
    assert library.open_book(tmp_path / "river-survey").status()[0].state == "current"
    assert kivvet("demo", "river-survey", cwd=tmp_path).code == 2


def test_the_steps_of_the_demo_by_hand(survey):
    check = kivvet("check", cwd=survey)
    golden("survey_check.txt", check.out)
    assert check.code == 1
    before = sorted(path.name for path in survey.rglob("*"))
    refused = kivvet("apply", cwd=survey)
    assert (refused.code, refused.out) == (1, "")
    assert refused.err.rstrip().endswith("nothing was written")
    assert [name for name in sorted(path.name for path in survey.rglob("*")) if name not in before] == []


def test_help_teaches_with_examples(tmp_path):
    assert "kivvet demo" in kivvet("--help", cwd=tmp_path).out
    for command in ("new", "demo", "check", "apply", "status", "refresh"):
        ran = kivvet(command, "--help", cwd=tmp_path)
        assert ran.code == 0
        assert f"kivvet {command}" in ran.out.split("Options:")[0]
    assert kivvet("--version", cwd=tmp_path).out == f"kivvet {library.__version__}\n"


def test_a_new_book_is_complete_and_is_never_overwritten(tmp_path):
    assert kivvet("new", "rules", "--title", 'My "rules"', cwd=tmp_path).code == 0
    assert library.open_book(tmp_path / "rules").title == 'My "rules"'
    assert kivvet("check", "--book", "rules", cwd=tmp_path).out == "0 errors, 0 warnings in 1 table\n"
    again = kivvet("new", "rules", cwd=tmp_path)
    assert again.code == 2 and "holds a book already" in again.err
    assert kivvet("apply", "--book", "rules", cwd=tmp_path).out.startswith("the book has no datasets")


def test_json_says_what_the_text_says(small_book):
    report = json.loads(kivvet("check", "--json", cwd=small_book).out)
    assert report["version"] == 1
    assert {one["kind"] for one in report["findings"]} == {"missing-input", "unmatched"}
    (applied,) = json.loads(kivvet("apply", "--json", cwd=small_book).out)["reports"]
    assert [one["matched"] + one["missing"] + one["unmatched"] for one in applied["tables"]] == [
        applied["rows"]
    ] * 2
    assert [
        one["state"] for one in json.loads(kivvet("status", "--json", cwd=small_book).out)["datasets"]
    ] == ["current"]
    (done,) = json.loads(kivvet("refresh", "--json", cwd=small_book).out)["datasets"]
    assert done["refreshed"] is False


def test_the_book_is_found_upward_and_named_files_are_relative_to_where_one_is(small_book):
    below = small_book / "data"
    assert kivvet("check", cwd=below).code == 0
    assert (
        kivvet("check", "--book", "..", "--no-data", "ph_class", cwd=below).out
        == "0 errors, 0 warnings in 1 table\n"
    )


def on_a_terminal(*arguments, cwd, width="100"):
    """Return what a command prints on a terminal of that width."""
    master, slave = pty.openpty()
    environment = {**os.environ, "COLUMNS": width, "TERM": "xterm-256color"}
    environment.pop("NO_COLOR", None)
    process = subprocess.Popen(
        [sys.executable, "-m", "kivvet", *arguments], cwd=cwd, stdout=slave, stderr=slave, env=environment
    )
    os.close(slave)
    pieces = []
    try:
        while piece := os.read(master, 65536):
            pieces.append(piece)
    except OSError:  # the other end is closed
        pass
    process.wait()
    return b"".join(pieces).decode()


@pytest.mark.parametrize("width", [60, 100])
def test_on_a_terminal_there_are_colours_and_no_line_is_too_long(survey, width):
    shown = on_a_terminal("check", cwd=survey, width=str(width))
    assert "\x1b[1;31merror" in shown
    plain = library_plain(shown.replace("\x1b[2K", "\n"))  # each state of the progress is a line of its own
    too_long = [line for line in plain.splitlines() if len(line) > width and " " in line.strip()[:width]]
    assert [line for line in too_long if "tables/" not in line and "rows of samples read" not in line] == []
    piped = kivvet("check", cwd=survey).out
    assert "\x1b" not in piped


def library_plain(text):
    import re

    return re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", text).replace("\r", "")


def test_importing_and_help_load_nothing_heavy():
    code = "import sys, kivvet, kivvet.cli.main; print(sorted({'numpy', 'pandas', 'pyarrow', 'rich'} & set(sys.modules)))"
    assert (
        subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
        == "[]\n"
    )


def test_public_names_are_what_they_should_be():
    assert sorted(library.__all__) == library.__all__
    for name in library.__all__:
        assert getattr(library, name).__doc__, name


def test_a_book_is_applied_to_frames_as_to_files(small_book):
    import pandas as pd

    book = library.open_book(small_book)
    frame = pd.DataFrame({"site": ["007", "x"], "ph": [6.4, None]})
    made = book.apply(
        frame,
        [
            "ph_class",
            {"table": "station", "input": {"station": "site"}, "keep": [{"river": "water"}], "row": "by"},
        ],
    )
    assert made.to_dict("list")["water"] == ["Elm", "unknown"]
    assert list(made.columns) == ["site", "ph", "ph_class", "water", "by"]
    with pytest.raises(library.TableError, match="did you mean 'station'"):
        book.apply(frame, ["staton"])


def test_a_book_with_no_tables_or_datasets_is_no_error(tmp_path):
    folder = write_book(
        tmp_path,
        dict.fromkeys(("tables/ph_class.toml", "tables/station.toml", "tables/station.csv"))
        | {"book.toml": 'title = "x"\n'},
    )
    assert kivvet("check", cwd=folder).out == "0 errors, 0 warnings in 0 tables\n"
    assert kivvet("status", cwd=folder).code == 0
