"""Reading calls of functions: of one row, of the rows of a window, and aggregates."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any, Literal, cast

from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.functions import (
    AGGREGATES,
    FUNCTIONS,
    MEANT,
    NEED_ORDER,
    OF_GROUPS,
    ORDERED_SETS,
    TAKE_FRAMES,
)
from kivvet.core.formulas.tree import Call, Constant, Frame, OrderItem, Tree, Window, walk
from kivvet.core.words.values import FOLDS
from kivvet.core.words.wording import did_you_mean, listed

_UNBOUNDED = Decimal("Infinity")


def start_of(tree: Any) -> int:
    """Return where a lark tree or token begins."""
    if hasattr(tree, "start_pos"):
        return int(tree.start_pos or 0)
    return int(getattr(getattr(tree, "meta", None), "start_pos", 0) or 0)


class CallReader(ABC):
    """Turns lark's calls of functions into ours.

    Attributes
    ----------
    of_groups : bool
        Whether aggregates stand without OVER (see `parse_formula`).
    """

    of_groups: bool

    @abstractmethod
    def read(self, tree: Any) -> Tree:
        """Return what a tree of lark means."""

    @abstractmethod
    def value(self, tree: Any) -> Tree:
        """Return a part that is compared or worked with."""

    @abstractmethod
    def condition(self, tree: Any) -> Tree:
        """Return a part that must be true, false or unknown."""

    def _call(self, tree: Any, parts: Sequence[Any]) -> Tree:
        name, given = self.called(tree)
        if FUNCTIONS[name].is_window:
            return self._grouped(tree, None, None)
        if name == "FOLD":
            for one in given[1:]:
                if not (isinstance(one, Constant) and one.value in FOLDS):
                    raise FormulaError(
                        "FOLD is told what does not count",
                        getattr(one, "at", 0),
                        f"one or more of {listed(map(repr, FOLDS))}",
                    )
        return Call(name, given, start_of(tree))

    def _call_of_rows(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return self._grouped(tree, None, None)

    _call_of_distinct = _call_of_rows

    def _aggregate(self, tree: Any, parts: Sequence[Any]) -> Tree:
        within, where = (None, parts[1]) if parts[1].data == "filter" else (parts[1], parts[2])
        return self._grouped(parts[0], within, where)

    def _grouped(self, call: Any, within: Any, where: Any) -> Tree:
        """Return a call without OVER of a function that looks at several rows: an aggregate, where such are meant."""
        made = self._of_rows(call, within, where)
        at = start_of(call)
        if not self.of_groups:
            raise FormulaError(
                f"{made.name}{'(*)' if made.name == 'COUNT' and not made.parts else ''} needs OVER, which says over which rows",
                at,
                f"{made.name}({'*' if made.name == 'COUNT' else '...'}) OVER (PARTITION BY ...)",
            )
        if made.name not in AGGREGATES:
            raise FormulaError(
                f"{made.name} gives no value for a group of rows",
                at,
                f"a summary takes {listed(sorted(AGGREGATES), 20)}",
            )
        self._refuse_within(made, made.parts)
        return made

    def _of_rows(self, call: Any, within: Any, where: Any) -> Window:
        """Return a call of a function that looks at several rows, with what WITHIN GROUP and FILTER say."""
        name, given = self.called(call)
        at = start_of(call)
        if call.data == "call_of_distinct" and name != "COUNT":
            raise FormulaError(
                f"{name} takes no DISTINCT",
                at,
                "only COUNT(DISTINCT x) does" if name not in ("MIN", "MAX") else f"{name}(x) is the same",
            )
        if (within is not None) != (name in ORDERED_SETS):
            if within is None:
                raise FormulaError(
                    f"{name} is told by WITHIN GROUP what it orders",
                    at,
                    f"{name}(0.9) WITHIN GROUP (ORDER BY x)",
                )
            raise FormulaError(f"{name} takes no WITHIN GROUP", start_of(within))
        if where is not None and name not in AGGREGATES:
            raise FormulaError(
                f"{name} takes no FILTER", start_of(where), f"{listed(sorted(AGGREGATES), 20)} do"
            )
        if name in ORDERED_SETS:
            share = given[0].value if isinstance(given[0], Constant) else None
            if not isinstance(share, Decimal) or not 0 <= share <= 1:
                raise FormulaError(f"{name} takes a share from 0 to 1", at, "0.5 for the one in the middle")
        return Window(
            name,
            given,
            at=at,
            within=None if within is None else self.order_item(within.children[0]),
            where=None if where is None else self.condition(where.children[0]),
            is_distinct=call.data == "call_of_distinct",
        )

    def _refuse_within(self, window: Window, inner: Sequence[Tree]) -> None:
        """Raise where a function of rows stands within another."""
        more = [] if window.within is None else [window.within.part]
        for part in (*inner, *more, *([] if window.where is None else [window.where])):
            for node in walk(part):
                if isinstance(node, Window):
                    raise FormulaError(
                        f"{node.name} stands within {window.name}",
                        node.at,
                        "give the inner one a name of its own in formulas.toml",
                    )

    def called(self, tree: Any) -> tuple[str, tuple[Tree, ...]]:
        """Return the name of a function and its arguments; an error where there is no such function or too
        few or many.
        """
        token = tree.children[0]
        name = str(token).upper()
        function = FUNCTIONS.get(name)
        if function is None:
            meant = f"write {MEANT[name]}" if name in MEANT else did_you_mean(name, FUNCTIONS)
            raise FormulaError(
                f"no function {str(token)!r}",
                start_of(token),
                meant or "docs/formulas.md lists all functions",
            )
        if tree.data == "call_of_rows":
            if name != "COUNT":
                raise FormulaError(f"{name}(*) has no meaning", start_of(token), f"{name}(column)")
            return name, ()
        given = tuple(self.value(child) for child in tree.children[1:] if child is not None)
        least, most = len(function.takes) - function.n_optional, len(function.takes)
        if name == "COUNT" and not given:
            raise FormulaError("COUNT counts rows as COUNT(*), or a column", start_of(token), "COUNT(*)")
        if len(given) < least or (len(given) > most and not function.repeats):
            wanted = (
                f"{least}"
                if least == most
                else f"{least} or more"
                if function.repeats
                else f"{least} to {most}"
            )
            raise FormulaError(
                f"{name} takes {wanted} argument{'' if wanted == '1' else 's'}, and has {len(given)}",
                start_of(token),
                f"for example {function.example}",
            )
        return name, given

    def _window(self, tree: Any, parts: Sequence[Any]) -> Tree:
        call, within, where, partition, order, frame = parts
        at = start_of(tree)
        name, _ = self.called(call)
        if not FUNCTIONS[name].is_window:
            raise FormulaError(f"{name} takes no OVER", at, "it is worked out for each row by itself")
        called = self._of_rows(call, within, where)
        if self.of_groups:
            raise FormulaError(
                f"{name} OVER gives a value for each row, and one for each group is wanted",
                at,
                "leave OVER out, or give the formula a name of its own in formulas.toml",
            )
        keys = () if partition is None else tuple(self.value(child) for child in partition.children)
        items = () if order is None else tuple(map(self.order_item, order.children))
        if name in NEED_ORDER and not items:
            raise FormulaError(f"{name} needs an order", at, f"{name}(...) OVER (... ORDER BY ...)")
        if order is not None and (name in OF_GROUPS or called.is_distinct):
            said = f"{name}(DISTINCT ...)" if called.is_distinct else name
            raise FormulaError(
                f"{said} looks at the whole group, in no order", start_of(order), "leave ORDER BY out of OVER"
            )
        made = None if frame is None else self.frame(frame)
        if made is not None and (name not in TAKE_FRAMES or called.is_distinct):
            raise FormulaError(
                f"{name} takes no {made.unit.upper()}", start_of(frame), "it looks at the whole group"
            )
        is_distance = made is not None and any(
            one and not one.is_infinite() for one in (made.start, made.end)
        )
        if made is not None and made.unit == "range" and is_distance and len(items) != 1:
            raise FormulaError("RANGE with a distance needs one expression in ORDER BY", start_of(frame))
        window = replace(called, partition=keys, order=items, frame=made, at=at)
        self._refuse_within(window, (*called.parts, *keys, *(item.part for item in items)))
        return window

    def order_item(self, tree: Any) -> OrderItem:
        part, direction, place = tree.children
        return OrderItem(
            self.value(part),
            direction is not None and str(direction).upper() == "DESC",
            place is not None and str(place).upper() == "FIRST",
        )

    def frame(self, tree: Any) -> Frame:
        unit = cast("Literal['rows', 'range']", str(tree.children[0]).lower())
        start = self.bound(tree.children[1])
        end = self.bound(tree.children[2]) if len(tree.children) > 2 else Decimal(0)
        if start > end or start == _UNBOUNDED or end == -_UNBOUNDED:
            raise FormulaError(
                "the frame ends before it starts", start_of(tree), "the earlier bound stands first"
            )
        if unit == "rows" and any(one.is_finite() and one != int(one) for one in (start, end)):
            raise FormulaError("ROWS are counted in whole numbers", start_of(tree))
        return Frame(unit, start, end)

    def bound(self, tree: Any) -> Decimal:
        if tree.data == "current":
            return Decimal(0)
        way = -1 if str(tree.children[-1]).upper() == "PRECEDING" else 1
        return way * (_UNBOUNDED if tree.data == "unbounded" else Decimal(str(tree.children[0])))
