"""Three versions of a text of rows, one a line, merged line by line, and where both changed one line cell by cell."""

from __future__ import annotations

import difflib
import re
from collections.abc import Sequence
from dataclasses import dataclass, field

_TOKENS = re.compile(r'"(?:[^"\\]|\\.|"")*"|\'[^\']*\'|[^,\[\]"\']+|[,\[\]"\']')

# ``20 to <40`` and ``[20, 40)``, in quotes or not: the start, what stands between, and the end.
_INTERVAL = re.compile(r"""(["']?[\[(]?[^,]*?)( to |, ?)([^,]*?[\])]?["']?)""")


@dataclass
class _Edits:
    """What becomes of the lines of a text: what stands before each, and what each becomes; after the last, nothing more."""

    before: list[list[str]]
    becomes: list[str | None]

    @classmethod
    def of(cls, base: Sequence[str], other: Sequence[str]) -> _Edits:
        made = cls([[] for _ in range(len(base) + 1)], list(base))
        matcher = difflib.SequenceMatcher(None, base, other, autojunk=False)
        for what, start, end, first, last in matcher.get_opcodes():
            if what == "equal":
                continue
            lines = list(other[first:last])
            pairs = _paired(base[start:end], lines)
            for place, line in zip(range(start, end), pairs.becomes, strict=True):
                made.becomes[place] = line
            for place, more in enumerate(pairs.before):
                made.before[start + place] += more
        return made


def _paired(old: Sequence[str], new: Sequence[str]) -> _Edits:
    """Return which of some lines became which others: those that are most alike, in order."""
    made = _Edits([[] for _ in range(len(old) + 1)], [None] * len(old))
    at = 0
    for place, line in enumerate(old):
        left = len(old) - place - 1  # lines still to be paired after this one
        choices = range(at, len(new)) if len(new) - at > left else range(at, min(at + 1, len(new)))
        ratios = {n: difflib.SequenceMatcher(None, line, new[n], autojunk=False).ratio() for n in choices}
        best = max(ratios, key=lambda n: (ratios[n], -n), default=None)
        if best is None or ratios[best] < 0.4:
            continue
        made.before[place] += new[at:best]
        made.becomes[place] = new[best]
        at = best + 1
    made.before[len(old)] += new[at:]
    return made


@dataclass
class MergedText:
    """What came of merging texts.

    Attributes
    ----------
    lines : list of str
        With marks around what could not be merged, as version controls put them.
    conflicts : list of (list of str, list of str)
        The lines that could not be merged, of both sides.
    """

    lines: list[str] = field(default_factory=list)
    conflicts: list[tuple[list[str], list[str]]] = field(default_factory=list)
    has_ends_of_both: bool = False  # whether each side gave one end of some interval

    def add_conflict(self, ours: list[str], theirs: list[str], *, called: tuple[str, str]) -> None:
        """Add lines of both sides that could not be merged, between marks."""
        self.conflicts.append((ours, theirs))
        self.lines += [f"<<<<<<< {called[0]}\n", *ours, "=======\n", *theirs, f">>>>>>> {called[1]}\n"]

    @property
    def text(self) -> str:
        return "".join(self.lines)


def merged_text(
    base: str,
    ours: str,
    theirs: str,
    called: tuple[str, str] = ("ours", "theirs"),
    *,
    by_ends: bool = True,
) -> MergedText:
    """Return three versions of a text as one.

    Lines that one side changed, took out or added are taken from it; of a line that both changed, the cells. What both
    added at one place stands there in turn.

    Parameters
    ----------
    by_ends : bool
        Whether of an interval of which each side moved one end both ends are taken; what that means is still to be proven.
    """
    texts = [text if text.endswith("\n") or not text else f"{text}\n" for text in (base, ours, theirs)]
    lines = [text.splitlines(keepends=True) for text in texts]
    mine, other = (_Edits.of(lines[0], line) for line in lines[1:])
    made = MergedText()
    for place in range(len(lines[0]) + 1):
        added = mine.before[place], other.before[place]
        made.lines += (
            added[0] if added[0] == added[1] else [*added[0], *(x for x in added[1] if x not in added[0])]
        )
        if place == len(lines[0]):
            break
        before, one, two = lines[0][place], mine.becomes[place], other.becomes[place]
        if two in (one, before):
            chosen: str | None = one
        elif one == before:
            chosen = two
        elif one is not None and two is not None and (cells := merged_line(before, one, two)) is not None:
            chosen = cells
        elif one and two and by_ends and (cells := merged_line(before, one, two, by_ends=True)) is not None:
            chosen, made.has_ends_of_both = cells, True
        else:
            sides = ([] if one is None else [one]), ([] if two is None else [two])
            made.add_conflict(*sides, called=called)
            continue
        made.lines += [] if chosen is None else [chosen]
    return made


def merged_line(base: str, ours: str, theirs: str, *, by_ends: bool = False) -> str | None:
    """Return three versions of a line as one, cell by cell; None where both changed one cell."""
    cells = [[one.strip() for one in _TOKENS.findall(line)] for line in (base, ours, theirs)]
    plain = [[one for one in line if one] for line in cells]
    if len({len(one) for one in plain}) > 1:
        return None
    made = list(_TOKENS.findall(ours))
    places = [n for n, one in enumerate(made) if one.strip()]
    for place, before, one, two in zip(places, *plain, strict=True):
        if two in (one, before):
            continue
        cell = two if one == before else _ends_of_both(before, one, two) if by_ends else None
        if cell is None:
            return None
        made[place] = made[place].replace(made[place].strip(), cell)
    return "".join(made)


def _ends_of_both(base: str, ours: str, theirs: str) -> str | None:
    """Return an interval of which each side moved one end; None where that is not so."""
    parts = [_INTERVAL.fullmatch(one) for one in (base, ours, theirs)]
    if None in parts:
        return None
    groups = [part.groups() for part in parts if part is not None]
    made = []
    for before, one, two in zip(*groups, strict=True):
        if before not in (one, two) and one != two:
            return None
        made.append(one if two == before else two)
    return "".join(made)
