"""Reading ahead and writing behind, each on a thread of its own, a few batches apart, so that memory stays bounded."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

import pyarrow as pa

from kivvet.io.parted_target import PartedTarget, WrittenPart
from kivvet.io.source_and_target import Seal, Target

Batch = TypeVar("Batch")
_MOST_WAITING = 1
_MOST_WRITTEN = 1


class QueuedTarget(Target):
    """A target that is written on a thread of its own.

    The first error of that thread is raised where the next batch is written, or where the target is committed; what
    waits is then left out.
    """

    def __init__(self, inner: Target) -> None:
        self.inner = inner
        self.waiting: queue.Queue[Sequence[pa.Array] | pa.Schema | None] = queue.Queue(_MOST_WRITTEN)
        self.error: BaseException | None = None
        self.is_abandoned = False
        self.thread = threading.Thread(target=self._work, name="writing", daemon=True)
        self.thread.start()

    def _work(self) -> None:
        while (next_one := self.waiting.get()) is not None:
            if self.error is None and not self.is_abandoned:
                try:
                    if isinstance(next_one, pa.Schema):
                        self.inner.begin_later(next_one)
                    else:
                        self.inner.write(next_one)
                except BaseException as error:  # whatever it is, it is raised where the batches come from
                    self.error = error

    def _end(self) -> None:
        if self.thread.is_alive():
            self.waiting.put(None)
            self.thread.join()

    def _tell(self) -> None:
        if self.error is not None:
            raise self.error

    def write(self, columns: Sequence[pa.Array]) -> None:
        self._tell()
        self.waiting.put(columns)

    def begin_later(self, schema: pa.Schema) -> None:
        self._tell()
        self.waiting.put(schema)

    def commit(self, seal: Seal) -> None:
        self._end()
        if self.error is not None:
            self.inner.abandon()
        self._tell()
        self.inner.commit(seal)

    def written_parts(self) -> list[WrittenPart]:
        """Return the files that were written of a target of many, which do not count yet."""
        self._end()
        if self.error is not None:
            self.inner.abandon()
        self._tell()
        assert isinstance(self.inner, PartedTarget)
        return self.inner.written_parts()

    def abandon(self) -> None:
        self.is_abandoned = True
        self._end()
        self.inner.abandon()


def read_ahead(batches: Iterator[Batch]) -> Iterator[Batch]:
    """Yield batches, the next of which are read meanwhile on a thread of its own; an error comes in its place."""
    waiting: queue.Queue[tuple[Batch | None, BaseException | None]] = queue.Queue(_MOST_WAITING)
    is_left = threading.Event()

    def put(item: tuple[Batch | None, BaseException | None]) -> None:
        while not is_left.is_set():
            try:
                waiting.put(item, timeout=0.1)
            except queue.Full:
                continue
            return

    def work() -> None:
        try:
            for batch in batches:
                put((batch, None))
                if is_left.is_set():
                    return
            put((None, None))
        except BaseException as error:  # whatever it is, it is raised where the batches are used
            put((None, error))

    thread = threading.Thread(target=work, name="reading", daemon=True)
    thread.start()
    try:
        while True:
            batch, error = waiting.get()
            if error is not None:
                raise error
            if batch is None:
                return
            yield batch
    finally:
        is_left.set()
        thread.join()


class Behind:
    """Work that is done on a thread of its own while the next is made ready; one error ends it, where the next is begun."""

    def __enter__(self) -> Behind:
        self._pool = ThreadPoolExecutor(1, "looking")
        self._begun: list[Future[None]] = []
        return self

    def do(self, work: Sequence[Callable[[], None]]) -> None:
        """Begin some work, when all that was begun before has come to its end."""
        for one in self._begun:
            one.result()
        self._begun = [self._pool.submit(one) for one in work]

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        try:
            if kind is None:
                self.do(())
        finally:
            self._pool.shutdown(cancel_futures=True)
