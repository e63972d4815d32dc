"""The column of a computed input: how a comparison or a condition in `when` comes out for each row of data."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from kivvet.core.calculate.evaluate import Evaluator
from kivvet.core.calculate.whole_steps import Steps
from kivvet.core.columns.column import Column, NumericColumn
from kivvet.core.tables.table import ComputedInput


def computed_column(test: ComputedInput, columns: Mapping[str, Column], steps: Steps) -> Column:
    """Return the column of a computed input, made from the columns it reads.

    Parameters
    ----------
    steps : mapping of str to (Decimal, Decimal)
        Of the inputs of its table (`Table.steps`).
    """
    if test.compared is None and test.whole is None:
        return columns[test.about.name]
    n_rows = len(columns[test.reads[0]])
    evaluator = Evaluator(columns.__getitem__, n_rows, steps=steps)
    if test.compared is not None:
        signs, missing = evaluator.signs(*test.compared)
        return NumericColumn("integer", signs, ~missing if missing.any() else None)
    assert test.whole is not None
    yes, no = evaluator.truth(test.whole)
    known = yes | no
    return NumericColumn("boolean", yes.view(np.uint8), None if known.all() else known)
