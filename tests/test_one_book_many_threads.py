"""A law over calls: what several threads ask of one open book is what they would be told one after the other.

And values that were used are handed to another process as they are.
"""

from __future__ import annotations

import copy
import pickle
import sys
import threading

import numpy as np
import pandas as pd
import pytest

import kivvet
from kivvet.books.runs.plans import plan_of

_N = 4


def _folder(path):
    """A book whose rows of data are decided by many sets of rows, met in another order in each dataset."""
    (path / "tables").mkdir()
    rows = "".join(
        f'["{f"< {7 * n}" if n % 2 else f">= {5 * n}"}", "> {3 * n}", "{n} to {n + 40}", "k{n}"],\n'
        for n in range(1, 16)
    )
    (path / "tables/sets.toml").write_text(
        'inputs.a = "integer"\ninputs.b = "integer"\ninputs.c = "integer"\n'
        'outputs.k = { type = "text", combine = "join" }\nmatch = "every"\n'
        f'rows = [\n["a", "b", "c", "k"],\n{rows}]\n'
    )
    (path / "tables/band.toml").write_text(
        'inputs.a = "number"\noutputs.band = "text"\nrows = [["< 40", "low"], [">= 40", "high"], ["missing", "none"]]\n'
    )
    (path / "formulas.toml").write_text('share = "a / SUM(a) OVER (PARTITION BY band)"\n')
    choose = np.random.default_rng(1)
    book = 'title = "threads"\n'
    for number in range(_N):
        data = pd.DataFrame({name: choose.integers(0, 120, 800) for name in "abc"})
        data.to_csv(path / f"d{number}.csv", index=False)
        book += (
            f'[datasets.d{number}]\nsource = "d{number}.csv"\ntarget = "d{number}.parquet"\n'
            'types = { a = "number", b = "integer", c = "integer" }\n'
            'columns = [{ table = "sets", status = "how" }, "band", "share"]\n'
        )
    (path / "book.toml").write_text(book)
    return path


@pytest.fixture
def folder(tmp_path):
    return _folder(tmp_path)


@pytest.fixture
def impatient():
    """Threads take turns as often as can be."""
    before = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)
    yield
    sys.setswitchinterval(before)


def _told(book, what, number):
    name = f"d{number}"
    if what == "apply":
        report = book.apply_dataset(name)
        return [(one.table, one.matched, one.unmatched, dict(one.classes)) for one in report.tables]
    if what == "summary":
        return book.cross_table(name, by=["band"], value={"n": "COUNT(*)", "t": "SUM(share)"}).as_dict()
    if what == "check":
        return [str(one) for one in book.check()]
    if what == "rows":
        return book.show("d0", where="how = 'several'", first=5).to_dict()
    return [(one.dataset, one.state, one.stale_columns) for one in book.status()]


@pytest.mark.parametrize("what", ["apply", "summary", "check", "rows", "status"])
def test_calls_from_several_threads_are_told_what_they_would_be_one_after_the_other(folder, impatient, what):
    for number in range(_N):
        kivvet.open_book(folder).apply_dataset(f"d{number}")
    targets = [folder / f"d{number}.parquet" for number in range(_N)]
    alone = [_told(kivvet.open_book(folder), what, number) for number in range(_N)]
    held = [pd.read_parquet(target) for target in targets]
    for _ in range(6):
        book, at_once = kivvet.open_book(folder), threading.Barrier(_N)
        told: list = [None] * _N

        def ask(number, book=book, at_once=at_once, told=told):
            at_once.wait()
            try:
                told[number] = _told(book, what, number)
            except BaseException as error:
                told[number] = error

        threads = [threading.Thread(target=ask, args=(number,)) for number in range(_N)]
        for one in threads:
            one.start()
        for one in threads:
            one.join()
        assert told == alone
        for target, before in zip(targets, held, strict=True):
            pd.testing.assert_frame_equal(pd.read_parquet(target), before)
        assert {one.state for one in kivvet.open_book(folder).status()} == {"current"}


def test_what_a_run_makes_depends_on_its_data_alone(folder):
    """Also the order of the classes that rows make together, whatever the table was used for before."""
    kivvet.open_book(folder).apply_dataset("d1")
    fresh = pd.read_parquet(folder / "d1.parquet")["k"].cat.categories.tolist()
    book = kivvet.open_book(folder)
    for name in ("d0", "d2", "d1"):
        book.apply_dataset(name)
    assert pd.read_parquet(folder / "d1.parquet")["k"].cat.categories.tolist() == fresh


def test_values_that_were_used_are_pickled_and_copied_as_they_are(folder):
    book = kivvet.open_book(folder)
    report = book.apply_dataset("d0")
    summary = book.cross_table("d0", by=["band"])
    opened = book._opened
    plan, _ = plan_of(opened, opened.dataset("d0"))
    checked, (status, *_) = book.check(), book.status()
    for value in (
        book.formulas["share"],
        opened.tables["sets"],
        plan,
        *plan.steps,
        report,
        summary,
        checked,
        status,
    ):
        assert pickle.loads(pickle.dumps(value)) == value
        assert copy.deepcopy(value) == value


def test_the_library_leaves_the_collection_of_garbage_to_whoever_runs_it(tmp_path):
    """Watched while a table is read, compiled and checked."""
    import gc

    rows = "".join(f'["k{number}", "c"],\n' for number in range(3_000))
    (tmp_path / "tables").mkdir()
    (tmp_path / "book.toml").write_text("")
    (tmp_path / "tables/t.toml").write_text(f'inputs.k = "text"\noutputs.y = "text"\nrows = [\n{rows}]\n')
    seen: set[bool] = set()
    watch = threading.Event()

    def look():
        while not watch.is_set():
            seen.add(gc.isenabled())

    thread = threading.Thread(target=look)
    thread.start()
    kivvet.open_book(tmp_path).check()
    watch.set()
    thread.join()
    assert seen == {True}
