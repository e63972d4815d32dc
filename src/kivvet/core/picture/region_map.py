"""Maps of a table's space as values: two inputs drawn against each other, the others fixed or panel by panel.

An axis is cut at the bounds of the rows, so each strip is drawn as wide as it needs to be read, and a single value is
a strip of its own. What a strip of one input and one of another share is decided exactly, by the rows that hold both.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from itertools import islice, product
from typing import Any

from kivvet.core.check.box_search import DEFAULT_BUDGET
from kivvet.core.check.check import findings_of
from kivvet.core.check.dependent import may_be_empty
from kivvet.core.check.existing_places import ExistingPlaces
from kivvet.core.picture.paints import Paint
from kivvet.core.picture.places import NEVER, Given, Places, in_order
from kivvet.core.space.boxes import Dimension, Space, bits_of
from kivvet.core.space.region_text import write_asked
from kivvet.core.space.text_axis import TextAxis
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import Equals, write_literal
from kivvet.core.words.errors import BookError, DataError
from kivvet.core.words.values import LiteralError, parse_value
from kivvet.core.words.wording import did_you_mean, listed, shell_word

_MOST_STRIPS = 40
_MOST_PANELS = 9
_MOST_TRIED = 64  # values of the other inputs, until there is most to see
_FEW_PANELS = 6  # that are drawn without being asked for


@dataclass(frozen=True, slots=True)
class Strip:
    """A part of an input on which no row changes its mind: cells (as bits), how it is written, a value in it, and
    whether it is a single value.
    """

    cells: int
    text: str
    witness: str
    is_point: bool


@dataclass(frozen=True, slots=True)
class Panel:
    """One map: what is fixed in it, and what the table gives by strip of the upright input, then of the other."""

    about: str
    given: tuple[tuple[Given, ...], ...]


@dataclass(frozen=True)
class RegionMap:
    """What a table gives over two of its inputs.

    Attributes
    ----------
    title : str
    across, upright : str
        The inputs along the axes.
    strips_across, strips_upright : tuple of Strip
        Rising.
    panels : tuple of Panel
    fixed : mapping of str to str
        The other inputs, each with what holds of it in all panels, as a condition.
    key : tuple of (str, Paint)
        The classes that are drawn, in order.
    notes : tuple of str
    """

    title: str
    across: str
    upright: str
    strips_across: tuple[Strip, ...]
    strips_upright: tuple[Strip, ...]
    panels: tuple[Panel, ...]
    fixed: Mapping[str, str]
    key: tuple[tuple[str, Paint], ...]
    notes: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        return {
            "kind": "map",
            "title": self.title,
            "across": self.across,
            "upright": self.upright,
            "fixed": dict(self.fixed),
            "strips_across": [asdict(one) for one in self.strips_across],
            "strips_upright": [asdict(one) for one in self.strips_upright],
            "panels": [
                {
                    "about": panel.about,
                    "given": [
                        [{"kind": g.kind, "label": g.label, "rows": list(g.rows)} for g in line]
                        for line in panel.given
                    ],
                }
                for panel in self.panels
            ],
            "notes": list(self.notes),
        }

    @property
    def words(self) -> str:
        told = []
        for panel in self.panels:
            for strip, line in zip(self.strips_upright, panel.given, strict=True):
                cells = [
                    f"{one.text} {given.label}" for one, given in zip(self.strips_across, line, strict=True)
                ]
                where = f"{panel.about}, " if panel.about else ""
                told.append(f"{where}{self.upright} {strip.text}: {self.across} {'; '.join(cells)}")
        return f"{self.title}. " + ". ".join(told)


def map_of(
    table: Table,
    output: Output,
    title: str,
    *,
    axes: Sequence[str] = (),
    each: str | None = None,
    fixed: Mapping[str, str] | None = None,
) -> RegionMap:
    """Return a table of several inputs as a map.

    Parameters
    ----------
    table : Table
    output : Output
        The classes of which are shown.
    title : str
    axes : sequence of two str
        The inputs along the axes; without them those with most strips.
    each : str, optional
        The input of which each strip has a panel. Without it, the one with most strips of those left, if they are few.
    fixed : mapping of str to str
        By input the value that it has; the others have those by which there is most to see.

    Raises
    ------
    BookError
        If there is no such input.
    DataError
        If the table has no two inputs, or a value is none.
    """
    if table.lookup is not None or len(table.dimensions) < 2:
        raise DataError(
            f"table {table.name!r} has no two inputs that could be drawn against each other",
            fix=f"leave out --kind map: kivvet chart {shell_word(table.name)}",
        )
    space, fixed = Space(table), dict(fixed or {})
    names = [_name(dimension) for dimension in space.dimensions]
    for name in (*axes, *([each] if each is not None else []), *fixed):
        if name not in names:
            raise BookError(
                f"table {table.name!r} has no input {name!r}",
                fix=did_you_mean(name, names) or f"it has {listed(names)}",
            )
    chosen = [*axes, *([each] if each is not None else []), *fixed]
    if len(set(chosen)) < len(chosen) or len(axes) not in (0, 2):
        raise DataError(
            "each input is drawn once: two along the axes, the others by panel or fixed",
            found=listed(chosen),
        )
    strips = {name: _strips(one) for name, one in zip(names, space.dimensions, strict=True)}
    notes = []
    if not axes:
        free = [name for name in names if name != each and name not in fixed]
        free.sort(key=lambda name: (-len(strips[name]), names.index(name)))
        if len(free) < 2:
            raise DataError(
                "two inputs are left to draw along", found=listed(free) or "none", fix="fix fewer"
            )
        axes = sorted(free[:2], key=names.index)
    across, upright = axes
    others = [name for name in names if name not in axes]
    if each is None:
        left = [name for name in others if name not in fixed and 1 < len(strips[name]) <= _FEW_PANELS]
        each = max(left, key=lambda name: len(strips[name]), default=None)
    dimensions = dict(zip(names, space.dimensions, strict=True))
    at: dict[str, Strip] = {}
    for name in others:
        if name in fixed:
            at[name] = _strip_of(dimensions[name], strips[name], fixed[name])
    panels_of: list[Strip | None] = list(strips[each]) if each is not None else [None]
    if len(panels_of) > _MOST_PANELS:
        notes.append(f"the first {_MOST_PANELS} of {len(panels_of)} panels of {each}")
        panels_of = panels_of[:_MOST_PANELS]
    shown = {}
    for name in axes:
        shown[name] = strips[name][:_MOST_STRIPS]
        if len(strips[name]) > _MOST_STRIPS:
            notes.append(f"the first {_MOST_STRIPS} of {len(strips[name])} strips of {name}")
    places = _ExistingPlaces(Places(table, output), space, dimensions)

    def drawn(at: Mapping[str, Strip]) -> list[Panel]:
        panels = []
        for panel in panels_of:
            rest = {**at, **({each: panel} if each is not None and panel is not None else {})}
            given = tuple(
                tuple(places.given({**rest, upright: up, across: along}) for along in shown[across])
                for up in shown[upright]
            )
            panels.append(
                Panel("" if panel is None or each is None else _said(dimensions[each], panel), given)
            )
        return panels

    free = [name for name in others if name != each and name not in fixed]
    tried = [
        {**at, **dict(zip(free, chosen_strips, strict=True))}
        for chosen_strips in islice(product(*(strips[name] for name in free)), _MOST_TRIED)
    ]
    drawings = [(one, drawn(one)) for one in tried]
    at, panels = max(drawings, key=lambda one: _seen_in(one[1]))
    if may_be_empty(space, [False] * len(names), only_loose=True):
        notes.append("inputs that depend on each other may leave more parts of it without any value")
    kinds = {given.kind for panel in panels for line in panel.given for given in line}
    if "gap" not in kinds and "overlap" not in kinds and (at or len(panels) > 1):
        n_elsewhere = sum(finding.kind in ("gap", "overlap", "conflict") for finding in findings_of(table))
        notes.append(
            f"kivvet check finds {n_elsewhere} gaps and overlaps, none of them here"
            if n_elsewhere
            else "no gap and no overlap here; kivvet check tells of all of the table"
        )
    missing = (
        [f"{output.name} = {Places.text_of(table.missing[output.name])}"]
        if output.name in table.missing
        else []
    )
    notes += [f"where a value is missing: {one}" for one in missing]
    return RegionMap(
        title,
        across,
        upright,
        tuple(shown[across]),
        tuple(shown[upright]),
        tuple(panels),
        {name: _said(dimensions[name], strip) for name, strip in at.items()},
        _key(table, output, panels),
        tuple(notes),
    )


def fixed_strips(table: Table, others: Mapping[str, Dimension], fixed: Mapping[str, str]) -> dict[str, Strip]:
    """Return by input the strip that holds the value it is fixed at, else its first.

    Raises
    ------
    BookError, DataError
        If there is no such input, or a value is none.
    """
    names = {_name(one): key for key, one in others.items()}
    for name in fixed:
        if name not in names:
            raise BookError(
                f"table {table.name!r} has no other input {name!r}",
                fix=did_you_mean(name, list(names)) or f"it has {listed(names) or 'none'}",
            )
    found = {}
    for name, key in names.items():
        strips = _strips(others[key])
        found[key] = _strip_of(others[key], strips, fixed[name]) if name in fixed else strips[0]
    return found


def _key(table: Table, output: Output, panels: Sequence[Panel]) -> tuple[tuple[str, Paint], ...]:
    drawn = {
        given.label: given.paint
        for panel in panels
        for line in panel.given
        for given in line
        if given.kind in ("class", "open")
    }
    return tuple((label, drawn[label]) for label in in_order(table, output, list(drawn)))


def _name(dimension: Dimension) -> str:
    """Return what a dimension is called: an input by its name, a comparison by what it compares."""
    return dimension.about.name if dimension.is_plain else dimension.write(dimension.present)


def _strips(dimension: Dimension) -> list[Strip]:
    """Return the parts of a dimension within its domain; parts of text are put together wherever they lie."""
    found: list[tuple[int, int]] = []  # mask of rows, cells
    by_mask: dict[int, int] = {}
    is_text = isinstance(dimension.axis, TextAxis)
    last = -2
    for number, cell in enumerate(dimension.cut.cells):
        if not cell.in_domain:
            continue
        mask = dimension.masks[number]
        if is_text and mask in by_mask:
            place = by_mask[mask]
            found[place] = mask, found[place][1] | 1 << number
        elif found and found[-1][0] == mask and last == number - 1 and not is_text:
            found[-1] = mask, found[-1][1] | 1 << number
        else:
            by_mask[mask] = len(found)
            found.append((mask, 1 << number))
        last = number
    strips = [_strip(dimension, cells) for _, cells in found]
    if dimension.names_missing:
        strips.append(Strip(1 << dimension.missing, "missing", "missing", is_point=False))
    return strips


def _strip(dimension: Dimension, cells: int) -> Strip:
    first = next(bits_of(cells))
    cell = dimension.cut.cells[first]
    is_point = cells.bit_count() == 1 and cell.low[:2] == cell.high[:2] and cell.low[0] == 0
    witness = dimension.witness(first)
    return Strip(
        cells,
        dimension.write(cells),
        "missing" if witness is None else write_literal(witness),
        is_point and dimension.is_ordered,
    )


def _strip_of(dimension: Dimension, strips: Sequence[Strip], text: str) -> Strip:
    """Return the strip that holds a value."""
    if text.strip().lower() == "missing":
        return Strip(1 << dimension.missing, "missing", "missing", is_point=False)
    try:
        value = parse_value(text.strip(), dimension.about.type)
    except LiteralError as error:
        raise DataError(
            f"{text!r} is no value of {dimension.about.name}", expected=error.expected, fix=error.fix or None
        ) from None
    region = dimension.axis.region(Equals(value))
    for strip in strips:
        for number in bits_of(strip.cells & dimension.present):
            cell = dimension.cut.cells[number]
            if any(low >= cell.low and high <= cell.high for low, high in region.bands[cell.band]):
                return replace(strip, text=write_literal(value))
    raise DataError(
        f"{dimension.about.name} = {text} lies outside what is drawn",
        fix=f"for example {strips[0].witness}" if strips else None,
    )


def _seen_in(panels: Sequence[Panel]) -> tuple[int, int]:
    """Return how much there is to see: kinds of faults, then different classes."""
    given = {(one.kind, one.label) for panel in panels for line in panel.given for one in line}
    return len({kind for kind, _ in given} & {"gap", "overlap"}), len(given)


def _rows(dimension: Dimension, strip: Strip) -> int:
    return dimension.masks[next(bits_of(strip.cells))]


def _said(dimension: Dimension, strip: Strip) -> str:
    """Return a strip as a condition with its input; what `when` asks names it already."""
    return strip.text if dimension.test is not None else write_asked(dimension.about.name, strip.text)


class _ExistingPlaces:
    """What stands at a place of the space; that no values lie there is asked once for each."""

    def __init__(self, places: Places, space: Space, dimensions: Mapping[str, Dimension]) -> None:
        self.places, self.dimensions = places, dimensions
        self.existing = ExistingPlaces(space, DEFAULT_BUDGET)
        self._exists: dict[tuple[int, ...], bool] = {}

    def given(self, at: Mapping[str, Strip]) -> Given:
        """Return what stands where each dimension lies in a strip."""
        box = tuple(at[name].cells for name in self.dimensions)
        if box not in self._exists:
            self._exists[box] = self.existing.in_box(box).exists is not False
        if not self._exists[box]:
            return NEVER
        rows = (1 << len(self.places.table.rows)) - 1
        for name, strip in at.items():
            rows &= _rows(self.dimensions[name], strip)
        is_open = not rows and any(
            dimension.is_open and next(bits_of(at[name].cells)) in dimension.unlisted
            for name, dimension in self.dimensions.items()
        )
        return self.places.given(rows, is_open=is_open)
