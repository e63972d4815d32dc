"""The hooks of commits and the examples for builds: each line of theirs runs on a book in a repository, and says what it should."""

from __future__ import annotations

import json
import re
import shlex
import subprocess
from pathlib import Path

import pytest

from tests.conftest import write_book

ROOT = Path(__file__).parents[1]
HOOKS = (ROOT / ".pre-commit-hooks.yaml").read_text(encoding="utf-8")
BOOK = {
    "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "o.csv"\ncolumns = ["size"]\n',
    "tables/size.toml": 'inputs.mm = "number"\noutputs.size = "text"\nrows = [["< 2", "fine"], [">= 2", "coarse"]]\n',
    "d.csv": "mm\n1\n3\n5\n",
}


@pytest.fixture
def repository(tmp_path, run):
    """A book whose main branch is what was applied."""
    folder = write_book(tmp_path / "book", BOOK)
    run("apply", "d", cwd=folder)
    for line in ("init -q -b main", "add -A", "-c user.name=Ida -c user.email=i@x commit -qm rules", "update-ref refs/remotes/origin/main HEAD"):  # fmt: skip
        subprocess.run(["git", *shlex.split(line)], cwd=folder, check=True, capture_output=True)
    return folder


def lines_of(text, word):
    return re.findall(rf"{word}: (kivvet .*)", text)


def changed(folder, old, new):
    table = folder / "tables/size.toml"
    table.write_text(table.read_text().replace(old, new))


def test_hooks_pass_on_rules_that_are_right_and_stop_what_is_not(repository, run):
    check, current = [shlex.split(line)[1:] for line in lines_of(HOOKS, "entry")]
    assert run(*check, cwd=repository).code == run(*current, cwd=repository).code == 0
    changed(repository, "< 2", "< 4")
    assert run(*check, cwd=repository).code == 1
    changed(repository, ">= 2", ">= 4")
    assert run(*check, cwd=repository).code == 0
    assert run(*current, cwd=repository).code == 1


def test_hooks_are_asked_for_the_files_of_a_book_alone():
    for pattern in re.findall(r"files: (.*)", HOOKS):
        named = ["book.toml", "rules/book.toml", "formulas.toml", "rules/tables/size.toml", "tables/size.csv"]
        assert all(re.search(pattern, one) for one in named)
        assert not any(
            re.search(pattern, one) for one in ("data/d.csv", "README.md", "mybook.toml", "out/o.csv")
        )


def test_a_check_is_told_beside_the_lines_it_is_about(repository, run):
    (line,) = lines_of((ROOT / "examples/ci/check.yml").read_text(), "run")
    asked, _, file = line.partition(" > ")
    changed(repository, "< 2", "< 1")
    told = run(*shlex.split(asked)[1:], cwd=repository)
    assert told.code == 1
    assert file == "rules.sarif"
    (one,) = json.loads(told.out)["runs"][0]["results"]
    assert one["ruleId"] == "gap"
    assert one["locations"][0]["physicalLocation"]["artifactLocation"]["uri"].endswith("size.toml")


def test_what_would_move_is_a_comment_and_too_much_of_it_an_error(repository, run):
    comment, limit = lines_of((ROOT / "examples/ci/impact.yml").read_text(), "run")
    changed(repository, '"< 2"', '"< 4"')
    changed(repository, '">= 2"', '">= 4"')
    told = run(*shlex.split(comment.partition(" > ")[0])[1:], cwd=repository)
    assert told.code == 0
    assert "coarse" in told.out and "|" in told.out
    assert run(*shlex.split(limit)[1:], cwd=repository).code == 1
    changed(repository, "4", "2")
    assert run(*shlex.split(limit)[1:], cwd=repository).code == 0


def test_the_pages_name_them():
    page = (ROOT / "docs/findings.md").read_text()
    for path in (".pre-commit-hooks.yaml", "examples/ci/check.yml", "examples/ci/impact.yml"):
        assert path.rpartition("/")[2] in page
        assert "\t" not in (ROOT / path).read_text(), "YAML has no tabs"
