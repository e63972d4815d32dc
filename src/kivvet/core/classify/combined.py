"""Results of several rows that match at once, made one: ``match = "every"``."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa

from kivvet.core.columns.arrays import Array
from kivvet.core.columns.convert import arrow_type
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.table import UNFINISHED, Table, value_or_none
from kivvet.core.words.values import Value


class Combined:
    """Makes the columns of one output, where each outcome may stand for several rows.

    Results that are missing or blank do not count. Where no row matches, `missing` and `otherwise` give
    the one result there is.
    """

    def __init__(self, table: Table, output: Output) -> None:
        self.table = table
        self.output = output
        position = [output.name for output in table.outputs].index(output.name)
        self.results = [row.results[position] for row in table.rows]
        self.otherwise, self.missing = table.otherwise.get(output.name), table.missing.get(output.name)
        self.classes = [str(class_) for class_ in table.classes(output)]

    def made(self, name: str, outcomes: Array, sets: Sequence[tuple[int, ...]]) -> dict[str, MadeColumn]:
        """Return the columns made of outcomes, by name."""
        of_outcome = [
            *(self.of_rows((row,)) for row in range(len(self.results))),
            [] if self.otherwise is None else [self.otherwise],
            None if self.missing is None else [self.missing],  # nothing is known: neither none nor any
            *map(self.of_rows, sets),
        ]
        places = pa.array(outcomes)
        if self.output.combine == "flags":
            return {
                column: MadeColumn(
                    column,
                    values=pa.array(
                        [None if each is None else one in map(str, each) for each in of_outcome], pa.bool_()
                    ).take(places),
                )
                for column, one in zip(self.table.names_made(self.output, name), self.classes, strict=True)
            }
        if self.output.combine == "join":
            texts = [
                self.output.separator.join(dict.fromkeys(map(str, each or []))) or None for each in of_outcome
            ]
            classes = list(dict.fromkeys(text for text in texts if text is not None))
            code_of = {text: code for code, text in enumerate(classes)}
            codes = np.array([-1 if text is None else code_of[text] for text in texts], np.int32)
            return {name: MadeColumn(name, pa.array(classes, pa.string()), codes[outcomes])}
        return {name: MadeColumn(name, values=self._values(of_outcome).take(places))}

    def of_rows(self, rows: Sequence[int]) -> list[Value]:
        """Return the results of some rows; where all are still to be filled in, the one for all others."""
        results = [self.results[row] for row in rows]
        if self.otherwise is not None and all(result is UNFINISHED for result in results):
            return [self.otherwise]
        return [one for result in results if (one := value_or_none(result)) is not None]

    def _values(self, of_outcome: Sequence[list[Value] | None]) -> pa.Array:
        kind = self.output.type
        combine = self.output.combine
        if combine == "count":
            return pa.array([None if each is None else len(each) for each in of_outcome], pa.int64())
        if combine == "list":
            inner = pa.decimal128(38, 10) if kind == "decimal" else arrow_type(kind)
            plain = [
                None if each is None else [float(one) if kind == "number" else one for one in each]  # type: ignore[arg-type]
                for each in of_outcome
            ]
            return pa.array(plain, pa.list_(inner))
        work: Any = {"sum": lambda each: sum(map(Decimal, each)), "min": min, "max": max}[combine]
        made = [work(each) if each else None for each in of_outcome]
        if kind == "number":
            return pa.array([None if one is None else float(one) for one in made], pa.float64())
        if kind == "integer":
            return pa.array([None if one is None else int(one) for one in made], pa.int64())
        if kind == "decimal":
            return (
                pa.array(made)
                if any(one is not None for one in made)
                else pa.nulls(len(made), pa.decimal128(1, 0))
            )
        return pa.array(made, arrow_type(kind))
