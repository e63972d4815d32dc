"""Two books as folders of one repository: merges, comparisons and what a team keeps work there as in a book of its own."""

import json
import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

import kivvet
from tests.conftest import kivvet as run
from tests.conftest import write_book

ROOT = Path(__file__).parents[1]
TABLE = 'inputs.x = "number"\noutputs.y = "text"\nrows = [\n  ["< 2", "low"],\n  ["2 to <5", "middle"],\n  [">= 5", "high"],\n]\n'
BOOK = 'history = "runs"\n[datasets.d]\nsource = "d.csv"\ntarget = "out/d.csv"\ncolumns = ["t"]\n'


@pytest.fixture
def repository(tmp_path):
    for name in ("rules/one", "rules/two"):
        write_book(
            tmp_path / name,
            {
                "book.toml": BOOK,
                "tables/t.toml": TABLE,
                "d.csv": "x\n1\n3\n7\n",
                "tables/ph_class.toml": None,
                "tables/station.toml": None,
                "tables/station.csv": None,
            },
        )
    git(tmp_path, "init", "-q", "-b", "main")
    lines = re.search(
        r"```text\n(git config merge\.kivvet.*?)```", (ROOT / "docs/sharing.md").read_text(), re.S
    )
    environment = {**os.environ, "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}"}
    subprocess.run(["bash", "-ec", lines[1]], cwd=tmp_path, check=True, env=environment)
    git(tmp_path, "add", ".")
    git(tmp_path, "commit", "-qm", "rules")
    return tmp_path


def git(folder, *words):
    names = ["-c", "user.name=Ida", "-c", "user.email=ida@example.org"]
    environment = {**os.environ, "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}"}
    done = subprocess.run(
        ["git", *names, *words], cwd=folder, capture_output=True, text=True, check=False, env=environment
    )
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def change(path, before, after):
    text = path.read_text()
    assert before in text
    path.write_text(text.replace(before, after))


def test_the_merge_driver_of_the_docs_works_in_folders(repository):
    git(repository, "checkout", "-qb", "other")
    change(repository / "rules/two/tables/t.toml", '"low"', '"least"')
    git(repository, "commit", "-qam", "least")
    git(repository, "checkout", "-q", "main")
    change(repository / "rules/two/tables/t.toml", '"middle"', '"mid"')
    git(repository, "commit", "-qam", "mid")
    git(repository, "merge", "-q", "-m", "both", "other")  # lines side by side would clash as lines
    text = (repository / "rules/two/tables/t.toml").read_text()
    assert '"least"' in text and '"mid"' in text
    assert (repository / "rules/one/tables/t.toml").read_text() == TABLE


def test_a_book_in_a_folder_is_compared_with_an_earlier_commit_of_itself(repository):
    change(repository / "rules/one/tables/t.toml", "< 2", "< 3")
    change(repository / "rules/one/tables/t.toml", "2 to <5", "3 to <5")
    for folder, words in ((repository / "rules/one", ()), (repository, ("--book", "rules/one"))):
        ran = run("impact", "--against", "HEAD", *words, cwd=folder)
        assert ran.code == 0 and "x 2 to <3: middle -> low" in ran.out, ran.out
    ran = run("impact", "--against", "HEAD", "--book", "rules/two", cwd=repository)
    assert ran.out.endswith("nothing changes\n")


def test_what_a_team_keeps_names_no_place_of_one_machine(repository):
    for name in ("one", "two"):
        kivvet.open_book(repository / "rules" / name).apply_dataset("d")
        for path in (repository / "rules" / name / "runs").glob("**/*.json"):
            text = path.read_text()
            assert str(repository) not in text and json.loads(text)
        assert list((repository / "rules" / name / "runs").glob("*.json"))


def test_an_edit_says_what_it_leaves_and_names_the_file_of_the_book(repository):
    folder = repository / "rules/one"
    (folder / "tables/u.toml").write_text(
        'inputs.y = "text"\noutputs.z = "text"\nrows = [["low", "a"], ["not low", "b"]]\n'
    )
    (folder / "formulas.toml").write_text("is_low = \"y = 'low'\"\n")
    edit = kivvet.open_book(folder).edit("t")
    edit.rename("y", "low", "least")
    assert set(edit.left) >= {"rows 1, 2 of table u", "formula is_low"}
    with pytest.raises(kivvet.TableError) as caught:
        kivvet.open_book(folder).edit("t").set(2, {"x": "5 to 2"}).save()
    assert "rules/one/tables/t.toml:5" in str(caught.value).replace(str(repository) + "/", "")
