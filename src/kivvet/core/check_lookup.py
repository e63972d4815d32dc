"""Checking a lookup with one exact key: keys that are blank or repeated, rows still unfinished."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.findings import Finding, finding
from kivvet.errors import count, listed

if TYPE_CHECKING:
    from kivvet.core.lookup_rows import LookupRows
    from kivvet.core.tables import RuleTable

_MOST_KEYS = 100  # keys described one by one; the rest are counted


def check_lookup(table: RuleTable) -> list[Finding]:
    """Return the findings of a lookup's own rows."""
    rows = table.lookup
    assert rows is not None
    return [*_blank_keys(table, rows), *_repeated_keys(table, rows), *_unfinished(table, rows)]


def _of_rows(
    table: RuleTable, rows: LookupRows, kind: str, message: str, numbers: Sequence[int], **parts: object
) -> Finding:
    places = tuple(place for number in numbers[:20] if (place := rows.locate_row(number)) is not None)
    return finding(kind, message, table=table.name, rows=tuple(numbers), places=places, **parts)


def _blank_keys(table: RuleTable, rows: LookupRows) -> Iterable[Finding]:
    blank = [int(index) + 1 for index in np.flatnonzero(pc.is_null(rows.key, nan_is_null=True))]
    if blank:
        yield _of_rows(
            table, rows, "blank-key", f"{count(len(blank), 'row')} without a key in {table.inputs[0].name}: row {listed(blank)}",
            blank, remedy="fill in the key, or remove the row; a blank key matches nothing",
        )  # fmt: skip


def key_codes(key: pa.Array) -> tuple[np.ndarray, pa.Array]:
    """Return for each row the number of its key among the distinct ones (-1: blank), and those."""
    encoded = pc.dictionary_encode(key)
    return pc.fill_null(encoded.indices, -1).to_numpy(zero_copy_only=False), encoded.dictionary


def _repeated_keys(table: RuleTable, rows: LookupRows) -> Iterable[Finding]:
    codes, distinct = key_codes(rows.key)
    codes = codes[codes >= 0] if (codes < 0).any() else codes
    counts = np.bincount(codes, minlength=len(distinct))
    repeated = np.flatnonzero(counts > 1)
    if not len(repeated):
        return
    all_codes, _ = key_codes(rows.key)
    order = np.argsort(all_codes, kind="stable")
    starts = np.searchsorted(all_codes[order], repeated)
    described = 0
    left: dict[str, int] = {}
    name = table.inputs[0].name
    for code, start in zip(repeated, starts, strict=True):
        numbers = [int(i) + 1 for i in order[start : start + counts[code]]]
        results = [tuple(array[number - 1].as_py() for array in rows.results) for number in numbers]
        differing = [
            output.name for output, values in zip(table.outputs, zip(*results, strict=True), strict=True)
            if any(value != values[0] for value in values)
        ]  # fmt: skip
        kind = "conflict" if differing else "duplicate"
        if described >= _MOST_KEYS:
            left[kind] = left.get(kind, 0) + 1
            continue
        described += 1
        key = rows.shown_key[numbers[0] - 1].as_py()
        spellings = {rows.shown_key[number - 1].as_py() for number in numbers}
        folded = f" (written {listed(map(repr, sorted(spellings)))})" if len(spellings) > 1 else ""
        says = f"and differs in {listed(differing)}" if differing else "with the same results"
        yield _of_rows(
            table, rows, kind, f"the key {key!r}{folded} stands in rows {listed(numbers)} {says}", numbers,
            region={name: str(key)}, witness={name: str(key)},
            remedy="keep one row of each key" + ("" if differing and table.match == "one" else "; the first is used"),
            **({"severity": "warning"} if table.match == "first" else {}),
        )  # fmt: skip
    for kind, number in left.items():
        yield finding(
            kind, f"{count(number, 'more key')} repeated", table=table.name, remedy="keep one row of each key"
        )


def _unfinished(table: RuleTable, rows: LookupRows) -> Iterable[Finding]:
    is_blank = np.logical_and.reduce(
        [pc.is_null(array).to_numpy(zero_copy_only=False) for array in rows.results]
    )
    blank = [
        int(index) + 1
        for index in np.flatnonzero(is_blank & pc.is_valid(rows.key).to_numpy(zero_copy_only=False))
    ]
    if blank:
        keys = [repr(rows.shown_key[number - 1].as_py()) for number in blank[:5]]
        yield _of_rows(
            table, rows, "unfinished", f"{count(len(blank), 'row')} with a key and no results: {listed(keys, 5)}", blank,
            remedy="fill in the results",
        )  # fmt: skip
