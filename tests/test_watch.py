"""Targets follow as files are saved: what is wrong is told and the last good target stays, until it is stopped."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from threading import Event, Thread, Timer

import pytest

import kivvet
from tests.conftest import write_book

watchfiles = pytest.importorskip("watchfiles")


def change(path, before, after):
    text = path.read_text()
    assert before in text
    path.write_text(text.replace(before, after))


class Watching:
    """A book that is watched in a thread, its rounds as they come."""

    def __init__(self, folder):
        self.stop, self.rounds = Event(), []
        book = kivvet.open_book(folder)
        self.thread = Thread(target=lambda: self.rounds.extend([]) or self._run(book), daemon=True)
        self.thread.start()

    def _run(self, book):
        for one in book.watch(stop=self.stop, debounce=0.1):
            self.rounds.append(one)

    def until(self, is_there):
        ends = time.monotonic() + 20
        while time.monotonic() < ends:
            if found := [one for one in list(self.rounds) if is_there(one)]:
                return found[-1]
            time.sleep(0.05)
        raise AssertionError(self.rounds)

    def end(self):
        self.stop.set()
        self.thread.join(10)
        assert not self.thread.is_alive()


@pytest.fixture(scope="module", autouse=True)
def told_by_the_system(tmp_path_factory):
    """Skip where the file system of this machine tells nobody what was saved."""
    folder = tmp_path_factory.mktemp("probe")
    Timer(0.5, lambda: (folder / "saved").write_text("x")).start()
    looks = watchfiles.watch(folder, rust_timeout=5_000, yield_on_timeout=True, debounce=100, step=50)
    if not next(looks):
        pytest.skip("the file system tells nothing of what is saved")
    looks.close()


def test_what_is_saved_is_followed_and_what_is_broken_keeps_the_last_good_target(tmp_path):
    folder = write_book(tmp_path / "b")
    watching = Watching(folder)
    try:
        first = watching.until(lambda one: one.done)
        target = folder / "out/samples.csv"
        assert first.done[0].report is not None and "acidic" in target.read_text()
        table = folder / "tables/ph_class.toml"
        change(table, "acidic", "sour")
        watching.until(lambda one: one.changed and one.done and one.done[0].report is not None)
        assert "sour" in target.read_text()
        good = target.read_bytes()
        whole = table.read_text()
        table.write_text(whole[: whole.index("neutral")])  # half saved
        broken = watching.until(lambda one: one.errors)
        assert "not valid TOML" in str(broken.errors["samples"]) and target.read_bytes() == good
        table.write_text(whole.replace("sour", "tart"))
        watching.until(lambda one: not one.errors and one.done and "tart" in target.read_text())
        (folder / "data/samples.csv").write_text((folder / "data/samples.csv").read_text() + "5,008,7,\n")
        watching.until(
            lambda one: one.done and one.done[0].report is not None and one.done[0].report.standing == 4
        )
        n_rounds = len(watching.rounds)
        time.sleep(0.6)
        assert len(watching.rounds) == n_rounds  # its own target is no reason to write again
    finally:
        watching.end()


def test_it_ends_cleanly_on_ctrl_c(tmp_path):
    folder = write_book(tmp_path / "b")
    process = subprocess.Popen(
        # What a shell starts in the background ignores the signal, unless it is told not to.
        ["env", "--default-signal=INT", sys.executable, "-m", "kivvet", "watch"],
        cwd=folder,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        env={**os.environ, "PYTHONUNBUFFERED": "1"},
    )
    too_long = threading.Timer(60, process.kill)
    too_long.start()
    told = ""
    while "4 rows" not in told and (line := process.stdout.readline()):
        told += line
    too_long.cancel()
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 0 and out.rstrip().endswith("stopped") and "Traceback" not in err
    assert "watching; Ctrl-C ends it" in told and "4 rows" in told and (folder / "out/samples.csv").exists()


def test_a_dataset_that_is_not_there_is_said_at_once(tmp_path, run):
    assert "did you mean 'samples'?" in run("watch", "sample", cwd=write_book(tmp_path / "b")).err
