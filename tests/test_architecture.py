"""The page that leads through the house is true: what it names is there, what is there it names, and rooms are of a size to be read."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
HOUSE = ROOT / "src/kivvet"
PAGE = (ROOT / "docs/architecture.md").read_text(encoding="utf-8")
MODULES = sorted(path for path in HOUSE.rglob("*.py") if path.name != "__init__.py")
PACKAGES = sorted({path.parent for path in MODULES} - {HOUSE})
#: The longest that a module may be, and how many may be longer than what is read in one go.
LONGEST, LONG, FEW = 500, 400, 30


def named():
    """What the page names as code: modules and folders."""
    return {one for one in re.findall(r"`([\w/.*-]+)`", PAGE) if one.endswith((".py", "/"))}


@pytest.mark.parametrize("name", sorted(named()))
def test_what_the_page_names_is_there(name):
    if name.startswith("tests/"):
        assert (ROOT / name).exists()
    elif name.endswith("/"):
        assert any(path.is_dir() for path in HOUSE.rglob(name.rstrip("/").rsplit("/", 1)[-1]))
    else:
        assert list(HOUSE.rglob(name.rsplit("/", 1)[-1])), "no module is called so"
        assert "/" not in name or (HOUSE / name).exists() or list(HOUSE.rglob(name))


@pytest.mark.parametrize("folder", PACKAGES, ids=lambda path: path.relative_to(HOUSE).as_posix())
def test_every_room_is_on_the_page(folder):
    name = folder.relative_to(HOUSE).as_posix()
    assert re.search(rf"\b{re.escape(name)}\b", PAGE) or re.search(rf"\b{re.escape(folder.name)}/", PAGE)


def test_every_module_begins_with_what_it_is_about_and_is_of_a_size_to_be_read():
    long = []
    for path in MODULES:
        text = path.read_text(encoding="utf-8")
        about = ast.get_docstring(ast.parse(text))
        assert (about and len(about.splitlines()[0]) > 10) or path.parent.name == "cli", path
        n_lines = text.count("\n")
        assert n_lines <= LONGEST, path
        long += [path] if n_lines > LONG else []
    assert len(long) <= FEW, [path.name for path in long]


def test_no_module_says_what_another_says():
    said: dict[str, Path] = {}
    for path in MODULES:
        about = (ast.get_docstring(ast.parse(path.read_text(encoding="utf-8"))) or "").splitlines()[0]
        assert about not in said or path.parent.name == "cli", (path, said.get(about))
        said[about] = path
