"""What benchmarks tell: one line for each piece of work, with what stands beside it and the target; all of them are one table.

What was measured is kept in `build/benchmarks.json`, group by group, so that the page of docs can be made of parts that were measured
one after the other.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

_NOISE = 1.2  # a fifth is noise, on machines that are shared
KEPT = Path(__file__).parents[1] / "build/benchmarks.json"
PAGE = Path(__file__).parents[1] / "docs/speed.md"
_HEADINGS = ("work", "Kivvet", "beside it", "", "ratio", "target", "floor", "")
_REACHED, _MISSED, _AT_FLOOR = "reached", "MISSED", "at its floor"


@dataclass(frozen=True)
class Line:
    """One piece of work.

    Attributes
    ----------
    work : str
    ours : float
    unit : str
        "s", "ms", "MB", "n^" for an exponent, "x" for a plain ratio.
    beside : str
        What stands beside it; empty: nothing.
    other : float or None
        Of that, in the same unit.
    target : float or None
        Of the ratio where something stands beside it, else of the figure; None: it is stated only.
    floor : float or None
        What the part of the work takes alone that nobody can leave out, measured in the same run and given in the same unit: where a
        target is missed, how far below ours it could be.
    floor_is : str
        What that part is.
    """

    work: str
    ours: float
    unit: str = "s"
    beside: str = ""
    other: float | None = None
    target: float | None = None
    floor: float | None = None
    floor_is: str = ""

    @property
    def ratio(self) -> float | None:
        return None if not self.other else self.ours / self.other

    @property
    def is_reached(self) -> bool | None:
        """Whether the target is reached, a fifth being noise; None without one."""
        figure = self.ours if self.ratio is None else self.ratio
        return None if self.target is None else figure <= self.target * _NOISE

    @property
    def stands(self) -> str:
        """How it stands to its target: reached, at its floor, missed; empty without one."""
        if self.is_reached is None:
            return ""
        is_at_floor = self.floor is not None and self.ours <= self.floor * _NOISE
        return _REACHED if self.is_reached else _AT_FLOOR if is_at_floor else _MISSED

    def cells(self) -> tuple[str, ...]:
        """Return it as the cells of a row."""
        return (
            self.work,
            _figure(self.ours, self.unit),
            self.beside,
            "" if self.other is None else _figure(self.other, self.unit),
            "" if self.ratio is None else f"{self.ratio:.2f}",
            "" if self.target is None else f"{self.target:.3g}" if self.ratio is not None else _figure(self.target, self.unit),
            "" if self.floor is None or self.is_reached else f"{_figure(self.floor, self.unit)}: {self.floor_is}",
            self.stands,
        )  # fmt: skip


def _figure(value: float, unit: str) -> str:
    if unit == "n^":
        return f"n^{value:.2f}"
    shown = f"{value:,.0f}" if value >= 100 else f"{value:.3g}"
    return f"{shown} {unit}"


def table(lines: Iterable[Line]) -> str:
    """Return lines as a table of Markdown."""
    rows = [_HEADINGS, *(line.cells() for line in lines)]
    widths = [max(len(row[place]) for row in rows) for place in range(len(_HEADINGS))]
    shown = ["| " + " | ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)) + " |" for row in rows]  # fmt: skip
    shown.insert(1, "|" + "|".join("-" * (width + 2) for width in widths) + "|")
    return "\n".join(shown)


def keep(group: str, lines: Sequence[Line]) -> None:
    """Keep what was measured, in the place of what was kept of that group."""
    kept = _kept()
    kept[group] = [asdict(line) for line in lines]
    KEPT.parent.mkdir(exist_ok=True)
    KEPT.write_text(json.dumps(kept, indent=1), encoding="utf-8")


def _kept() -> dict[str, list[dict[str, object]]]:
    return json.loads(KEPT.read_text(encoding="utf-8")) if KEPT.is_file() else {}


def kept_lines() -> dict[str, list[Line]]:
    """Return what is kept, by group."""
    return {group: [Line(**line) for line in lines] for group, lines in _kept().items()}  # type: ignore[arg-type]


def write_page() -> list[str]:
    """Put what is kept in its places in docs/speed.md; return the groups that have none there."""
    text, lines = PAGE.read_text(encoding="utf-8"), kept_lines()
    missing = []
    for group, measured in lines.items():
        marked = re.compile(rf"(<!-- measured: {group} -->\n).*?(<!-- end -->)", re.DOTALL)
        if marked.search(text) is None:
            missing.append(group)
        text = marked.sub(lambda found, of=measured: f"{found[1]}{table(of)}\n{found[2]}", text)
    stands = {said: len(re.findall(rf"\| {said} +\|\n", text)) for said in (_REACHED, _AT_FLOOR, _MISSED)}
    said = f"{stands[_REACHED]} of {sum(stands.values())} targets are reached, {stands[_AT_FLOOR]} more stand at a floor that is measured"
    text = re.sub(r"\d+ of \d+ targets are reached[^;.\n]*", said, text)
    PAGE.write_text(text, encoding="utf-8")
    return missing
