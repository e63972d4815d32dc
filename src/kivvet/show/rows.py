"""Rows of data on a terminal: as a table, as many columns as fit; a single row column by column."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

from rich.cells import cell_len
from rich.console import Console
from rich.text import Text

from kivvet.books.asks.rows import ROW, RowsShown
from kivvet.core.words.wording import count, listed
from kivvet.show.figures import cut, decimals_of, figure, padded, shown
from kivvet.show.terminal import print_columns

_WIDEST = 24
_WIDEST_ALONE = 60
_MISSING = "·"


def print_rows(out: Console, found: RowsShown, *, each: str | None = None, is_chosen: bool = False) -> None:
    """Print rows, the columns that the dataset makes in bold.

    Parameters
    ----------
    each : str, optional
        The column of whose classes some rows each are shown.
    is_chosen : bool
        Whether the columns were asked for one by one; they are then shown in their order.
    """
    n_shown = len(found.table)
    head = Text().append(found.source, "bold").append(f"  {count(found.n_matching, 'row')}")
    if found.n_matching != found.n_rows:
        head.append(f" of {found.n_rows:,}", "dim")
    if n_shown != found.n_matching:
        head.append(f", {n_shown:,} shown" + (f", some of each {each}" if each else ""), "dim")
    out.print(head)
    out.print()
    if not n_shown:
        print_columns(out, [("", "", 2)], found.why_none(), "yellow")
    elif n_shown == 1:
        _print_one(out, found)
    else:
        _print_table(out, found, is_chosen=is_chosen)


def _texts(values: Sequence[Any], width: int) -> list[str]:
    decimals = decimals_of(values)
    made = []
    for value in values:
        if value is None:
            made.append(_MISSING)
        elif isinstance(value, (dt.date, dt.datetime)):
            made.append(str(value))
        elif isinstance(value, list):
            made.append(cut(shown(", ".join(map(str, value))), width))
        else:
            made.append(cut(figure(value, decimals, is_amount=False), width))
    return made


def _print_table(out: Console, found: RowsShown, *, is_chosen: bool) -> None:
    names = found.table.column_names
    columns = {name: found.table[name].to_pylist() for name in names}
    texts = {name: _texts(values, _WIDEST) for name, values in columns.items()}
    texts |= {
        f"why {name}": [cut(shown(one), 2 * _WIDEST) for one in said] for name, said in found.why.items()
    }
    widths = {
        name: max(cell_len(cut(shown(name), _WIDEST)), *map(cell_len, some)) for name, some in texts.items()
    }
    order = [*names] if is_chosen else [ROW, *_by_use(names[1:], found.made)]
    for name in found.why:
        order.append(f"why {name}")
    kept = _fitting(out, order, widths, found)
    right = {
        name: any(isinstance(one, (int, float)) and not isinstance(one, bool) for one in columns[name])
        for name in names
    }
    for number in range(-1, len(found.table)):
        line = Text("  ")
        for name in kept:
            cell = cut(shown(name), _WIDEST) if number < 0 else texts[name][number]
            is_made = name in found.made
            style = "dim" if number < 0 or name == ROW or cell == _MISSING else "bold" if is_made else ""
            style = (
                "bold dim"
                if number < 0 and is_made
                else "cyan"
                if name.startswith("why ") and number >= 0
                else style
            )
            line.append(padded(cell, widths[name], right=right.get(name, False)) + "  ", style)
        line.rstrip()
        out.print(line)
    hidden = [name for name in order if name not in kept]
    if hidden:
        out.print()
        print_columns(
            out, [("", "", 2)], f"and {count(len(hidden), 'column')}: {listed(map(shown, hidden), 40)}", "dim"
        )


def _by_use(names: Sequence[str], made: Sequence[str]) -> list[str]:
    """Return columns with the first of the source, then those made, then the others: the first are those that fit."""
    own = [name for name in names if name not in made]
    return [*own[:3], *(name for name in names if name in made), *own[3:]]


def _fitting(out: Console, order: list[str], widths: dict[str, int], found: RowsShown) -> list[str]:
    """Return the columns that fit the terminal, in the order of the data; all of them where output is piped."""
    if not out.is_terminal:
        return order
    room = out.width - 2
    kept = [ROW]
    room -= widths[ROW] + 2
    told = [one for name in found.why for one in (name, f"why {name}") if one in widths]
    for name in dict.fromkeys([*order[1:2], *told, *order[1:]]):
        if widths[name] + 2 <= room or len(kept) == 1:
            kept.append(name)
            room -= widths[name] + 2
    names = [*found.table.column_names, *(f"why {name}" for name in found.why)]
    return [name for name in names if name in kept]


def _print_one(out: Console, found: RowsShown) -> None:
    """Print a single row, a line a column."""
    names = found.table.column_names
    heads = [*names, *(f"why {name}" for name in found.why)]
    width = max(cell_len(cut(shown(name), _WIDEST)) for name in heads) + 2
    for name in names:
        (value,) = found.table[name].to_pylist()
        (text,) = _texts([value], _WIDEST_ALONE)
        is_made = name in found.made
        style = "dim" if text == _MISSING or name == ROW else "bold" if is_made else ""
        line = Text("  ").append(padded(cut(shown(name), _WIDEST), width), "cyan" if is_made else "dim")
        out.print(line.append(text, style))
    for name, (said,) in found.why.items():
        print_columns(out, [("", "", 2), (f"why {name}", "dim", width)], shown(said), "cyan")
