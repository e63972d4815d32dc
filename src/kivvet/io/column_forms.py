"""Working out how the fields of a column are written: marks of numbers, patterns of dates, units, words for true and false; a few fields
that are of another kind are strays.
"""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from kivvet.core.columns.counting import FEWEST_BESIDE_A_STRAY, MOST_STRAYS
from kivvet.core.columns.date_pattern import date_pattern
from kivvet.core.columns.field_form import FieldForm, boolean_words
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import toml_key

#: Decimal mark and mark of thousands, the plainest first.
_MARKS = (
    (".", ""),
    (",", ""),
    (".", ","),
    (",", "."),
    (",", " "),
    (",", "\u00a0"),
    (",", "\u202f"),
    (".", " "),
    (".", "'"),
    (".", "’"),
)
_DATES = (
    "%d.%m.%Y",
    "%m.%d.%Y",
    "%m/%d/%Y",
    "%d/%m/%Y",
    "%Y/%m/%d",
    "%Y.%m.%d",
    "%Y%m%d",
    "%d-%m-%Y",
    "%m-%d-%Y",
    "%d.%m.%y",
    "%d/%m/%y",
    "%m/%d/%y",
    "%d %b %Y",
    "%d-%b-%Y",
    "%d-%b-%y",
    "%b %d, %Y",
    "%b %d %Y",
    "%d. %b %Y",
    "%d. %B %Y",
    "%B %d %Y",
    "%d %B %Y",
    "%B %d, %Y",
)
_TIMES = ("%H:%M:%S", "%H:%M", "%I:%M %p", "%I:%M:%S %p")
_PATTERNS = (*_DATES, *(f"{day} {time}" for day, time in itertools.product(_DATES, _TIMES)))
#: Parts of days and times that are kept as texts, what they are called, and the pattern that reads them as first days.
_KEPT_AS_TEXT = (
    (re.compile(r"\d{4}-(0[1-9]|1[0-2])"), "months", "%Y-%m"),
    (re.compile(r"\d{4}-?Q[1-4]"), "quarters", "%Y-Q%q"),
    (re.compile(r"\d{4}-W\d\d"), "weeks", "%G-W%V"),
    (re.compile(r"\d{4}-W\d\d-[1-7]"), "days of weeks", "%G-W%V-%u"),
    (re.compile(r"([01]?\d|2[0-3]):[0-5]\d(:[0-5]\d)?"), "times of day", ""),
)
_RANGE_OF_TIMES = '"06:00" to <"18:00"'
Marks = list[tuple[str, str]]
ISO_DATE = re.compile(r"\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:\.\d{1,6})?)?(?:Z|[+-]\d\d(?::?\d\d)?)?)?")
_WITH_UNIT = re.compile(
    r"(?P<before>[^\d\s.,'’+-]{0,8}?)\s*(?P<number>[+-]?[\d.,'’\u00a0\u202f ]*\d)\s*(?P<after>[^\d\s]{0,12})"
)


@dataclass(frozen=True)
class ColumnForm:
    """What was recognised of a column: its type and form, or why that is left open.

    Attributes
    ----------
    type : str
    form : FieldForm
    patterns : tuple of str
        Of dates, every pattern that fits; with several it is ambiguous, and none is taken.
    strays : tuple of str
        Up to three fields that are none of the type, where all others are.
    """

    type: ValueType
    form: FieldForm
    patterns: tuple[str, ...] = ()
    strays: tuple[str, ...] = ()

    @property
    def is_ambiguous(self) -> bool:
        return len(self.patterns) > 1


def forms_of_fields(texts: Sequence[str], kind: ValueType) -> list[FieldForm]:
    """Return the forms in which every one of some fields can be read as a type, the likeliest first."""
    if kind in ("date", "datetime"):
        wanted = kind == "datetime"
        return [
            FieldForm(pattern=pattern)
            for pattern in _fitting_patterns(texts, n_strays=0)[0]
            if date_pattern(pattern).has_time == wanted
        ]
    if kind == "boolean":
        pair = boolean_words(texts)
        return [] if pair is None else [FieldForm(true_words=(pair[0],), false_words=(pair[1],))]
    if kind in ("integer", "number", "decimal"):
        marks = _needed(fitting_marks(texts), texts)
        if marks:
            return [FieldForm(*pair) for pair in marks]
        unit = _unit(texts)
        if unit is not None:
            bare = [text.replace(unit, "").strip() for text in texts]
            return [FieldForm(*pair, unit=unit) for pair in _needed(fitting_marks(bare), bare)]
    return []


def _needed(marks: Marks, texts: Sequence[str]) -> Marks:
    """Return the marks that fields hold, so that none is said without need."""
    held = set().union(*texts)
    return [pair for pair in marks if not pair[1] or pair[1] in held]


def fields_by_column(
    names: Sequence[str], rows: Sequence[Sequence[str]]
) -> dict[str, tuple[list[str], Marks]]:
    """Return by column its different fields, and the marks with which all of them are numbers."""
    found = {}
    for at, name in enumerate(names):
        texts = list(dict.fromkeys(row[at].strip() for row in rows if at < len(row) and row[at].strip()))
        if texts and name:
            found[name] = texts, fitting_marks(texts)
    return found


def fitting_marks(texts: Sequence[str]) -> Marks:
    """Return the pairs of decimal mark and mark of thousands with which all fields are numbers."""
    fitting = []
    for decimal, thousands in _MARKS:
        grouped = rf"\d{{1,3}}(?:{re.escape(thousands)}\d{{3}})+|" if thousands else ""
        number = re.compile(
            rf"[+-]?(?:(?:{grouped}\d+)(?:{re.escape(decimal)}\d*)?|{re.escape(decimal)}\d+)(?:[eE][+-]?\d{{1,3}})?",
            re.ASCII,
        )
        if all(number.fullmatch(text) for text in texts):
            fitting.append((decimal, thousands))
    return fitting


def marks_of_file(columns: Mapping[str, tuple[list[str], Marks]]) -> tuple[str, str, str]:
    """Return the marks that suit most columns of numbers, the plainest first, and what could not be decided."""
    of_column = {name: marks for name, (_, marks) in columns.items() if marks}
    for name, (texts, marks) in columns.items():
        words = [text for text in texts if not any(sign.isdigit() for sign in text)]
        if not marks and 0 < len(words) <= _most_strays(texts):
            of_column[name] = fitting_marks([text for text in texts if text not in words])
        if not marks and (unit := _unit(texts)) is not None:
            of_column[name] = fitting_marks([text.replace(unit, "").strip() for text in texts])
    counted = Counter(pair for marks in of_column.values() for pair in marks)
    if not counted:
        return ".", "", ""
    most = max(counted.values())
    best = [pair for pair in _MARKS if counted[pair] == most]
    if best[0] == (",", "") and (".", ",") in best:  # 1,234 is either
        name, example = next(
            (name, text)
            for name, marks in of_column.items()
            if (".", "") not in marks
            for text in columns[name][0]
            if "," in text
        )
        return (
            ".",
            "",
            f'column {name} holds numbers such as {example}, in which the comma may be the decimal mark or stand between thousands: say decimal = "," or thousands = ","',
        )
    return *best[0], ""


def form_of_column(
    name: str, texts: Sequence[str], marks: Marks, of_file: tuple[str, str], *, are_all: bool = False
) -> tuple[ColumnForm | None, str]:
    """Return the form of a column where it has one of its own, and what could not be decided of it.

    Parameters
    ----------
    are_all : bool
        Whether these are all fields there are, not just those of a part of the file.
    """
    if marks:
        if all(re.fullmatch(r"\d{8}", text) for text in texts) and (days := _fitting_patterns(texts)[0]):
            return None, f"column {name} may hold dates written as {days[0]}, or whole numbers"
        if of_file in marks or _are_codes(texts):
            return None, ""
        return ColumnForm("number", FieldForm(*marks[0])), ""
    if all(ISO_DATE.fullmatch(text) for text in texts):
        return None, ""
    patterns, strays = _fitting_patterns(texts)
    if patterns:
        kind: ValueType = "datetime" if date_pattern(patterns[0]).has_time else "date"
        if len(patterns) == 1:
            century = f"column {name} has years of two digits: 69 to 99 are of 1900, 00 to 68 of 2000"
            said = century if "%y" in patterns[0] else ""
            return ColumnForm(kind, FieldForm(pattern=patterns[0]), tuple(patterns), strays), said
        said = " or ".join(patterns)
        return (
            ColumnForm(kind, FieldForm(), tuple(patterns)),
            f"column {name} holds dates such as {texts[0]}, which may be {said}: say which",
        )
    if said := _kept_as_text(name, texts):
        return None, said
    if (plain := _plain_but_for_strays(texts, of_file, are_all=are_all)) is not None:
        return plain, ""
    pair = boolean_words(texts)
    if pair is not None and pair != ("true", "false") and len({text.casefold() for text in texts}) == 2:
        return ColumnForm("boolean", FieldForm(true_words=(pair[0],), false_words=(pair[1],))), ""
    if (unit := _unit(texts)) is not None:
        bare = [text.replace(unit, "").strip() for text in texts]
        fitting = fitting_marks(bare)
        if of_file in fitting:
            return ColumnForm("number", FieldForm(*of_file, unit=unit)), ""
        if fitting:
            return ColumnForm("number", FieldForm(*fitting[0], unit=unit)), ""
    return None, ""


def _kept_as_text(name: str, texts: Sequence[str]) -> str:
    """Return what is said of a column of months, quarters, weeks or times of day, which are no type of their own."""
    for expression, words, pattern in _KEPT_AS_TEXT:
        if not all(expression.fullmatch(text) for text in texts):
            continue
        said = f"column {name} holds {words} such as {texts[0]}, which are kept as text"
        if not pattern:
            are_ordered = len({len(text) for text in texts}) == 1
            return f"{said}; ranges of them: {_RANGE_OF_TIMES}" if are_ordered else said
        of_which = "as dates" if "days" in words else "each as its first day"
        form = pattern if "-" in texts[0] else pattern.replace("-", "")
        return f'{said}; to read them {of_which}: types.{toml_key(name)} = {{ type = "date", pattern = "{form}" }}'
    return ""


def _are_codes(texts: Sequence[str]) -> bool:
    """Whether numbers are codes: some begin with a zero that does not count."""
    return any(re.fullmatch(r"0\d+", text) for text in texts)


def _most_strays(texts: Sequence[str]) -> int:
    """Return how many different fields may be none of a type that all others are of."""
    return min(MOST_STRAYS, len(texts) // FEWEST_BESIDE_A_STRAY)


def _fitting_patterns(texts: Sequence[str], n_strays: int | None = None) -> tuple[list[str], tuple[str, ...]]:
    """Return the patterns that all fields fit but a few strays, and these; of those that say the same by another name the first,
    and of those that leave strays the ones that leave the fewest.
    """
    most = _most_strays(texts) if n_strays is None else n_strays
    if sum(not any(sign.isdigit() for sign in text) for text in texts) > most:
        return [], ()
    fitting: list[tuple[str, tuple[str, ...]]] = []
    seen: set[tuple[object, ...]] = set()
    for pattern in _PATTERNS if texts else ():
        made = date_pattern(pattern)
        if sum(made.value(text) is None for text in texts[: most + 1]) > most:
            continue
        values = tuple(made.value(text) for text in texts)
        odd = tuple(text for text, value in zip(texts, values, strict=True) if value is None)
        if len(odd) <= most and values not in seen:
            seen.add(values)
            fitting.append((pattern, odd))
    fewest = min((len(odd) for _, odd in fitting), default=0)
    kept = [(pattern, odd) for pattern, odd in fitting if len(odd) == fewest]
    return [pattern for pattern, _ in kept], kept[0][1] if kept else ()


def _plain_but_for_strays(
    texts: Sequence[str], of_file: tuple[str, str], *, are_all: bool
) -> ColumnForm | None:
    """Return the form of a column of numbers, or dates as ISO 8601 writes them, in which a few words stand; None for others."""
    most = _most_strays(texts)
    if not most:
        return None
    odd = tuple(text for text in texts if not ISO_DATE.fullmatch(text))
    if len(odd) <= most:
        has_time = any(len(text) > 10 for text in texts if text not in odd)
        return ColumnForm("datetime" if has_time else "date", FieldForm(), (), odd)
    odd = tuple(text for text in texts if not any(sign.isdigit() for sign in text))
    if not 0 < len(odd) <= most:
        return None
    rest = [text for text in texts if text not in odd]
    marks = fitting_marks(rest)
    if not marks or _are_codes(rest):
        return None
    form = FieldForm() if of_file in marks else FieldForm(*marks[0])
    are_whole = are_all and all(text.lstrip("+-").isdigit() for text in rest)
    return ColumnForm("integer" if are_whole else "number", form, (), odd)


def _unit(texts: Sequence[str]) -> str | None:
    """Return the one unit that stands before or after all numbers; None where there is none.

    Letters right beside digits are taken for a code, as in S001 or 12A, unless numbers have decimals.
    """
    units = set()
    is_apart = has_decimals = False
    for text in texts:
        match = _WITH_UNIT.fullmatch(text)
        if match is None or bool(match["before"]) == bool(match["after"]):
            return None
        if re.fullmatch(r"[+-]?0\d+", match["number"]):
            return None
        units.add(match["before"] or match["after"])
        if len(units) > 1:
            return None
        is_apart |= any(sign.isspace() for sign in text.replace(match["number"], ""))
        has_decimals |= not match["number"].lstrip("+-").isdigit()
    if not units:
        return None
    (unit,) = units
    is_sign = not any(sign.isalnum() for sign in unit)
    return unit if is_sign or is_apart or (has_decimals and text.endswith(unit)) else None
