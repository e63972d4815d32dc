"""Window functions: for each row a value of the rows of its group, as the SQL standard (ISO/IEC 9075) has it.

Where the standard leaves the order open, between rows that are equal in ORDER BY, rows stand as they do in
the source.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from decimal import Decimal

import numpy as np

from kivvet.core.calculate.arithmetic import OVERFLOW, Note
from kivvet.core.calculate.comparing import common, ranks_of
from kivvet.core.calculate.equal_counts import MOST_PARTS, equal_counts
from kivvet.core.calculate.frames import extreme_between, frame_bounds, total_between
from kivvet.core.calculate.group_values import aggregated
from kivvet.core.calculate.groups import Groups, Order
from kivvet.core.calculate.vectors import Vector, as_kind, as_number, either, without_empty
from kivvet.core.calculate.window_totals import first_of_group, first_rows, integer_frames
from kivvet.core.columns.arrays import Array, Places, taken
from kivvet.core.columns.column import BoolArray
from kivvet.core.formulas.functions import AGGREGATES
from kivvet.core.formulas.tree import Comparison, Constant, Tree, Window, write_formula
from kivvet.core.words.values import FOLDS, fold_text

_MOST_NAMES = 20_000  # of groups that are held against each other
#: Gives the values of an expression for all rows.
Work = Callable[[Tree], Vector]


@dataclass(frozen=True)
class WindowNotes:
    """What deserves a look in how rows were grouped and ordered.

    Attributes
    ----------
    without_group, without_order : int
        Rows with a missing partition or order value.
    split_ties : int
        Rows equal in the order that NTILE put into different parts.
    spellings : tuple of tuples of str
        Groups whose names differ only by case, blanks or Unicode form: the different ways to write each.
    misspelt : int
        Rows in these groups, but for the largest of each.
    """

    without_group: int = 0
    without_order: int = 0
    split_ties: int = 0
    spellings: tuple[tuple[str, ...], ...] = ()
    misspelt: int = 0


class WindowMaker:
    """Works out windows over the whole of the rows; orders and groups that several share are made once.

    Parameters
    ----------
    work : callable
    n_rows : int
    among : ndarray of bool, shape (n_rows,), or None
        The rows that take part; others get missing.
    note : callable
    """

    def __init__(self, work: Work, n_rows: int, among: BoolArray | None, note: Note) -> None:
        self.rows = None if among is None or among.all() else np.flatnonzero(among)
        self.n_all = n_rows
        self.n_rows = n_rows if self.rows is None else len(self.rows)
        self._work = work
        self._note = note
        self.notes: dict[Window, WindowNotes] = {}
        self._made: dict[str, Vector] = {}
        self._groups: dict[tuple[Tree, ...], Groups] = {}
        self._orders: dict[object, Order] = {}
        self._split_ties: dict[Window, int] = {}

    def work(self, tree: Tree) -> Vector:
        """Return the values of an expression for the rows that take part; each is worked out, and noted,
        once.
        """
        text = write_formula(tree)
        if text not in self._made:
            made = self._work(tree)
            self._made[text] = made if self.rows is None else made.take(self.rows)
        return self._made[text]

    def note(self, cause: str, rows: BoolArray) -> None:
        """Note values without a result, by their places among all rows."""
        if self.rows is not None:
            everywhere = np.zeros(self.n_all, bool)
            everywhere[self.rows] = rows
            rows = everywhere
        self._note(cause, rows)

    def made(self, window: Window) -> Vector:
        """Return the values of a window function for all rows."""
        vector = self._of_window(window).of_rows(self.n_rows)
        self.notes[window] = self._notes_of(window, vector)
        return self._for_all(vector)

    def first(self, window: Window) -> Vector:
        """Return for each row whether a RANK or ROW_NUMBER is 1, without sorting."""
        self.notes[window] = self._notes_of(window, None)
        if not window.order:
            return self._for_all(Vector("boolean", first_rows(self._group_of(window), self.n_rows)))
        made = first_of_group(
            self._group_of(window),
            self.work(window.order[0].part),
            self.n_rows,
            ties=window.name != "ROW_NUMBER",
        )
        return self._for_all(Vector("boolean", made))

    def _for_all(self, vector: Vector) -> Vector:
        if self.rows is None:
            return vector
        values = np.zeros(self.n_all, vector.values.dtype)
        values[self.rows] = vector.values
        missing = np.ones(self.n_all, bool)
        missing[self.rows] = vector.missing_rows(self.n_rows)
        return replace(vector, values=values, missing=missing)

    def _notes_of(self, window: Window, made: Vector | None) -> WindowNotes:
        def gone(trees: list[Tree]) -> int:
            rows: BoolArray | None = None
            for tree in trees:
                vector = self.work(tree)
                vector = without_empty(vector) if vector.kind == "text" else vector
                rows = either(rows, vector.missing)
            if rows is None:
                return 0
            return int(np.count_nonzero(np.broadcast_to(rows, self.n_rows)))

        ties = self._split_ties.get(window, 0)
        if window.name == "NTILE" and made is not None and window not in self._split_ties:
            order = self._order_of(window)
            parts = made.values[order.rows]
            split = ~order.peers[1:] & (parts[1:] != parts[:-1])
            if split.any():
                first = np.unique(order.peer_starts[np.flatnonzero(split) + 1])
                ties = int((order.peer_ends[first] - first).sum())
        spellings, misspelt = self._spellings(window)
        return WindowNotes(
            gone(list(window.partition)), gone([one.part for one in window.order]), ties, spellings, misspelt
        )

    def _spellings(self, window: Window) -> tuple[tuple[tuple[str, ...], ...], int]:
        """Return the names of groups that are probably one, and the rows in all but the largest of each."""
        found: list[tuple[str, ...]] = []
        n_rows = 0
        for tree in window.partition:
            vector = self.work(tree).of_rows(self.n_rows)
            if vector.kind != "text" or vector.distinct is None or len(vector.distinct) > _MOST_NAMES:
                continue
            held = vector.values if vector.missing is None else vector.values[~vector.missing]
            rows = np.bincount(held, minlength=len(vector.distinct))
            folded: dict[str, list[tuple[int, str]]] = {}
            for text, n in zip(vector.texts(), rows.tolist(), strict=True):
                if n and text:
                    folded.setdefault(fold_text(text, FOLDS), []).append((-n, text))
            for same in (sorted(one) for one in folded.values() if len(one) > 1):
                found.append(tuple(text for _, text in same))
                n_rows -= sum(n for n, _ in same[1:])
        return tuple(found), n_rows

    def _group_of(self, window: Window) -> Groups:
        if window.partition not in self._groups:
            self._groups[window.partition] = Groups.of(
                [self.work(one) for one in window.partition], self.n_rows
            )
        return self._groups[window.partition]

    def _order_of(self, window: Window) -> Order:
        key = (window.partition, window.order)
        if key not in self._orders:
            keys = [(self.work(one.part), one.is_descending, one.nulls_first) for one in window.order]
            self._orders[key] = Order(self._group_of(window), keys, self.n_rows)
        return self._orders[key]

    def _of_window(self, window: Window) -> Vector:
        name = window.name
        if name in AGGREGATES or name in ("FIRST_VALUE", "LAST_VALUE"):
            return self._aggregate(window)
        if name == "NTILE" and (made := self._equal_counts(window)) is not None:
            return made
        order = self._order_of(window)
        if name == "RANK":
            return Vector("integer", order.ranks())
        place = np.arange(self.n_rows)
        within = place - order.group_starts
        match name:
            case "ROW_NUMBER":
                return Vector("integer", order.spread(within + 1))
            case "DENSE_RANK":
                passed = np.cumsum(order.peers)
                return Vector(
                    "integer",
                    order.spread(passed - passed[order.group_starts] + 1 if self.n_rows else passed),
                )
            case "PERCENT_RANK":
                size = order.group_ends - order.group_starts
                rank = order.peer_starts - order.group_starts
                with np.errstate(invalid="ignore", divide="ignore"):
                    return Vector("number", order.spread(np.where(size > 1, rank / (size - 1), 0.0)))
            case "CUME_DIST":
                size = order.group_ends - order.group_starts
                return Vector("number", order.spread((order.peer_ends - order.group_starts) / size))
            case "NTILE":
                return self._parts(window, order, within)
        return self._neighbour(window, order, place)

    def _equal_counts(self, window: Window) -> Vector | None:
        """Return a few parts of equal counts over all rows without sorting them; None where that is not
        asked.
        """
        (number,) = window.parts
        if (
            window.partition
            or len(window.order) != 1
            or not isinstance(number, Constant)
            or not isinstance(number.value, Decimal)
        ):
            return None
        (item,) = window.order
        key = self.work(item.part)
        if (
            not 1 <= number.value <= MOST_PARTS
            or key.kind in ("text", "boolean")
            or key.is_single
            or self.n_rows < 2 * number.value
        ):
            return None
        parts, ties = equal_counts(
            key, int(number.value), is_descending=item.is_descending, nulls_first=item.nulls_first
        )
        self._split_ties[window] = ties
        return Vector("integer", parts)

    def _parts(self, window: Window, order: Order, within: Places) -> Vector:
        """Return parts of equal counts: the first ones have one row more where the rows do not divide."""
        wanted = self.work(window.parts[0]).of_rows(self.n_rows)
        number = wanted.values[order.rows]
        bad = np.asarray(number < 1)
        number = np.where(bad, 1, number)
        size = order.group_ends - order.group_starts
        small, larger = size // number, size % number  # so many in each part, and so many parts with one more
        edge = larger * (small + 1)
        beyond = np.where(small > 0, larger + (within - edge) // np.maximum(small, 1), 0)
        parts = np.where(within < edge, within // (small + 1), beyond) + 1
        missing = wanted.missing_rows(self.n_rows) | order.spread(bad)
        if bad.any():
            self.note("NTILE of less than one part", order.spread(bad) & ~wanted.missing_rows(self.n_rows))
        return Vector("integer", order.spread(parts), missing if missing.any() else None)

    def _neighbour(self, window: Window, order: Order, place: Places) -> Vector:
        values = self.work(window.parts[0])
        step = (
            as_kind(self.work(window.parts[1]), "integer").of_rows(self.n_rows)
            if len(window.parts) > 1
            else None
        )
        distance = np.ones(self.n_rows, np.int64) if step is None else step.values[order.rows]
        distance = np.clip(distance, -self.n_rows - 1, self.n_rows + 1)
        wanted = place - distance if window.name == "LAG" else place + distance
        inside = (wanted >= order.group_starts) & (wanted < order.group_ends)
        source = order.rows[np.where(inside, wanted, 0)] if self.n_rows else order.rows
        by_row, there = order.spread(source), order.spread(inside)
        if len(window.parts) > 2:
            values, default = common([values, self.work(window.parts[2])])
            from kivvet.core.calculate.evaluate import merged

            rows = np.flatnonzero(there), np.flatnonzero(~there)
            made = merged(
                [
                    (rows[0], values.of_rows(self.n_rows).take(by_row[rows[0]])),
                    (rows[1], default.of_rows(self.n_rows).take(rows[1])),
                ],
                self.n_rows,
            )
        else:
            made = values.of_rows(self.n_rows).take(by_row)
            made = replace(made, missing=made.missing_rows(self.n_rows) | ~there)
        if step is not None and step.missing is not None:
            made = replace(made, missing=made.missing_rows(self.n_rows) | step.missing)
        return made

    # Aggregates

    def _aggregate(self, window: Window) -> Vector:
        whole = (
            window.frame is not None and window.frame.start.is_infinite() and window.frame.end.is_infinite()
        )
        is_all = whole or (not window.order and window.frame is None)
        if is_all and window.name in AGGREGATES:
            return self._of_groups(window)
        values = self._framed(window)
        order = self._order_of(window)
        first, end = frame_bounds(
            window.frame,
            order,
            self.work(window.order[0].part) if window.order else None,
            is_descending=bool(window.order) and window.order[0].is_descending,
        )
        if window.name in ("FIRST_VALUE", "LAST_VALUE"):
            assert values is not None
            at = first if window.name == "FIRST_VALUE" else end - 1
            empty = end <= first
            source = order.rows[np.clip(at, 0, max(self.n_rows - 1, 0))] if self.n_rows else order.rows
            made = values.take(order.spread(source))
            return replace(made, missing=made.missing_rows(self.n_rows) | order.spread(empty))
        return self._of_frames(window.name, order, values, first, end)

    def _framed(self, window: Window) -> Vector | None:
        """Return the values that an aggregate of frames looks at; None where it counts rows."""
        values = self.work(window.parts[0]).of_rows(self.n_rows) if window.parts else None
        if values is not None and values.kind == "text":
            values = without_empty(values)
        if window.where is None:
            return values
        if values is None:
            values = Vector("boolean", np.zeros(self.n_rows, bool))
        return replace(values, missing=either(values.missing, ~self.truth(window.where)))

    def _of_groups(self, window: Window) -> Vector:
        """Return for each row the value of its group."""
        groups = self._group_of(window)
        found = aggregated(window, groups, self.work, self.truth, self.n_rows)
        made, numbers = found.vector, groups.numbers
        for cause, bad in found.no_result.items():
            self.note(cause, taken(bad, numbers))
        missing = made.missing
        if missing is not None and not missing.any():
            missing = None
        gone = None if missing is None else taken(missing, numbers)
        if gone is not None and not gone.any():
            gone = None
        return replace(made, values=taken(made.values, numbers), missing=gone)

    def truth(self, condition: Tree) -> BoolArray:
        """Return the rows that take part for which a condition is true."""
        made = self.work(condition).of_rows(self.n_rows)
        return np.asarray(made.values if made.missing is None else made.values & ~made.missing)

    def _without_nan(self, vector: Vector) -> Vector:
        """Return a vector whose totals of opposite infinities are missing."""
        nan = np.isnan(vector.values)
        if not nan.any():
            return vector
        new = nan if vector.missing is None else nan & ~vector.missing
        if new.any():
            self.note("no number", new)
        return replace(vector, missing=nan if vector.missing is None else nan | vector.missing)

    def _of_frames(
        self, name: str, order: Order, values: Vector | None, first: Places, end: Places
    ) -> Vector:
        end = np.maximum(first, end)
        if values is None:
            return Vector("integer", order.spread(end - first))
        missing = values.missing_rows(self.n_rows)[order.rows]
        counts = total_between((~missing).astype(np.int64), first, end)
        if name == "COUNT":
            return Vector("integer", order.spread(counts))
        empty = order.spread(counts == 0)
        gone = empty if empty.any() else None
        if name in ("MIN", "MAX"):
            if values.kind == "text":
                assert values.distinct is not None
                ranks = ranks_of(values.distinct)
                code_of = np.zeros(int(ranks.max(initial=0)) + 1, np.int64)
                code_of[ranks] = np.arange(len(ranks))
                best = extreme_between(
                    ranks[values.values][order.rows], missing, first, end, is_least=name == "MIN"
                )
                best = np.clip(best, 0, len(code_of) - 1)
                return Vector("text", order.spread(code_of[best]), gone, values.distinct)
            plain = values.values.astype(np.int8) if values.kind == "boolean" else values.values
            best = order.spread(
                extreme_between(plain[order.rows], missing, first, end, is_least=name == "MIN")
            )
            return Vector(
                values.kind, best.astype(bool) if values.kind == "boolean" else best, gone, tz=values.tz
            )
        if values.kind == "integer" and name == "SUM":
            numbers = np.where(missing, 0, values.values[order.rows])
            whole, beyond = integer_frames(numbers, first, end)
            if beyond.any():
                bad = order.spread(beyond)
                self.note(OVERFLOW, bad)
                gone = bad if gone is None else gone | bad
            return Vector("integer", order.spread(whole), gone)
        numbers = np.where(missing, 0.0, as_number(values)[order.rows])
        totals: Array = total_between(numbers, first, end)
        if name == "AVG":
            with np.errstate(invalid="ignore", divide="ignore"):
                totals = totals / counts
        return self._without_nan(Vector("number", order.spread(totals), gone))


def is_first(tree: Tree) -> tuple[Window, bool] | None:
    """Return the window and whether it is to be 1, where a comparison asks just that of a place in a simple
    order.
    """
    match tree:
        case Comparison(operator, Window(name, _, _, items) as window, Constant(value)) if (
            name in ("RANK", "ROW_NUMBER", "DENSE_RANK")
            and value == 1
            and not isinstance(value, bool)
            and operator in ("=", ">", "<>", "<=")
        ):
            is_as_it_stands = not items and name == "ROW_NUMBER"
            is_simple = len(items) == 1 and not (items[0].is_descending or items[0].nulls_first)
            return (window, operator in ("=", "<=")) if is_as_it_stands or is_simple else None
    return None
