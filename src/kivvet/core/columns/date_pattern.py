"""Dates and times written by a pattern, in the notation of POSIX `strptime`.

A pattern that says a month, a quarter (``%q``) or a week (``%G`` and ``%V`` of ISO 8601) stands for its first day. What a field must
look like is exact: numbers of one or two digits where the pattern has a number, names of months and
days in English (the POSIX locale), and nothing before or after. Years of two digits are 1969 to 2068, as POSIX says.
"""

from __future__ import annotations

import calendar
import datetime as dt
import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

_MONTHS = {name.lower(): number for number, name in enumerate(calendar.month_abbr) if name}
_MONTHS |= {name.lower(): number for number, name in enumerate(calendar.month_name) if name}
_DAYS = [name.lower() for name in (*calendar.day_name, *calendar.day_abbr)]
_SHORT = {"T": "%H:%M:%S", "D": "%m/%d/%y", "R": "%H:%M", "F": "%Y-%m-%d"}
#: By sign what it stands for, and the expression that its text fits.
_SIGNS = {
    "Y": ("year", r"\d{4}"),
    "y": ("short_year", r"\d{2}"),
    "m": ("month", r"\d{1,2}"),
    "d": ("day", r"\d{1,2}"),
    "e": ("day", r" ?\d{1,2}"),
    "j": ("day_of_year", r"\d{1,3}"),
    "q": ("quarter", r"[1-4]"),
    "G": ("week_year", r"\d{4}"),
    "V": ("week", r"\d{1,2}"),
    "u": ("weekday", r"[1-7]"),
    "H": ("hour", r"\d{1,2}"),
    "I": ("half_hour", r"\d{1,2}"),
    "M": ("minute", r"\d{1,2}"),
    "S": ("second", r"\d{1,2}"),
    "p": ("half", r"[AaPp][Mm]"),
    "b": ("month_name", "|".join(sorted(_MONTHS, key=len, reverse=True))),
    "a": ("", "|".join(sorted(_DAYS, key=len, reverse=True))),
}
_SIGNS |= {"B": _SIGNS["b"], "h": _SIGNS["b"], "A": _SIGNS["a"]}
#: Of a pattern of numbers that each have a fixed number of digits.
_WIDTHS = {"Y": 4, "m": 2, "d": 2, "H": 2, "M": 2, "S": 2}
#: Beside the year, what says a day, or of what the first day is meant.
_LOOKED_AT = 4_096  # fields, to see whether each is met but once
_DAY_WORDS = ({"month", "day"}, {"month"}, {"day_of_year"}, {"quarter"})
_WEEK_WORDS = ({"week_year", "week", "weekday"}, {"week_year", "week"})
_OF_DAYS = {"year", "short_year", "month", "day", "day_of_year", "quarter", "week_year", "week", "weekday"}


class PatternError(ValueError):
    """A pattern that cannot be used, and why."""


@dataclass(frozen=True)
class DatePattern:
    """A pattern made ready.

    Attributes
    ----------
    text : str
        As it was given.
    regex : re.Pattern
    has_time : bool
        Whether it says more than a day.
    places : tuple of (str, int)
        Of a pattern of fixed width, the signs with the place where each begins; empty for others.
    literals : tuple of (int, int)
        Of a pattern of fixed width, the places and bytes of what stands between.
    width : int
    """

    text: str
    regex: re.Pattern[str]
    has_time: bool
    places: tuple[tuple[str, int], ...]
    literals: tuple[tuple[int, int], ...]
    width: int

    def value(self, field: str) -> dt.datetime | None:
        """Return what a field says; None where it does not fit, or there is no such day or time."""
        match = self.regex.fullmatch(field)
        if match is None:
            return None
        found = {name: text for name, text in match.groupdict().items() if text is not None}
        hour = int(found.get("hour", 0))
        if "half_hour" in found:
            half_hour = int(found["half_hour"])
            if not 1 <= half_hour <= 12:
                return None
            hour = half_hour % 12 + (12 if found["half"].lower() == "pm" else 0)
        try:
            time = dt.time(hour, int(found.get("minute", 0)), int(found.get("second", 0)))
            day = _day(found)
        except (ValueError, OverflowError):
            return None
        return None if day is None else dt.datetime.combine(day, time)

    def convert(self, fields: pa.Array, type_: pa.DataType) -> tuple[pa.Array, npt.NDArray[np.bool_] | None]:
        """Return fields (trimmed, null where missing) as dates or times, null where one does not fit, and which do
        not (None: all do).
        """
        if self.places and not _repeats(fields) and (quick := self._by_places(fields, type_)) is not None:
            return quick, None
        encoded = pc.dictionary_encode(fields)
        if self.places and (quick := self._by_places(encoded.dictionary, type_)) is not None:
            return quick.take(encoded.indices), None
        values = [self.value(field) for field in encoded.dictionary.to_pylist()]
        distinct = pa.array(
            [value.date() if value is not None and pa.types.is_date(type_) else value for value in values],
            type_,
        )
        made = distinct.take(encoded.indices)
        if distinct.null_count == 0:
            return made, None
        bad = pc.and_(pc.is_null(made), pc.is_valid(fields))
        return made, np.asarray(bad.to_numpy(zero_copy_only=False))

    def _by_places(self, fields: pa.Array, type_: pa.DataType) -> pa.Array | None:
        """Return fields of fixed width, read digit by digit for all of them at once; None where one does not fit."""
        present = fields.drop_null() if fields.null_count else fields
        if not len(present):
            return pa.nulls(len(fields), type_)
        _, offsets, content = present.buffers()
        ends = np.frombuffer(offsets, np.int32, len(present) + 1, 4 * present.offset)
        if (np.diff(ends) != self.width).any():
            return None
        rows = np.frombuffer(content, np.uint8)[ends[0] : ends[-1]].reshape(-1, self.width)
        if any((rows[:, place] != byte).any() for place, byte in self.literals):
            return None
        nothing = np.zeros(1, np.int32)
        read: dict[str, npt.NDArray[np.int32]] = {}
        for sign, place in self.places:
            digits = rows[:, place : place + _WIDTHS[sign]] - np.uint8(ord("0"))
            if (digits > 9).any():
                return None
            value = digits[:, 0].astype(np.int32)
            for column in range(1, digits.shape[1]):
                value *= 10
                value += digits[:, column]
            read[sign] = value
        year, month, day = read["Y"], read["m"], read["d"]
        if (year < 1).any() or (month < 1).any() or (month > 12).any() or (day < 1).any():
            return None
        if any((read[sign] > most).any() for sign, most in (("H", 23), ("M", 59), ("S", 59)) if sign in read):
            return None
        months = (year - 1970) * 12 + month - 1
        earliest = int(months.min())
        every = np.arange(earliest, int(months.max()) + 2).astype("datetime64[M]").astype("datetime64[D]")
        firsts = every.astype(np.int64).astype(np.int32)  # of each month, the day that it begins with
        place_of_month = months - earliest
        if (day > np.diff(firsts)[place_of_month]).any():
            return None
        days = firsts[place_of_month] + day - 1
        if pa.types.is_date(type_):
            made = pa.array(days.astype(np.int32, copy=False)).view(pa.date32())
        else:
            hours, minutes, seconds_of = (read.get(sign, nothing) for sign in "HMS")
            seconds = days.astype(np.int64) * 86_400 + hours * 3_600 + minutes * 60 + seconds_of
            made = pa.array(seconds * 1_000_000).view(pa.timestamp("us"))
        if len(present) == len(fields):
            return made
        places = np.cumsum(fields.is_valid().to_numpy(zero_copy_only=False)) - 1
        return made.take(pa.array(places, mask=fields.is_null().to_numpy(zero_copy_only=False)))


def _repeats(fields: pa.Array) -> bool:
    """Whether fields seem to be met more than once, by a look at the first of them."""
    some = fields.slice(0, _LOOKED_AT)
    n_different = pc.count_distinct(some).as_py()
    return len(fields) > _LOOKED_AT and bool(n_different < 0.8 * len(some))


@cache
def date_pattern(text: str) -> DatePattern:
    """Return a pattern made ready.

    Raises
    ------
    PatternError
        If it has a sign that is not known, or does not say a whole day.
    """
    expanded = re.sub(r"%([TDRF])", lambda match: _SHORT[match[1]], text)
    parts: list[str] = []
    names: list[str] = []
    places: list[tuple[str, int]] = []
    literals: list[tuple[int, int]] = []
    at, is_fixed, index = 0, True, 0
    while index < len(expanded):
        sign = expanded[index]
        if sign != "%":
            if sign.isspace():
                parts.append(r"\s+")
            else:
                parts.append(re.escape(sign))
            is_fixed &= sign.isascii()
            literals.append((at, ord(sign)))
            at, index = at + 1, index + 1
            continue
        directive = expanded[index + 1 : index + 2]
        index += 2
        if directive == "%":
            parts.append("%")
            literals.append((at, ord("%")))
            at += 1
            continue
        if directive not in _SIGNS:
            raise PatternError(
                f"%{directive} is no sign of a pattern" if directive else "the pattern ends with %"
            )
        name, expression = _SIGNS[directive]
        if name in names:
            raise PatternError(f"%{directive} says the {name.replace('_', ' ')} twice")
        names += [name] if name else []
        parts.append(f"(?P<{name}>{expression})" if name else f"(?:{expression})")
        is_fixed &= directive in _WIDTHS
        places.append((directive, at))
        at += _WIDTHS.get(directive, 0)
    said = {"month" if name == "month_name" else name for name in names}
    of_days = said & _OF_DAYS
    has_year = bool(of_days & {"year", "short_year"})
    if not (has_year and of_days - {"year", "short_year"} in _DAY_WORDS) and of_days not in _WEEK_WORDS:
        raise PatternError(
            "a pattern says the year (%Y), the month (%m) and the day (%d); or that of which the first day is meant: a month, a "
            "quarter (%Y, %q), a week (%G, %V)"
        )
    if {"year", "short_year"} <= said or {"hour", "half_hour"} <= said:
        raise PatternError("a pattern says the year, and the hour, once")
    if ("half_hour" in said) != ("half" in said):
        raise PatternError("%I, an hour of 1 to 12, stands with %p, which says am or pm")
    has_time = bool(said & {"hour", "half_hour", "minute", "second"})
    if has_time and not of_days & {"day", "day_of_year", "weekday"}:
        raise PatternError("a pattern with the hour says the day too")
    if has_time and not said & {"hour", "half_hour"}:
        raise PatternError("a pattern with minutes says the hour too")
    return DatePattern(
        text,
        re.compile("".join(parts), re.IGNORECASE | re.ASCII),
        has_time,
        tuple(places) if is_fixed and of_days == {"year", "month", "day"} else (),
        tuple(literals),
        at,
    )


def _day(found: Mapping[str, str]) -> dt.date | None:
    """Return the day that the parts of a field say, or the first of what they say; ValueError where there is none."""
    if "week_year" in found:
        return dt.date.fromisocalendar(
            int(found["week_year"]), int(found["week"]), int(found.get("weekday", 1))
        )
    year = int(found["year"]) if "year" in found else _full_year(int(found["short_year"]))
    if "day_of_year" in found:
        day = dt.date(year, 1, 1) + dt.timedelta(int(found["day_of_year"]) - 1)
        return day if day.year == year else None
    if "quarter" in found:
        return dt.date(year, 3 * int(found["quarter"]) - 2, 1)
    month = _MONTHS[found["month_name"].lower()] if "month_name" in found else int(found["month"])
    return dt.date(year, month, int(found.get("day", 1)))


def _full_year(short: int) -> int:
    return 1900 + short if short >= 69 else 2000 + short
