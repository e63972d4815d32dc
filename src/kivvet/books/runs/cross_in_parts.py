"""A cross-table counted in parts: each file of the source by itself, anywhere; what they came to is merged in their order."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from kivvet.books.runs.cross_tables import Counted, CrossAsked
from kivvet.books.runs.in_parts import Engine, Job, jobs_of, not_in_parts
from kivvet.books.runs.prepare import Prepared
from kivvet.core.run.cross_table import CrossTable
from kivvet.core.words.errors import DataError, KivvetError, TableError
from kivvet.core.words.places import Place

OnRows = Callable[[int], None]


@dataclass(frozen=True)
class CrossShared:
    """What all parts need: the cross-table, and what is run with the source of the first part."""

    ready: CrossAsked
    prepared: Prepared


def crossed_in_parts(ready: CrossAsked, engine: Engine, on_rows: OnRows) -> CrossTable:
    """Return the cross-table, the same as of one pass over all.

    Raises
    ------
    BookError
        If the source is not in parts.
    TableError, DataError
        If a part cannot be read; which.
    """
    prepared = ready.prepared
    sources = prepared.source.in_parts()
    if sources is None:
        raise not_in_parts(prepared, None)
    first = replace(prepared, source=sources[0])
    asked = replace(ready.asked, prepared=replace(ready.asked.prepared, source=sources[0]))
    shared = CrossShared(replace(ready, asked=asked), first)
    counts, jobs, _ = jobs_of(prepared, sources, shared, engine, on_rows)
    done: dict[int, Counted] = {}
    for number, counted in engine(count_cross, shared, jobs):
        if isinstance(counted, KivvetError):
            raise counted
        done[number] = counted
        on_rows(counted.n_rows)
    in_order = [done[number] for number in sorted(done)]
    if [one.n_rows for one in in_order] != counts:
        raise DataError("changed while it was read", place=Place(prepared.source.shown_name), fix="ask again")
    if faults := [fault for one in in_order for fault in one.faults]:
        raise TableError(faults)
    whole, *rest = in_order
    for one in rest:
        whole.crossing.merge(one.crossing)
    return ready.result(replace(whole, left_out=sum(one.left_out for one in in_order)))


def count_cross(shared: CrossShared, job: Job) -> tuple[int, Counted | KivvetError]:
    """Read and count one part; why it cannot be done is told in what it came to."""
    try:
        prepared = replace(shared.prepared, source=job.source)
        return job.number, shared.ready.counted(prepared, job.known)
    except KivvetError as error:
        return job.number, error
