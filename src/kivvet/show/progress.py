"""How far long work is: a moving line on a terminal, one line that changes in a notebook, nothing when piped."""

from __future__ import annotations

import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from html import escape
from typing import Any, Protocol

_SECONDS_BETWEEN = 0.2


class OnRows(Protocol):
    """Called with a number of rows after each batch."""

    def __call__(self, rows: int, /) -> None: ...


@contextmanager
def counting_rows(what: str = "reading") -> Iterator[OnRows]:
    """Show how many rows were read so far, while a block runs.

    What it gives is called with the rows of each batch: the `on_rows` of all calls that read data.

    Parameters
    ----------
    what : str
        What is being done, in a word or two.
    """
    notebook = _notebook()
    if notebook is not None:
        yield from _in_notebook(notebook, what)
    elif not sys.stderr.isatty():
        yield lambda _: None
    else:
        yield from _on_terminal(what)


def _notebook() -> Any:
    """Return IPython's display where a notebook runs this; None elsewhere, and nothing is imported then."""
    running = sys.modules.get("IPython")
    shell = running.get_ipython() if running is not None else None
    if shell is None or not hasattr(shell, "kernel"):
        return None
    from importlib import import_module

    return import_module("IPython.display")


def _in_notebook(notebook: Any, what: str) -> Iterator[OnRows]:
    begun = time.monotonic()
    rows, last = 0, begun

    def shown(*, is_done: bool) -> Any:
        seconds = time.monotonic() - begun
        said = f"{rows:,} rows in {seconds:.1f} s" if is_done else f"{what} … {rows:,} rows"
        return notebook.HTML(f'<span style="opacity:.7">{escape(said)}</span>')

    handle = notebook.display(shown(is_done=False), display_id=True)

    def on_rows(number: int, /) -> None:
        nonlocal rows, last
        rows += number
        if time.monotonic() - last >= _SECONDS_BETWEEN:
            last = time.monotonic()
            handle.update(shown(is_done=False))

    yield on_rows
    handle.update(shown(is_done=True))


def _on_terminal(what: str) -> Iterator[OnRows]:
    from rich.progress import Progress, SpinnerColumn, TextColumn

    from kivvet.show.terminal import console

    columns = (SpinnerColumn(), TextColumn(what), TextColumn("{task.completed:,.0f} rows"))
    with Progress(*columns, console=console(stderr=True), transient=True) as progress:
        task = progress.add_task(what, total=None)
        yield lambda rows: progress.advance(task, rows)
