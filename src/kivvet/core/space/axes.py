"""An axis places the values of one input on a line: conditions become regions, regions become text.

Every axis answers exactly three questions: which region a condition accepts, whether there is a
value between two cuts (and which: the witness), and how an interval is written as a condition.
"""

from __future__ import annotations

import datetime as dt
import math
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction

from kivvet.core.words.conditions import (
    AllOf,
    AnyOf,
    AnyValue,
    Between,
    Condition,
    Equals,
    IsMissing,
    IsPresent,
    Negation,
    write_condition,
)
from kivvet.core.words.regions import (
    EVERYTHING,
    HIGH,
    LOW,
    Cut,
    Interval,
    Region,
    after,
    before,
    union,
)
from kivvet.core.words.values import (
    NANOSECONDS_A_DAY,
    Value,
    date_of_days,
    days_since_epoch,
    microseconds_since_epoch,
    moment_of_nanoseconds,
    write_decimal,
    write_value,
)


@dataclass(frozen=True, slots=True)
class Band:
    """The texts of some lengths (both included; None has no limit), of the shape or not."""

    shortest: int
    longest: int | None
    is_shaped: bool = True


class Axis:
    """The common part: regions from conditions, by way of the cuts at both ends of a range."""

    n_bands = 1
    #: Where gaps are sought; `is_limited` says whether it is less than every value.
    domain: Region
    is_limited = False

    def __init__(self, domain: Condition | None) -> None:
        self.present = Region((EVERYTHING,) * self.n_bands)
        self.domain = self.default_domain()
        if domain is not None:
            self.is_limited = True
            self.domain = (self.region(domain) & self.domain).without_missing()

    def default_domain(self) -> Region:
        return self.present

    def region(self, condition: Condition) -> Region:
        """Return what the condition accepts."""
        if type(condition) is Equals:  # nearly all of long tables
            return self.everywhere(
                (self.lower_cut(condition.value, True), self.upper_cut(condition.value, True))
            )
        match condition:
            case AnyValue():
                return Region(self.present.bands, missing=True)
            case IsPresent():
                return self.present
            case IsMissing():
                return Region(((),) * self.n_bands, missing=True)
            case Negation(part):
                return self.region(part).other_present()
            case AnyOf(parts):
                regions = [self.region(part) for part in parts]
                bands = zip(*(region.bands for region in regions), strict=True)
                return Region(
                    tuple(union(*band) for band in bands), any(region.missing for region in regions)
                )
            case AllOf(parts):
                region = self.region(parts[0])
                for part in parts[1:]:
                    region &= self.region(part)
                return region
            case Between(lower, lower_closed, upper, upper_closed):
                low = LOW if lower is None else self.lower_cut(lower, lower_closed)
                high = HIGH if upper is None else self.upper_cut(upper, upper_closed)
                return self.everywhere((low, high))
            case _:
                raise TypeError(f"{write_condition(condition)} is a condition on text")

    def everywhere(self, interval: Interval) -> Region:
        """Return the interval in every band; nothing where its ends cross."""
        return Region((() if interval[0] >= interval[1] else (interval,),) * self.n_bands)

    def lower_cut(self, value: Value, closed: bool) -> Cut:
        place = self.place(value)
        return before(place) if closed else after(place)

    def upper_cut(self, value: Value, closed: bool) -> Cut:
        place = self.place(value)
        return after(place) if closed else before(place)

    def place(self, value: Value) -> int | Decimal | str:
        """Return where a value lies on the line."""
        raise NotImplementedError

    def witness(self, band: int, low: Cut, high: Cut) -> Value | None:
        """Return a value of the band between two cuts; None if, surely, there is none."""
        raise NotImplementedError

    def write_interval(self, low: Cut, high: Cut) -> str:
        """Return the interval as a condition."""
        if low == LOW and high == HIGH:
            return "present"
        if low == LOW:
            return f"{'<=' if high[2] else '<'} {self.write_cut(high)}"
        if high == HIGH:
            return f"{'>' if low[2] else '>='} {self.write_cut(low)}"
        if low[1] == high[1]:
            return self.write_point(low[1])
        return (
            f"{'>' if low[2] else ''}{self.write_cut(low)} to {'' if high[2] else '<'}{self.write_cut(high)}"
        )

    def write_cut(self, cut: Cut) -> str:
        """Return the value of a cut as the end of a range."""
        return self.write_place(cut[1])

    def write_place(self, place: int | Decimal | str) -> str:
        raise NotImplementedError

    def write_point(self, place: int | Decimal | str) -> str:
        return self.write_place(place)

    def write_region(self, region: Region) -> str:
        """Return the region as one condition; parts of it in which no value lies are left out."""
        bands = range(self.n_bands)
        held = [
            pair for pair in region.bands[-1] if any(self.witness(band, *pair) is not None for band in bands)
        ]
        parts = [self.write_interval(low, high) for low, high in held]
        return " | ".join([*parts, *(["missing"] if region.missing else [])])


class NumberAxis(Axis):
    """Numbers: continuous, or multiples of a step counted from an offset."""

    def __init__(
        self, domain: Condition | None, step: Decimal | None = None, offset: Decimal = Decimal(0)
    ) -> None:
        self.step = Fraction(step) if step is not None else None
        self.offset = Fraction(offset)
        super().__init__(domain)

    def place(self, value: Value) -> Decimal:
        return Decimal(value)  # type: ignore[arg-type]

    def write_place(self, place: int | Decimal | str) -> str:
        return write_decimal(Decimal(place))

    def witness(self, band: int, low: Cut, high: Cut) -> Value | None:
        if low >= high:
            return None
        if self.step is not None:
            return self._multiple_between(self.step, low, high)
        if low != LOW and low[2] == 0:
            return Decimal(low[1])
        if high != HIGH and high[2] == 1:
            return Decimal(high[1])
        if low == LOW or high == HIGH:
            if low != LOW:
                return exact_decimal(math.ceil(low[1]) + 1)
            return exact_decimal(math.floor(high[1]) - 1 if high != HIGH else 0)
        if low[1] >= high[1]:
            return None
        return simplest_between(Fraction(low[1]), Fraction(high[1]))

    def _multiple_between(self, step: Fraction, low: Cut, high: Cut) -> Decimal | None:
        first = last = None
        if low != LOW:
            place = (Fraction(low[1]) - self.offset) / step
            first = math.floor(place) + 1 if low[2] else math.ceil(place)
        if high != HIGH:
            place = (Fraction(high[1]) - self.offset) / step
            last = math.floor(place) if high[2] else math.ceil(place) - 1
        if first is not None and last is not None and first > last:
            return None
        chosen = first if first is not None else last if last is not None else 0
        return exact_decimal(self.offset + chosen * step)


def exact_decimal(value: Fraction | int) -> Decimal:
    """Return a fraction whose denominator divides a power of ten as the decimal it is."""
    fraction = Fraction(value)
    digits = 0
    while fraction.denominator != 1:
        fraction *= 10
        digits += 1
    figures = tuple(map(int, str(abs(fraction.numerator))))
    return Decimal((int(fraction < 0), figures, -digits))


def simplest_between(low: Fraction, high: Fraction) -> Decimal:
    """Return a decimal of few digits strictly between two numbers, near their middle."""
    middle = (low + high) / 2
    digits = -max(0, len(str(abs(math.floor(middle)))) - 1)
    while True:
        scale = Fraction(10) ** digits
        candidate = Fraction(round(middle * scale)) / scale
        if low < candidate < high:
            return exact_decimal(candidate)
        digits += 1


class WholeAxis(Axis):
    """Types whose values are counted: integers, days, false and true."""

    def __init__(self, domain: Condition | None, kind: str) -> None:
        self.kind = kind
        super().__init__(domain)

    def default_domain(self) -> Region:
        if self.kind == "boolean":
            return Region((((before(0), before(2)),),))
        return self.present

    def lower_cut(self, value: Value, closed: bool) -> Cut:
        place = self.place(value)
        return before(math.ceil(place) if closed else math.floor(place) + 1)

    def upper_cut(self, value: Value, closed: bool) -> Cut:
        place = self.place(value)
        return before(math.floor(place) + 1 if closed else math.ceil(place))

    def place(self, value: Value) -> int | Decimal:
        if isinstance(value, dt.date):
            return days_since_epoch(value)
        return value  # type: ignore[return-value]

    def witness(self, band: int, low: Cut, high: Cut) -> Value | None:
        if self.kind == "boolean":
            low, high = max(low, before(0)), min(high, before(2))
        if low >= high:
            return None
        number = low[1] if low != LOW else high[1] - 1 if high != HIGH else 0
        return self.value_of(int(number))

    def value_of(self, number: int) -> Value | None:
        if self.kind == "boolean":
            return bool(number)
        return date_of_days(number) if self.kind == "date" else number

    def write_place(self, place: int | Decimal | str) -> str:
        value = self.value_of(int(place))
        return str(place) if value is None else write_value(value)

    def write_interval(self, low: Cut, high: Cut) -> str:
        if self.kind == "boolean":
            held = [word for number, word in enumerate(("false", "true")) if low <= before(number) < high]
            return held[0] if len(held) == 1 else "present"
        if low == LOW and high == HIGH:
            return "present"
        if high == HIGH:
            return f">= {self.write_place(low[1])}"
        if low == LOW:
            return f"< {self.write_place(high[1])}"
        first, last = int(low[1]), int(high[1]) - 1
        return (
            self.write_place(first)
            if first == last
            else f"{self.write_place(first)} to {self.write_place(last)}"
        )


class SignAxis(WholeAxis):
    """The sign of a difference: -1, 0 or 1, and nothing else."""

    def default_domain(self) -> Region:
        return Region((((before(-1), before(2)),),))

    def witness(self, band: int, low: Cut, high: Cut) -> Value | None:
        return super().witness(band, max(low, before(-1)), min(high, before(2)))


class DatetimeAxis(Axis):
    """Moments, in nanoseconds, the finest unit that data has; a date is its whole day."""

    def lower_cut(self, value: Value, closed: bool) -> Cut:
        if isinstance(value, dt.datetime):
            return super().lower_cut(value, closed)
        assert isinstance(value, dt.date)
        return before((days_since_epoch(value) + (not closed)) * NANOSECONDS_A_DAY)

    def upper_cut(self, value: Value, closed: bool) -> Cut:
        if isinstance(value, dt.datetime):
            return super().upper_cut(value, closed)
        assert isinstance(value, dt.date)
        return before((days_since_epoch(value) + closed) * NANOSECONDS_A_DAY)

    def place(self, value: Value) -> int:
        assert isinstance(value, dt.datetime)
        return microseconds_since_epoch(value) * 1_000

    def witness(self, band: int, low: Cut, high: Cut) -> Value | None:
        """Return a moment between two cuts, of whole microseconds where there is one."""
        first = int((high[1] - 1 if high != HIGH else 0) if low == LOW else low[1] + low[2])
        whole = first // 1_000 * 1_000 if low == LOW else -(-first // 1_000) * 1_000
        if before(whole) >= high:
            whole = first
        if before(whole) >= high:
            return None
        return moment_of_nanoseconds(whole)  # type: ignore[return-value]

    def write_interval(self, low: Cut, high: Cut) -> str:
        """Return the interval; a whole day as its date."""
        if (
            low != LOW
            and not low[2]
            and low[1] % NANOSECONDS_A_DAY == 0
            and high == before(low[1] + NANOSECONDS_A_DAY)
        ):
            return self.write_cut(low)
        return super().write_interval(low, high)

    def write_cut(self, cut: Cut) -> str:
        """Return the date for the cut before a day's first moment, else the moment."""
        place, side = int(cut[1]), cut[2]
        day = date_of_days(place // NANOSECONDS_A_DAY)
        if side == 0 and place % NANOSECONDS_A_DAY == 0 and day is not None:
            return write_value(day)
        return self.write_place(place)

    def write_place(self, place: int | Decimal | str) -> str:
        moment = moment_of_nanoseconds(int(place))
        return (
            str(place if moment is None else moment)
            if not isinstance(moment, dt.date)
            else write_value(moment)
        )


class SteppedWholeAxis(WholeAxis):
    """Whole numbers or days of which only every n-th occurs."""

    def __init__(self, domain: Condition | None, kind: str, step: int, offset: int) -> None:
        self.step = step
        self.offset = offset
        super().__init__(domain, kind)

    def witness(self, band: int, low: Cut, high: Cut) -> Value | None:
        if low >= high:
            return None
        if low != LOW:
            number = int(low[1])
            number += (self.offset - number) % self.step
        elif high != HIGH:
            number = int(high[1]) - 1
            number -= (number - self.offset) % self.step
        else:
            number = self.offset
        return self.value_of(number) if low <= before(number) < high else None
