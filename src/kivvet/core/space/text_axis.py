"""Texts on a line: folded, cut by length and shape into bands, each with its own cuts."""

from __future__ import annotations

from collections.abc import Iterable
from decimal import Decimal

from kivvet.core.space.axes import Axis, Band
from kivvet.core.space.shapes import TextSpace, after_prefix, prefix_interval
from kivvet.core.words.conditions import (
    AllOf,
    AnyOf,
    CodeRange,
    Condition,
    Equals,
    Negation,
    StartsWith,
    write_bound,
    write_condition,
    write_literal,
)
from kivvet.core.words.regions import (
    EVERYTHING,
    LOW,
    Cut,
    Intervals,
    Region,
    after,
    before,
)
from kivvet.core.words.values import (
    Value,
    fold_text,
)

_EVERY_LENGTH = Band(1, None)


class TextAxis(Axis):
    """Texts by code point, in bands of length where code ranges ask for one, folded where asked."""

    def __init__(
        self,
        domain: Condition | None,
        conditions: Iterable[Condition] = (),
        shape: str = "",
        folds: tuple[str, ...] = (),
    ) -> None:
        self.folds = folds
        self.shape = shape
        self.space = TextSpace(shape, is_folded="case" in folds)
        self.bands = _bands(conditions if domain is None else (*conditions, domain), len(shape))
        self.n_bands = len(self.bands)
        super().__init__(domain)
        self.is_limited = self.is_limited or bool(shape)

    def default_domain(self) -> Region:
        return Region(tuple(EVERYTHING if band.is_shaped else () for band in self.bands))

    def region(self, condition: Condition) -> Region:
        if type(condition) is Equals:
            text = str(condition.value) if not self.folds else self.fold(str(condition.value))
            return Region((((before(text), after(text)),),) * self.n_bands)
        if isinstance(condition, StartsWith):
            return self.everywhere(prefix_interval(self.fold(condition.prefix)))
        if isinstance(condition, CodeRange):
            low_prefix, high_prefix = self.fold(condition.lower), self.fold(condition.upper)
            low = before(low_prefix) if condition.lower_closed else after_prefix(low_prefix)
            high = after_prefix(high_prefix) if condition.upper_closed else before(high_prefix)
            intervals: Intervals = ((low, high),) if low < high else ()
            return Region(
                tuple(
                    intervals if band.is_shaped and band.shortest >= len(low_prefix) else ()
                    for band in self.bands
                )
            )
        return super().region(condition)

    def fold(self, text: str) -> str:
        return fold_text(text, self.folds) if self.folds else text

    def place(self, value: Value) -> str:
        return self.fold(str(value))

    def witness(self, band: int, low: Cut, high: Cut) -> Value | None:
        if low >= high:
            return None
        bounds = self.bands[band]
        if low[1] and not low[2] and not self.shape and bounds == _EVERY_LENGTH:
            return str(low[1])  # the bound itself: most cells of long mappings
        if bounds.is_shaped:
            found = self.space.first_text(low, high, bounds.shortest, bounds.longest)
            return None if found is None else self.space.readable(found, low, high)
        found = self.space.first_without_shape("\0" if low == LOW else str(low[1]) + ("\0" if low[2] else ""))
        if found is None or before(found) >= high:
            return None
        readable = self.space.readable(found, low, high)
        return found if self.has_shape(readable) else readable

    def is_in(self, text: str, band: Band) -> bool:
        """Whether `text` (folded) is one of the texts of a band."""
        fits = band.shortest <= len(text) and (band.longest is None or len(text) <= band.longest)
        return fits and self.has_shape(text) is band.is_shaped

    def has_shape(self, text: str) -> bool:
        """Whether `text` (folded) begins as the declared shape says; True without one."""
        return self.space.has_shape(text)

    def write_place(self, place: int | Decimal | str) -> str:
        return write_bound(str(place))

    def write_point(self, place: int | Decimal | str) -> str:
        return write_literal(str(place))

    def write_interval(self, low: Cut, high: Cut) -> str:
        if self.shape and (codes := self._write_codes(low, high)):
            return codes
        if low != LOW and low[1] and (low, high) == prefix_interval(str(low[1])) and not low[2]:
            return write_condition(StartsWith(str(low[1])))
        return super().write_interval(low, high)

    def _write_codes(self, low: Cut, high: Cut) -> str | None:
        """Return the interval as a range of whole codes, where it is one among texts of the shape."""
        length = len(self.shape)
        first = self.space.first_text(low, high, length, length)
        last = self.space.last_code(high)
        if first is None or last is None or last < first:
            return None
        if self.space.first_text(low, before(first), 1, None) is not None:
            return None
        if self.space.first_text(after_prefix(last), high, 1, None) is not None:
            return None
        if first == last:
            return write_condition(StartsWith(first))
        return write_condition(CodeRange(first, True, last, True))

    def is_uniform(self, region: Region) -> bool:
        """Whether the region is the same in every band of the shape, so that intervals say it all."""
        shaped = [one for one, band in zip(region.bands, self.bands, strict=True) if band.is_shaped]
        return all(one == shaped[0] for one in shaped)


def _bands(conditions: Iterable[Condition], shape_length: int) -> tuple[Band, ...]:
    lengths = sorted({k for condition in conditions for k in _code_lengths(condition) if k > shape_length})
    starts = [max(1, shape_length), *(k for k in lengths if k > 1)]
    ends = [*(start - 1 for start in starts[1:]), None]
    shaped = [Band(start, end) for start, end in zip(starts, ends, strict=True)]
    return (*([Band(1, None, is_shaped=False)] if shape_length else []), *shaped)


def _code_lengths(condition: Condition) -> Iterable[int]:
    match condition:
        case CodeRange(lower):
            yield len(lower)
        case Negation(part):
            yield from _code_lengths(part)
        case AnyOf(parts) | AllOf(parts):
            for part in parts:
                yield from _code_lengths(part)
