"""The site of the documentation: all pages of docs, the calls from their docstrings, the commands from their options."""

import os
import re
from pathlib import Path

import kivvet

project = "Kivvet"
version = release = kivvet.__version__
author = copyright = "the founders of Kivvet"  # noqa: A001
extensions = ["myst_parser", "sphinx.ext.autodoc", "sphinx.ext.napoleon", "sphinx_click"]
root_doc = "site/index"
exclude_patterns = ["site/conf.py"]
html_theme = "furo"
html_title = "Kivvet"
html_extra_path = ["../river-survey.html"]
html_show_sourcelink = False
html_copy_source = False
highlight_language = "none"
smartquotes = False  # what is to be typed is shown as it is typed
myst_heading_anchors = 3
myst_enable_extensions = ["dollarmath"]
napoleon_google_docstring = False
napoleon_use_rtype = False
autodoc_member_order = "bysource"
autodoc_typehints = "signature"
autodoc_default_options = {"members": True, "inherited-members": "tuple,object,ValueError,Exception"}
suppress_warnings = ["myst.xref_missing"]  # what is no page is held against the files in the tests


def examples_as_typed(app, ctx, lines):
    """Set the examples of a command, which stand in lines of their own, as code."""
    del app, ctx
    made = []
    for line in lines:
        is_example = line.startswith("| ")
        if line.startswith("| Examples"):
            made += ["", "::", ""]
        elif is_example:
            made.append(f"    {line[2:].strip()}")
        else:
            made.append(line)
    lines[:] = made


#: The pages that are files elsewhere, and where links from them lead on the site.
TAKEN = {"site/start": "README.md", "site/changes": "CHANGELOG.md", "site/examples": "examples/README.md"}
PLACES = {"examples/README.md": "examples.md", "CHANGELOG.md": "changes.md", "../README.md": "start.md"}


def taken_from_elsewhere(app, name, source):
    """Let a page be what a file elsewhere in the project holds."""
    if name not in TAKEN:
        return
    file = Path(app.srcdir).parent / TAKEN[name]

    def led(match):
        shown, link = match.groups()
        if "://" in link or link.startswith("#"):
            return match[0]
        if link in PLACES:
            return f"[{shown}]({PLACES[link]})"
        path, sign, part = link.partition("#")
        there = (file.parent / path).resolve()
        if there.is_dir():
            return shown  # which only a checkout has
        return f"[{shown}]({os.path.relpath(there, Path(app.srcdir) / 'site')}{sign}{part})"

    source[0] = re.sub(r"\[([^\]]*)\]\(([^)\s]+)\)", led, file.read_text(encoding="utf-8"))


def setup(app):
    """Tell the generator what is made of what."""
    app.connect("source-read", taken_from_elsewhere)
    for part in ("description", "epilog"):
        app.connect(f"sphinx-click-process-{part}", examples_as_typed)
