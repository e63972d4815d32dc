"""Reading ahead and writing behind: in order, bounded, and the first error is told where it belongs."""

from __future__ import annotations

import threading
import time

import pyarrow as pa
import pytest

from kivvet.io.queued import QueuedTarget, read_ahead
from kivvet.io.source_and_target import Target


class Slow(Target):
    def __init__(self, breaks_at=None):
        self.written, self.state, self.breaks_at = [], "open", breaks_at

    def write(self, columns):
        time.sleep(0.002)
        if len(self.written) == self.breaks_at:
            raise OSError(28, "No space left on device")
        self.written.append(columns[0][0].as_py())

    def commit(self, seal):
        self.state = seal("hash")

    def abandon(self):
        self.state = "abandoned"


def batch(number):
    return [pa.array([number])]


def test_batches_are_written_in_order_and_before_the_commit():
    inner = Slow()
    target = QueuedTarget(inner)
    for number in range(20):
        target.write(batch(number))
    target.commit(lambda found: {"hash": found})
    assert inner.written == list(range(20)) and inner.state == {"hash": "hash"}
    assert not target.thread.is_alive()


@pytest.mark.parametrize("breaks_at", [0, 3, 9])
def test_an_error_of_writing_is_raised_where_the_next_batch_is_written_or_at_the_end(breaks_at):
    inner = Slow(breaks_at)
    target = QueuedTarget(inner)
    with pytest.raises(OSError, match="No space left"):
        for number in range(10):
            target.write(batch(number))
        target.commit(lambda found: {"hash": found})
    target.abandon()
    assert inner.written == list(range(breaks_at)) and inner.state == "abandoned"
    assert not target.thread.is_alive()


def test_what_waits_is_left_out_when_a_target_is_abandoned():
    inner = Slow()
    target = QueuedTarget(inner)
    for number in range(3):
        target.write(batch(number))
    target.abandon()
    assert inner.state == "abandoned" and len(inner.written) <= 3


def test_batches_are_read_in_order_and_not_far_ahead():
    read = []

    def batches():
        for number in range(50):
            read.append(number)
            yield number

    for number in read_ahead(batches()):
        time.sleep(0.001)
        assert read[-1] - number <= 4
        assert number == read[number]
    assert len(read) == 50


def test_an_error_of_reading_comes_after_the_batches_before_it():
    def batches():
        yield 1
        yield 2
        raise ValueError("line 3 is broken")

    seen = []
    with pytest.raises(ValueError, match="line 3"):
        for number in read_ahead(batches()):
            seen.append(number)
    assert seen == [1, 2]


def test_whoever_has_enough_leaves_no_thread_behind():
    def batches():
        yield from range(1_000_000)

    for number in read_ahead(batches()):
        if number == 3:
            break
    deadline = time.monotonic() + 5
    while any(thread.name == "reading" for thread in threading.enumerate()):
        assert time.monotonic() < deadline
        time.sleep(0.01)
