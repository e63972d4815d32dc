"""A user's script as `mypy --strict` sees it: what goes in decides what comes out, and nothing is Any."""

from __future__ import annotations

from typing import assert_type

import pandas as pd

import kivvet


class FrameOfAnyLibrary:
    """A frame of some other library, which gives an Arrow stream."""


def on_frames(table: kivvet.RuleTable, frame: pd.DataFrame, other: FrameOfAnyLibrary) -> None:
    assert_type(table.apply(frame), pd.DataFrame)
    assert_type(table.apply(other), FrameOfAnyLibrary)
    assert_type(table.apply_with_report(frame), kivvet.Applied[pd.DataFrame])
    assert_type(table.apply_with_report(frame).report.tables, tuple[kivvet.TableReport, ...])
    assert_type(kivvet.with_formulas(frame, {"load": "flow * nitrate"}), pd.DataFrame)
    assert_type(kivvet.look(frame), kivvet.Look)
    assert_type(kivvet.draft(frame, "ph"), kivvet.RuleTable)
    assert_type(table.check(), kivvet.Report)
    assert_type(table.explain({"ph": 7}), kivvet.Explanation)
    assert_type(table.inputs, tuple[kivvet.Input, ...])
    assert_type(table.drafted, kivvet.DraftReport | None)


def on_a_book(frame: pd.DataFrame) -> None:
    book = kivvet.open_book("river-survey")
    assert_type(book, kivvet.Book)
    assert_type(book.tables["ph_class"], kivvet.RuleTable)
    assert_type(book.apply(frame, ["ph_class"]), pd.DataFrame)
    assert_type(book.apply_with_report(frame, ["ph_class"]), kivvet.Applied[pd.DataFrame])
    assert_type(book.apply_dataset("samples"), kivvet.ApplyReport)
    assert_type(book.status(), kivvet.Several[kivvet.DatasetStatus])
    assert_type(book.status()[0].reasons[0].changes, tuple[kivvet.Change, ...])
    assert_type(book.refresh(), kivvet.Several[kivvet.Refreshed])
    assert_type(book.unmatched(), kivvet.Several[kivvet.Unmatched])
    assert_type(book.explain("samples", 1), kivvet.Several[kivvet.Explanation])
    assert_type(book.look("samples"), kivvet.Look)
    assert_type(book.draft("warmth", "samples", column="temperature"), kivvet.Drafted)
    assert_type(book.extend("method", "samples"), kivvet.Drafted)
    assert_type(book.formula("flow * 2", "samples"), kivvet.Trial)
    assert_type([finding.kind for finding in book.check()], list[str])
