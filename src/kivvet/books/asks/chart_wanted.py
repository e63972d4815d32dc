"""What a chart is to show, and what goes together."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields
from typing import Literal, get_args

from kivvet.core.picture.bars import Bars, Sheet
from kivvet.core.picture.flows import Flows
from kivvet.core.picture.histogram import Histogram
from kivvet.core.picture.lines import Lines
from kivvet.core.picture.region_map import RegionMap
from kivvet.core.picture.triangle import Triangle
from kivvet.core.run.cross_table import Share
from kivvet.core.words.errors import DataError
from kivvet.core.words.wording import did_you_mean, listed

OnRows = Callable[[int], None]
Kind = Literal["bars", "beside", "lines", "histogram", "map", "triangle", "flows"]
Picture = Bars | Sheet | Lines | Histogram | RegionMap | Triangle | Flows
_OF_ROWS = ("by", "across", "value", "where", "share", "read_as")
_OF_TABLE = ("on", "column", "output", "read_as")
#: By kind of picture what may be asked for besides.
_TAKES: Mapping[str, tuple[str, ...]] = {
    "bars": _OF_ROWS,
    "beside": _OF_ROWS,
    "lines": _OF_ROWS,
    "bars of a table": _OF_TABLE,
    "histogram": _OF_TABLE,
    "map": ("output", "axes", "panels", "set"),
    "triangle": ("output", "set"),
    "flows": ("by", "against"),
}


@dataclass(frozen=True)
class ChartWanted:
    """What a chart is to show; see `Book.chart`."""

    kind: Kind | None = None
    by: tuple[str, ...] = ()
    across: str | None = None
    value: str | None = None
    where: str | None = None
    share: Share | None = None
    on: str | None = None
    column: str | None = None
    output: str | None = None
    axes: tuple[str, ...] = ()
    panels: str | None = None
    set: Mapping[str, str] = field(default_factory=dict)
    against: str | None = None
    title: str = ""
    read_as: str = ""

    def __post_init__(self) -> None:
        for name, word, known in (
            ("kind", "kind of chart", get_args(Kind)),
            ("share", "share", get_args(Share)),
        ):
            given = getattr(self, name)
            if given is not None and given not in known:
                raise DataError(
                    f"{given!r} is no {word}",
                    expected=f"one of: {listed(known)}",
                    fix=did_you_mean(given, known),
                )

    def refuse_others(self, kind: str) -> None:
        """Raise where something is asked for that this kind of picture has not."""
        empty = ChartWanted()
        for one in fields(self):
            name = one.name
            if name in ("kind", "title", *_TAKES[kind]) or getattr(self, name) == getattr(empty, name):
                continue
            for_it = [other for other, takes in _TAKES.items() if name in takes]
            raise DataError(
                f"{_option(name)} does not go with {shown_kind(kind)}",
                expected=f"{_option(name)} is for {listed(map(shown_kind, for_it))}",
                fix="leave it out, or say --kind KIND",
            )


def _option(name: str) -> str:
    return f"--{name.replace('_', '-')}"


def shown_kind(kind: str) -> str:
    """Return a kind of picture as messages name it."""
    return {
        "beside": "bars side by side",
        "bars": "bars of data",
        "map": "a map",
        "triangle": "a triangle",
        "histogram": "a histogram",
    }.get(kind, kind)


def file_name(*parts: str) -> str:
    """Return a name for a file: letters, digits and hyphens of any script."""
    return "-".join(re.sub(r"[^\w]+", "-", part).strip("-") for part in parts if part)[:80] or "chart"
