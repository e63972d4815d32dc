"""Finding the rows of a file of text that are no data: units below the headings, totals, repeated headings, blank rows,
footnotes. What is found is proposed, and said row by row; nothing is left out that nobody told to.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from decimal import Decimal

from kivvet.core.formulas.tree import write_name
from kivvet.core.words.wording import count, listed

#: How totals are called.
_TOTAL = re.compile(
    r"(?:grand |sub|sub-|zwischen|gesamt)?(?:total|totals|totale|totaal|summe|sum|somme|suma|gesamt|insgesamt)\b.{0,40}",
    re.IGNORECASE,
)
_MOST_TOTALS = 12  # different words for totals that a condition lists
_LONGEST_UNIT = 12
_FILLED = 0.9  # of the other rows, where a blank field tells a row from them
_DIGIT = re.compile(r"\d")
_NUMBER_LIKE = re.compile(r"[+-]?[\d.,'’ \u00a0]*\d(?:[eE][+-]?\d+)?\s?%?")

Record = Sequence[str]


@dataclass
class NoData:
    """What is proposed to be left out.

    Attributes
    ----------
    skip_below_headings, skip_last : int
    skip_blank : bool
    leave_out : str
        As `ReadOptions` has them.
    remarks : list of str
        Each finding in words.
    rows : list of records
        The rows that stay.
    """

    skip_below_headings: int = 0
    skip_last: int = 0
    skip_blank: bool = False
    leave_out: str = ""
    remarks: list[str] = field(default_factory=list)
    rows: list[Record] = field(default_factory=list)


def find_no_data(
    names: Sequence[str], rows: Iterable[Record], *, can_have_units: bool, last_lines: Sequence[Record]
) -> NoData:
    """Return what of some rows is no data.

    Parameters
    ----------
    names : sequence of str
        The headings.
    rows : iterable of records
        As the file holds them, from below the headings; perhaps not all.
    can_have_units : bool
        Whether the first of them stands right below a line of headings.
    last_lines : sequence of records
        The last records of the file, blank lines left out.
    """
    found = NoData()
    width = len(names)
    found.skip_last = _footnotes(last_lines, width)
    if found.skip_last:
        texts = [
            " ".join(filter(None, line)).strip() for line in last_lines[len(last_lines) - found.skip_last :]
        ]
        found.remarks.append(
            f"the last {'line is' if found.skip_last == 1 else f'{found.skip_last} lines are'} no data: "
            f"{listed([_short(text) for text in texts], 3)}"
        )
    notes = (
        {tuple(line) for line in last_lines[len(last_lines) - found.skip_last :]}
        if found.skip_last
        else set()
    )
    kept = [one for one in _of_usual_width(list(rows), width) if tuple(one) not in notes]
    blank = [one for one in kept if not any(text.strip() for text in one)]
    if blank and width > 1:
        found.skip_blank = True
        found.remarks.append(
            f"{count(len(blank), 'row')} of blank fields {'is' if len(blank) == 1 else 'are'} no data"
        )
        kept = [one for one in kept if any(text.strip() for text in one)]
    conditions = []
    first = kept[0] if kept else None
    kept, condition = _without_headings(names, kept, found.remarks)
    conditions += [condition] if condition else []
    if can_have_units and width > 1 and kept and kept[0] is first and _is_units(kept):
        found.skip_below_headings = 1
        units = [
            f"{unit.strip()} of {name}" for name, unit in zip(names, kept[0], strict=True) if unit.strip()
        ]
        found.remarks.append(f"the line below the headings holds units, no data: {listed(units, 4)}")
        kept = kept[1:]
    kept, condition = _without_totals(names, kept, found.remarks)
    conditions += [condition] if condition else []
    found.leave_out = " OR ".join(conditions)
    found.rows = kept
    return found


def _of_usual_width(rows: Sequence[Record], width: int) -> list[Record]:
    """Return the rows that have as many fields as there are headings; where a delimiter ends every row, or the headings alone,
    without what is one too many.
    """
    usual = Counter(len(row) for row in rows if row).most_common(1)
    if usual and abs(usual[0][0] - width) == 1 and not any(len(row) == width for row in rows):
        return [[*row, ""][:width] for row in rows if len(row) == usual[0][0]]
    return [row for row in rows if len(row) == width]


def _short(text: str) -> str:
    return repr(text if len(text) <= 40 else f"{text[:37]}...")


def _footnotes(last: Sequence[Record], width: int) -> int:
    """Return how many of the last lines are notes: of another number of fields, or with words in the first alone."""
    number = 0
    for record in reversed(last):
        filled = [text.strip() for text in record if text.strip()]
        if width == 1 or not filled:
            break
        is_ragged = len(record) != width
        is_words = len(filled) == 1 and bool(record[0].strip()) and _is_prose(filled[0])
        if not (is_ragged and not _DIGIT.fullmatch(filled[0]) and len(record) < width) and not is_words:
            break
        number += 1
    return number if number < len(last) else 0


def _is_prose(text: str) -> bool:
    """Whether a text reads as a note: it begins with a mark, or holds several words."""
    return text[0] in "*#()[]†‡¹²³" or (len(text.split()) >= 3 and not _TOTAL.fullmatch(text))


def _is_units(rows: Sequence[Record]) -> bool:
    """Whether the first row holds units: no figure, where the others have figures, and short words."""
    if len(rows) < 3:
        return False
    first, others = rows[0], rows[1:200]
    filled = [text.strip() for text in first if text.strip()]
    if not filled or any(_NUMBER_LIKE.fullmatch(text) or len(text) > _LONGEST_UNIT for text in filled):
        return False
    over_figures = [
        place
        for place, text in enumerate(first)
        if text.strip() and _are_figures([other[place].strip() for other in others])
    ]
    over_words = [place for place, text in enumerate(first) if text.strip() and place not in over_figures]
    return bool(over_figures) and len(over_figures) >= len(over_words)


def _are_figures(texts: Sequence[str]) -> bool:
    filled = [text for text in texts if text]
    figures = sum(bool(_NUMBER_LIKE.fullmatch(text)) for text in filled)
    return bool(filled) and figures >= _FILLED * len(filled)


def _without_headings(
    names: Sequence[str], rows: list[Record], remarks: list[str]
) -> tuple[list[Record], str]:
    """Return the rows that do not repeat the headings, and the condition of those that do."""
    heads = [name.strip() for name in names]
    repeated = [row for row in rows if [text.strip() for text in row] == heads]
    if not repeated or len(heads) == 1:
        return rows, ""
    kept = [row for row in rows if [text.strip() for text in row] != heads]
    place = next(
        (at for at, name in enumerate(heads) if name and all(one[at].strip() != name for one in kept)), None
    )
    if place is None:
        return rows, ""
    remarks.append(
        f"{count(len(repeated), 'row')} {'repeats' if len(repeated) == 1 else 'repeat'} the headings"
    )
    return kept, f"{write_name(names[place])} = {_quoted(heads[place])}"


def _without_totals(names: Sequence[str], rows: list[Record], remarks: list[str]) -> tuple[list[Record], str]:
    """Return the rows that are no totals, and the condition of those that are."""
    by_place: dict[int, list[int]] = {}
    for number, row in enumerate(rows):
        for place, text in enumerate(row):
            if _TOTAL.fullmatch(text.strip()):
                by_place.setdefault(place, []).append(number)
                break
    for place, numbers in by_place.items():
        chosen = set(numbers)
        others = [row for number, row in enumerate(rows) if number not in chosen]
        if not others or len(numbers) * 3 > len(rows):
            continue
        words = list(dict.fromkeys(rows[number][place].strip() for number in numbers))
        filled = [
            at
            for at in range(len(names))
            if at != place and sum(bool(other[at].strip()) for other in others) >= _FILLED * len(others)
        ]
        has_blank = all(any(not rows[number][at].strip() for at in filled) for number in numbers)
        summed = _summed(names, rows, numbers)
        if len(words) > _MOST_TOTALS or not (has_blank or summed):
            continue
        where = "the last row" if numbers == [len(rows) - 1] else count(len(numbers), "row")
        sums = (
            f", and {listed(summed, 3)} {'is' if len(summed) == 1 else 'are'} the sum of the rows above"
            if summed
            else ""
        )
        remarks.append(f"{where}: {listed([repr(word) for word in words], 3)} in {names[place]}{sums}")
        name = write_name(names[place])
        listed_words = ", ".join(map(_quoted, words))
        return others, f"{name} = {listed_words}" if len(words) == 1 else f"{name} IN ({listed_words})"
    return rows, ""


def _summed(names: Sequence[str], rows: Sequence[Record], totals: Sequence[int]) -> list[str]:
    """Return the columns whose every total is the sum of the rows above, since the total before or from the beginning."""
    found = []
    for place, name in enumerate(names):
        values = [_number(row[place]) for row in rows]
        so_far = all_of = Decimal(0)
        agrees, seen = True, False
        known = set(totals)
        for number, value in enumerate(values):
            if number in known:
                if value is None:
                    continue
                agrees = agrees and value in (so_far, all_of)
                seen, so_far = True, Decimal(0)
            elif value is not None:
                so_far, all_of = so_far + value, all_of + value
        if agrees and seen and all_of:
            found.append(name)
    return found


def _number(text: str) -> Decimal | None:
    """Return the number that a field seems to hold, whichever its marks are."""
    plain = text.strip().rstrip("%").strip()
    if not _NUMBER_LIKE.fullmatch(plain):
        return None
    plain = re.sub(r"['’ \u00a0]", "", plain)
    last = max(plain.rfind(","), plain.rfind("."))
    if last >= 0:
        whole, part = re.sub(r"[.,]", "", plain[:last]), plain[last + 1 :]
        plain = f"{whole or 0}.{part}" if plain.count(plain[last]) == 1 else whole + part
    try:
        return Decimal(plain)
    except ArithmeticError:
        return None


def _quoted(text: str) -> str:
    return f"'{text.replace(chr(39), chr(39) * 2)}'"
