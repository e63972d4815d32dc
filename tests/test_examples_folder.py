"""Every script of examples/ runs, prints what is kept beside it, and leaves nothing behind; so does the notebook."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

EXAMPLES = Path(__file__).parents[1] / "examples"
SCRIPTS = sorted(EXAMPLES.glob("*.py"))


def files():
    kept = (path for path in EXAMPLES.rglob("*") if path.is_file() and "__pycache__" not in path.parts)
    return {path: path.stat().st_mtime_ns for path in kept}


@pytest.mark.parametrize("script", SCRIPTS, ids=lambda path: path.stem)
def test_an_example_prints_what_is_kept_beside_it_and_changes_no_file(script):
    before = files()
    done = subprocess.run(
        [sys.executable, script.name], cwd=EXAMPLES, capture_output=True, text=True, check=False, timeout=120
    )
    assert done.returncode == 0, done.stderr
    assert done.stderr == ""
    kept = EXAMPLES / "printed" / f"{script.stem}.txt"
    if os.environ.get("KIVVET_GOLDEN") == "write":
        kept.write_text(done.stdout, encoding="utf-8")
        before = files()
    assert done.stdout == kept.read_text(encoding="utf-8")
    assert files() == before


def test_each_example_says_in_its_first_lines_whose_job_it_is_and_is_short():
    assert 8 <= len(SCRIPTS) <= 14
    assert {path.stem for path in (EXAMPLES / "printed").glob("*.txt")} == {path.stem for path in SCRIPTS}
    page = (EXAMPLES / "README.md").read_text(encoding="utf-8")
    for script in SCRIPTS:
        text = script.read_text(encoding="utf-8")
        assert re.match(r'"""[^\n]{20,}\n\n', text), script.name
        assert len(text.splitlines()) <= 70
        assert script.name in page


RUN = """
import sys
import nbformat
from nbclient import NotebookClient
notebook = nbformat.read(sys.argv[1], 4)
NotebookClient(notebook, timeout=120, resources={"metadata": {"path": sys.argv[2]}}).execute()
nbformat.write(notebook, sys.argv[3])
"""


def told(path):
    """What each cell of a notebook shows, times and pictures left out."""
    shown = []
    for cell in json.loads(path.read_text(encoding="utf-8"))["cells"]:
        for output in cell.get("outputs", []):
            data = output.get("data", {"text/plain": output.get("text", "")})
            # The style of the forms may change; what they say may not.
            texts = {
                kind: re.sub(r"<style>.*?</style>|<[^>]+>", " ", "".join(data[kind]), flags=re.DOTALL)
                for kind in sorted(data)
                if kind.startswith("text/")
            }
            text = json.dumps([output["output_type"], sorted(data), texts], ensure_ascii=False)
            text = re.sub(r"\d{4}-\d\d-\d\d \d\d:\d\d UTC", "<time>", text)
            text = re.sub(r"made_at='[^']+'", "made_at=<time>", text)
            shown.append(re.sub(r"rows in [\d.]+ s", "rows in <time>", text))
    return shown


def test_the_notebook_runs_and_shows_what_it_holds(tmp_path):
    pytest.importorskip("nbclient", reason="no nbclient here to run the notebook with")
    notebook, made = EXAMPLES / "river_survey.ipynb", tmp_path / "made.ipynb"
    done = subprocess.run(
        [sys.executable, "-c", RUN, str(notebook), str(tmp_path), str(made)],
        capture_output=True,
        text=True,
        check=False,
        timeout=300,
    )
    assert done.returncode == 0, done.stderr
    assert told(made) == told(notebook)
    assert any("image/png" in one for one in told(made)) and (tmp_path / "river-survey/report.html").is_file()
