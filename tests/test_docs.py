"""Every shell and Python block of README and docs runs, and prints what the page says.

The blocks of one page run in order, in one folder and one namespace. A line of shell that ends in
``# ends with 1`` has to end so. A ``text`` block right after another holds what that one prints; a line of
``...`` in it stands for any lines. Lines that begin with ``make`` or ``git`` are what CI runs itself.
"""

import contextlib
import io
import os
import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import kivvet

ROOT = Path(__file__).parents[1]
PAGES = ["README.md", *sorted(f"docs/{path.name}" for path in (ROOT / "docs").glob("*.md"))]
#: A command in which there is nothing for a shell to do: it runs in this process.
PLAIN = re.compile(r"kivvet(?: +(?:'[^']*'|\"[^\"$`\\]*\"|[\w.,:=/%@+-]+))*(?: +# .*)?")
#: The whole story of the demo, of which nobody asks here what it tells: its book is there already.
DEMO = re.compile(r"kivvet demo ([\w-]+) > ([\w.]+)")
BLOCK = re.compile(r"^```(\w+)\n(.*?)^```$", re.MULTILINE | re.DOTALL)


@pytest.mark.parametrize("page", PAGES)
def test_the_blocks_of_a_page_run_and_print_what_it_says(page, tmp_path, monkeypatch, quick_kivvet, river):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("PATH", f"{quick_kivvet}:{Path(sys.executable).parent}:{os.environ['PATH']}")
    text = (ROOT / page).read_text(encoding="utf-8")
    names: dict[str, object] = {}
    printed, end = None, 0
    for match in BLOCK.finditer(text):
        language, code = match.groups()
        if language == "text" and printed is not None and not text[end : match.start()].strip():
            assert shows(printed, code), f"{page} says\n{code}\nand it prints\n{printed}"
        printed, end = None, match.end()
        if language == "sh":
            printed = run_shell(code, river)
        elif language == "python":
            with contextlib.redirect_stdout(io.StringIO()) as out:
                exec(compile(code, page, "exec"), names)
            printed = out.getvalue()
        elif language == "toml":
            import tomllib

            tomllib.loads(code)


def run_shell(code, river):
    printed = ""
    for line in code.replace("\\\n", "").splitlines():
        if not line.strip() or line.startswith(("make ", "git ")):
            continue
        expected = int(match[1]) if (match := re.search(r"# ends with (\d)$", line)) else 0
        if demo := DEMO.fullmatch(line):
            shutil.copytree(river, demo[1])
            Path(demo[2]).touch()
            continue
        if PLAIN.fullmatch(line):
            done = kivvet(*shlex.split(line, comments=True)[1:], cwd=Path.cwd())
            code, told = done.code, done.all
        else:
            process = subprocess.run(["bash", "-c", line], capture_output=True, text=True, check=False)
            code, told = process.returncode, process.stdout + process.stderr
        assert code == expected, f"{line}\n{told}"
        printed += told
        if line.startswith("cd "):
            os.chdir(line.split()[1])
    return printed


def shows(printed, said):
    printed = re.sub(r"\d{4}-\d\d-\d\d \d\d:\d\d UTC", "<time>", printed)
    said = re.sub(r"\d{4}-\d\d-\d\d \d\d:\d\d UTC", "<time>", said)
    pattern = "".join(
        r"(?:.*\n)*?" if line.strip() == "..." else re.escape(line.rstrip()) + r" *\n"
        for line in said.splitlines()
    )
    return re.fullmatch(pattern + r"\n*", printed if printed.endswith("\n") else printed + "\n") is not None


def test_every_screenshot_is_linked_and_every_link_leads_somewhere():
    readme = (ROOT / "README.md").read_text(encoding="utf-8")
    shots = {f"docs/screenshots/{path.name}" for path in (ROOT / "docs/screenshots").glob("*.png")}
    assert set(re.findall(r"docs/screenshots/[\w-]+\.png", readme)) == shots
    for page in PAGES:
        text = (ROOT / page).read_text(encoding="utf-8")
        for link in re.findall(r"\]\(([^)#]+)[^)]*\)", text):
            assert (ROOT / page).parent.joinpath(link).exists(), f"{page}: {link}"
