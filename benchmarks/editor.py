"""How long an editor waits: from an edit to the findings, beside a check of the book read anew; hovers, completion, uses."""

from __future__ import annotations

import contextlib
import io
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import kivvet
from benchmarks.lines import Line
from kivvet.demo.story import write_survey
from kivvet.editor.completions import completions_at
from kivvet.editor.data_seen import DataSeen
from kivvet.editor.hovers import hover_at
from kivvet.editor.occurrences import entity_at, occurrences
from kivvet.editor.session import Session

_TIMES = 9


def figures() -> Iterator[Line]:
    """Yield a line for each thing that an editor asks."""
    with tempfile.TemporaryDirectory() as at:
        demo, large = Path(at) / "survey", Path(at) / "large"
        with contextlib.redirect_stdout(io.StringIO()):
            write_survey(demo)
        write_large(large)
        for folder, file, target in ((demo, "ph_class", 0.1), (large, "large", 0.5)):
            anew = median(lambda folder=folder: kivvet.open_book(folder).check(data=False))
            typed = after_edits(folder.resolve(), file)
            what = "a table of the demo" if folder is demo else "a table of 10,000 rows"
            yield Line(f"from an edit to the findings, {what}", typed, target=target)
            yield Line("the same", typed, "s", "the same book read and checked anew", anew)
        yield from asks(demo.resolve())


def after_edits(folder: Path, file: str) -> float:
    """Return the time from an edit of a table to what is shown."""
    session, path = Session(), folder / f"tables/{file}.toml"
    text = path.read_text(encoding="utf-8")
    session.diagnose(folder)
    number = 0

    def edit() -> None:
        nonlocal number
        number += 1
        session.texts.put(path, f"{text}# {number}\n")
        session.diagnose(folder)

    try:
        return median(edit)
    finally:
        session.texts.clear()


def asks(folder: Path) -> Iterator[Line]:
    session, path = Session(), folder / "tables/quality.toml"
    book = session.books.read(folder)
    assert book is not None
    at = session.texts.of(path).text.index("6.5 to 8.5") + 2
    seen = DataSeen.of(book, lambda _: None)
    named = entity_at(session.books, path, session.texts.of(path).text.index("oxygen") + 1)
    assert named is not None
    for what, ask in (
        ("hover on a condition", lambda: hover_at(session.books, path, at, seen)),
        ("completion of a cell", lambda: completions_at(session.books, path, at)),
        ("uses of a column", lambda: occurrences(session.books, book, named[0])),
    ):
        yield Line(what, median(ask), target=0.1)


def median(work: Callable[[], object]) -> float:
    took = []
    for _ in range(_TIMES):
        start = time.perf_counter()
        work()
        took.append(time.perf_counter() - start)
    return sorted(took)[_TIMES // 2]


def write_large(folder: Path) -> None:
    """Write a book of one table of 10,000 rows."""
    (folder / "tables").mkdir(parents=True)
    (folder / "book.toml").write_text('title = "large"\n', encoding="utf-8")
    rows = "".join(f'  ["{n} to <{n + 1}", "class {n % 50}"],\n' for n in range(9_998))
    text = f'inputs.x = "number"\noutputs.y = "text"\nrows = [\n  ["< 0", "below"],\n{rows}  [">= 9998", "above"],\n]\n'
    (folder / "tables/large.toml").write_text(text, encoding="utf-8")
