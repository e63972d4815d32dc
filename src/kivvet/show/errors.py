"""An error on a terminal."""

from __future__ import annotations

from rich.text import Text

from kivvet.core.words.errors import KivvetError, TableError
from kivvet.show.findings import print_findings
from kivvet.show.terminal import console, print_columns


def print_error(error: KivvetError, *, writes: bool = False) -> None:
    """Print an error to stderr: what is wrong, where, and what to do; of a command that writes, that nothing
    was written.
    """
    out = console(stderr=True)
    if isinstance(error, TableError):
        print_findings(out, error.findings)
        out.print(Text(f"{error.problem}; nothing was written" if writes else error.problem, "bold"))
        return
    line = Text()
    if error.place:
        line.append(f"{error.place}: ", "bold")
    line.append(error.problem, "red")
    out.print(line)
    for label, text in (("expected", error.expected), ("found", error.found), ("fix", error.fix)):
        if text:
            print_columns(out, [("", "", 2), (label, "dim", 10)], text)
