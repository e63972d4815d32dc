"""The site of the documentation: it builds without a warning, names all that there is, and its links lead somewhere."""

from __future__ import annotations

import subprocess
import sys
from html.parser import HTMLParser
from pathlib import Path
from urllib.parse import unquote, urlsplit

import pytest

import kivvet
from kivvet.cli.main import _COMMANDS

ROOT = Path(__file__).parent.parent
#: All that is made is needed until the end: to seek circles in it takes a quarter of the time.
BUILD = "import gc, sys; gc.disable(); from sphinx.cmd.build import main; sys.exit(main(sys.argv[1:]))"


class Page(HTMLParser):
    """The links and the anchors of a page."""

    def __init__(self, text):
        super().__init__()
        self.links, self.anchors = [], set()
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        about = dict(attrs)
        self.anchors |= {about[name] for name in ("id", "name") if about.get(name)}
        self.links += [about[name] for name in ("href", "src") if about.get(name)]


@pytest.fixture(scope="module")
def site(tmp_path_factory):
    pytest.importorskip("sphinx")
    folder = tmp_path_factory.mktemp("site")
    made = subprocess.run(
        [sys.executable, "-c", BUILD, "-q", "-W", "--keep-going", "-c", ROOT / "docs/site", "-d", folder / "trees", ROOT / "docs", folder / "site"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert made.returncode == 0, made.stderr
    return {
        path.relative_to(folder / "site").as_posix(): Page(path.read_text(encoding="utf-8"))
        for path in (folder / "site").rglob("*.html")
    }, folder / "site"


def test_every_page_is_there_and_every_link_leads_somewhere(site):
    pages, folder = site
    assert {f"{path.stem}.html" for path in (ROOT / "docs").glob("*.md")} <= set(pages)
    lost = []
    for name, page in pages.items():
        if name == "river-survey.html":
            continue  # a report, which has tests of its own
        for link in page.links:
            parts = urlsplit(link)
            if parts.scheme or link.startswith("//") or not (parts.path or parts.fragment):
                continue
            there = (folder / name).parent / unquote(parts.path) if parts.path else folder / name
            there = there / "index.html" if there.is_dir() else there
            key = there.resolve().relative_to(folder.resolve()).as_posix() if there.exists() else ""
            fragment = unquote(parts.fragment)
            is_known = not fragment or key not in pages or fragment in pages[key].anchors
            lost += [] if key and is_known else [(name, link)]
    assert lost == []


def test_the_reference_names_every_call_type_and_command(site):
    pages, _ = site
    named = pages["site/calls.html"].anchors | pages["site/values.html"].anchors
    assert not [name for name in kivvet.__all__ if f"kivvet.{name}" not in named]
    assert {"kivvet.Book.check", "kivvet.RuleTable.apply", "kivvet.testing.assert_clean"} <= named
    anchors = pages["site/commands.html"].anchors
    assert not [name for name in _COMMANDS if f"kivvet-{name}" not in anchors]
