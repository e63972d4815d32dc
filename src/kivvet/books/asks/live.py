"""A frame in memory whose new columns follow the rules of a book."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

import pyarrow.compute as pc

from kivvet.books.files.open_book import OpenBook, read_book
from kivvet.books.runs.fingerprints import all_fingerprints
from kivvet.books.runs.other_rules import OtherRules, rules_of
from kivvet.core.columns.column import (
    BoolArray,
    CodedColumn,
    Column,
    NumericColumn,
    TextColumn,
    missing_mask,
)
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.compare.change import Change
from kivvet.core.compare.compare import compared_rules
from kivvet.core.compare.comparison import Comparison
from kivvet.core.compare.standing import Rewritten, rewritten
from kivvet.core.read.options import Faults, Options
from kivvet.core.run.entries import names_used, parse_entries
from kivvet.core.run.frames import GivenFrame, as_frame, plan_for
from kivvet.core.run.impact import ColumnTally, DatasetImpact, Impact
from kivvet.core.run.plan import Plan
from kivvet.core.run.steps import Step
from kivvet.core.run.table_step import TableStep
from kivvet.core.run.value_texts import text_at
from kivvet.core.run.where import parse_where
from kivvet.core.words.errors import TableError

FrameT = TypeVar("FrameT")
#: Texts of that many rows are looked at, and kept as codes where one stands in so many of them.
_ROWS_TO_ENCODE = 100_000
_ROWS_A_TEXT = 4
OnChange = Callable[[Impact], None]


@dataclass
class _State:
    """What the rules came to at one time: the plan, the hash behind each column made, and these columns."""

    book: OpenBook
    plan: Plan
    keys: Mapping[str, str]
    made: dict[str, MadeColumn]
    n_worked_out: int  # columns that were worked out to get here


class Live(Generic[FrameT]):
    """A frame whose new columns follow the rules of a book. It is made by `Book.live`.

    Attributes
    ----------
    frame : the kind of frame that was given
        With the new columns, by the rules as they were when it was made or refreshed last. The frame that was given is
        not changed, and must not be changed by others.
    """

    def __init__(
        self,
        book: OpenBook,
        frame: FrameT,
        columns: Sequence[str | Mapping[str, Any]],
        where: str | None,
        on_change: OnChange | None,
    ) -> None:
        self._given: GivenFrame = as_frame(frame)
        self._entries, faults = parse_entries(columns)
        self._where = None
        if where is not None:
            options = Options({"where": where}, Faults())
            self._where = parse_where(options)
            faults += options.faults.found
        if faults:
            raise TableError(faults, where="the columns asked of a frame")
        self._on_change = on_change
        self._encoded: dict[str, Column] = {}
        plan = self._plan(book)
        keys = all_fingerprints(plan, {}, with_classes=True)
        self._state = self._worked_out(book, plan, keys, {}, set(keys))
        self.frame: FrameT = self._frame()

    def __repr__(self) -> str:
        return f"<Live: {len(self._given):,} rows, {len(self._state.plan.written)} columns of {self._state.book.title!r}>"

    @property
    def n_worked_out(self) -> int:
        """How many columns were worked out when it was made or refreshed last; the others stood."""
        return self._state.n_worked_out

    def refresh(self) -> Impact:
        """Read the book anew, work out the columns that depend on what changed, and return what changed.

        Raises
        ------
        BookError, TableError, DataError
            If the book cannot be read, or its rules have errors. The frame is then as it was.
        """
        before = self._state
        book = read_book(before.book.folder)
        for name, table in before.book.tables.items():  # with what was worked out of them
            if book.tables.get(name) == table and book.tables[name].place == table.place:
                book.tables[name] = table
        plan = self._plan(book)
        rules = rules_of(book, before.book)
        compared = {
            name: compared_rules(past, book.tables[name], "before") for name, past in rules.tables.items()
        }
        keys = all_fingerprints(plan, {}, _rewritten(rules, book, compared), with_classes=True)
        stale = {name for name, key in keys.items() if before.keys.get(name) != key}
        state = self._worked_out(book, plan, keys, before.made, stale)
        impact = self._impact(before, state, rules, compared, stale)
        self._state = state
        if stale or list(before.plan.written) != list(plan.written):
            self.frame = self._frame()
        if self._on_change is not None and not impact.is_nothing:
            self._on_change(impact)
        return impact

    def _plan(self, book: OpenBook) -> Plan:
        used = book.reached(*names_used(self._entries, self._where))
        faults = [
            finding
            for finding in book.reading_findings
            if finding.table in used and finding.severity == "error"
        ]
        if faults:
            raise TableError(faults, where="the columns asked of a frame")
        return plan_for(self._given, self._entries, book.tables, book.formulas, self._where)

    def _worked_out(
        self,
        book: OpenBook,
        plan: Plan,
        keys: Mapping[str, str],
        known: Mapping[str, MadeColumn],
        stale: set[str],
    ) -> _State:
        """Run the steps that make what is stale; what stands is taken as it is."""
        made: dict[str, MadeColumn] = {}
        n_worked_out = 0
        for step in plan.steps:
            if not stale.intersection(step.made_names):
                made.update({name: known[name] for name in step.made_names})
                continue
            stage = step.start(with_report=False, refuses_overlaps=True)
            source = self._coded if isinstance(step, TableStep) else self._given.column
            columns = step.columns_of(source, lambda name: made[name].as_column())
            made.update(stage.apply(columns, 0, len(self._given)))
            n_worked_out += len(step.made_names)
        return _State(book, plan, keys, made, n_worked_out)

    def _coded(self, name: str) -> Column:
        """Return a column of the frame; texts that repeat as codes, which are worked out once."""
        if name not in self._encoded:
            column = self._given.column(name)
            self._encoded[name] = column
            if isinstance(column, TextColumn) and len(column) >= _ROWS_TO_ENCODE:
                start = pc.dictionary_encode(column.values.slice(0, _ROWS_TO_ENCODE)).dictionary
                if len(start) * _ROWS_A_TEXT <= _ROWS_TO_ENCODE:
                    encoded = pc.dictionary_encode(column.values)
                    codes = pc.fill_null(encoded.indices, -1).to_numpy(zero_copy_only=False)
                    self._encoded[name] = CodedColumn(codes, TextColumn(encoded.dictionary))
        return self._encoded[name]

    def _kept(self, state: _State) -> BoolArray | None:
        if state.plan.where is None:
            return None
        column = state.made[state.plan.where].as_column()
        assert isinstance(column, NumericColumn)
        return column.values.astype(bool) & ~missing_mask(column)

    def _frame(self) -> FrameT:
        state = self._state
        written = {name: state.made[name] for name in state.plan.written}
        frame: FrameT = self._given.with_made(written, self._kept(state))
        return frame

    def _impact(
        self,
        before: _State,
        now: _State,
        rules: OtherRules,
        compared: Mapping[str, Comparison],
        stale: set[str],
    ) -> Impact:
        makers = {name: step for step in now.plan.steps for name in step.made_names}
        direct = {*rules.tables, *rules.formulas}
        kept = [self._kept(state) for state in (before, now)]
        both = None if kept[0] is None or kept[1] is None else kept[0] & kept[1]
        columns = []
        for name in now.plan.written:
            if name not in stale or name not in before.plan.written:
                continue
            maker = makers[name]
            tally = ColumnTally(name, maker.name, follows=maker.name not in direct)
            tally.see(before.made[name], now.made[name], both, 0, self._values_of(now, maker))
            columns.append(tally.result())
        added = tuple(name for name in now.plan.written if name not in before.plan.written)
        gone = tuple(name for name in before.plan.written if name not in now.plan.written)
        entering = leaving = 0
        if kept[0] is not None and kept[1] is not None:
            entering, leaving = int((kept[1] & ~kept[0]).sum()), int((kept[0] & ~kept[1]).sum())
        same = len(now.plan.written) - len(columns) - len(added)
        dataset = DatasetImpact(
            "frame", len(self._given), tuple(columns), added, gone, entering, leaving, same
        )
        formulas = tuple(
            Change(name, past.text, now.book.formulas[name].text) for name, past in rules.formulas.items()
        )
        return Impact("the rules before", tuple(compared.values()), formulas, (), (dataset,))

    def _values_of(self, state: _State, step: Step) -> Callable[[int], dict[str, str]]:
        def values(row: int) -> dict[str, str]:
            columns = step.columns_of(self._given.column, lambda name: state.made[name].as_column())
            return {name: text_at(one, row) for name, one in columns.items() if name in step.decides}

        return values


def _rewritten(rules: OtherRules, book: OpenBook, compared: Mapping[str, Comparison]) -> dict[str, Rewritten]:
    """Return the tables that only were written anew."""
    return {
        name: same
        for name, past in rules.tables.items()
        if (same := rewritten(past, book.tables[name], compared[name])) is not None
    }
