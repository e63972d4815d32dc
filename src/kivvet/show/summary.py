"""A cross-table on a terminal: keys once, numbers aligned, subtotals and totals, as many columns side by side as fit."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from rich.cells import cell_len
from rich.console import Console
from rich.text import Text

from kivvet.core.formulas.tree import write_name
from kivvet.core.run.cross_table import TOTAL, Cell, CrossTable, Label, Share
from kivvet.core.words.wording import count, shell_word
from kivvet.show.figures import NONE, cut, decimals_of, figure, padded, shown
from kivvet.show.terminal import print_columns

_MOST_LINES = 60
_LONGEST_KEY = 32
_LONGEST_HEAD = 18


@dataclass(frozen=True)
class _Column:
    """A column of figures: its headings, and a text for each line."""

    across: str
    head: str
    cells: list[str]
    is_total: bool

    @property
    def width(self) -> int:
        return max([cell_len(self.head), *(cell_len(cell) for cell in self.cells)])


def print_summary(
    out: Console, found: CrossTable, name: str, *, share: Share | None = None, with_hint: bool = True
) -> None:
    """Print a cross-table.

    Parameters
    ----------
    share : {"row", "column", "total"}, optional
        What counts and totals are also shown as shares of.
    with_hint : bool
        Whether to say how the rows behind a figure are shown.
    """
    by = ", ".join(found.by) or "all rows"
    head = Text().append(name, "bold").append(f"  by {shown(by)}" if found.by else "  all rows", "dim")
    head.append(f" across {shown(found.across)}" if found.across else "", "dim")
    out.print(head.append(f"   {count(found.rows, 'row')}"))
    if found.left_out:
        print_columns(out, [("", "", 2)], f"{count(found.left_out, 'row')} left out by where", "dim")
    if found.n_joined:
        said = f"the {count(found.n_joined, 'smallest column')} of {shown(found.across or '')} are joined as (rest)"
        print_columns(out, [("", "", 2)], said, "yellow")
    out.print()
    lines = list(found.lines)
    body, last = (lines[:-1], lines[-1:]) if len(lines) > 1 else (lines, [])
    hidden = max(0, len(body) - _MOST_LINES)
    few = [*body[: len(body) - hidden], *last]
    keys = _key_texts(few)
    widths = [
        max([cell_len(cut(shown(key), _LONGEST_KEY)), *(cell_len(line[place]) for line in keys)])
        for place, key in enumerate(found.by)
    ]
    columns = _columns(found, few, share)
    for number, block in enumerate(_blocks(out, columns, sum(widths) + 2 * len(widths))):
        if number:
            out.print()
        _print_block(out, found, few, keys, widths, block)
    if hidden:
        out.print(Text(f"  ... and {count(hidden, 'more line')}; --csv and --json list all", "dim"))
    if with_hint and (hint := _hint(found, name)):
        out.print()
        print_columns(out, [("", "", 2), ("rows", "dim", 6)], hint, "dim")


def _key_texts(lines: Sequence[tuple[Label, ...]]) -> list[list[str]]:
    """Return the keys of each line as they are shown: what stands above already, and the rest of a total, blank."""
    texts: list[list[str]] = []
    before: tuple[Label, ...] = ()
    for line in lines:
        made = []
        for place, label in enumerate(line):
            is_same = line[: place + 1] == before[: place + 1]
            is_after_total = place > 0 and line[place - 1] == TOTAL
            text = "" if is_same or is_after_total else cut(shown(str(label)), _LONGEST_KEY)
            made.append(text)
        texts.append(made)
        before = line
    return texts


def _columns(found: CrossTable, lines: Sequence[tuple[Label, ...]], share: Share | None) -> list[_Column]:
    decimals = [
        decimals_of([cell.values[place] for cell in found.cells]) for place in range(len(found.values))
    ]
    columns = []
    for across in found.columns or (None,):
        for place, value in enumerate(found.values):
            cells = [found.cell(line, across) for line in lines]
            label = "" if across is None else cut(shown(str(across)), _LONGEST_HEAD)
            texts = [
                NONE
                if cell is None
                else figure(cell.values[place], decimals[place], is_amount=found.is_amount(place))
                for cell in cells
            ]
            is_single = len(found.values) == 1 and across is not None
            head = label if is_single else cut(shown(value), _LONGEST_HEAD)
            columns.append(_Column("" if is_single else label, head, texts, across == TOTAL))
            if share is not None and found.additive[place]:
                parts = [_percent(found, cell, place, share) for cell in cells]
                columns.append(_Column("" if is_single else label, "%", parts, across == TOTAL))
    return columns


def _percent(found: CrossTable, cell: Cell | None, place: int, share: Share) -> str:
    part = None if cell is None else found.share(cell, place, share)
    return NONE if part is None else f"{100 * part:.1f} %"


def _blocks(out: Console, columns: list[_Column], key_width: int) -> list[list[_Column]]:
    """Return the columns in blocks that fit the terminal side by side; all of them where output is piped."""
    if not out.is_terminal:
        return [columns]
    blocks: list[list[_Column]] = [[]]
    room = used = max(20, out.width - key_width - 2)
    used = 0
    for group in _groups(columns, room):
        width = sum(column.width + 2 for column in group)
        if blocks[-1] and used + width > room:
            blocks.append([])
            used = 0
        blocks[-1] += group
        used += width
    return blocks


def _groups(columns: list[_Column], room: int) -> list[list[_Column]]:
    """Return the columns that are to stand side by side: those below one heading where they fit, else a figure and its
    share.
    """
    groups: list[list[_Column]] = []
    for column in columns:
        is_share = column.head == "%"
        if groups and (is_share or (column.across and column.across == groups[-1][-1].across)):
            groups[-1].append(column)
        else:
            groups.append([column])
    pairs = []
    for group in groups:
        if sum(column.width + 2 for column in group) <= room:
            pairs.append(group)
            continue
        for column in group:
            if column.head == "%" and pairs:
                pairs[-1].append(column)
            else:
                pairs.append([column])
    return pairs


def _print_block(
    out: Console,
    found: CrossTable,
    lines: Sequence[tuple[Label, ...]],
    keys: list[list[str]],
    widths: list[int],
    columns: list[_Column],
) -> None:
    indent = Text("  ")
    if any(column.across for column in columns):
        top = indent + Text(" " * (sum(widths) + 2 * len(widths)))
        place = 0
        while place < len(columns):
            same = place
            while same + 1 < len(columns) and columns[same + 1].across == columns[place].across:
                same += 1
            width = sum(column.width for column in columns[place : same + 1]) + 2 * (same - place)
            top.append(padded(cut(columns[place].across, width), width, right=True) + "  ", "dim")
            place = same + 1
        top.rstrip()
        out.print(top)
    head = indent.copy()
    for key, width in zip(found.by, widths, strict=True):
        head.append(padded(cut(shown(key), _LONGEST_KEY), width) + "  ", "dim")
    for column in columns:
        head.append(padded(column.head, column.width, right=True) + "  ", "dim")
    head.rstrip()
    if head.plain.strip():
        out.print(head)
    for number, (line, texts) in enumerate(zip(lines, keys, strict=True)):
        is_total = TOTAL in line
        text = indent.copy()
        for label, cell, width in zip(line, texts, widths, strict=True):
            style = "bold" if label == TOTAL else "yellow" if label.kind != "value" else ""
            text.append(padded(cell, width) + "  ", style)
        for column in columns:
            style = "bold" if is_total or column.is_total else ""
            figure_ = column.cells[number]
            text.append(padded(figure_, column.width, right=True) + "  ", "dim" if figure_ == NONE else style)
        text.rstrip()
        out.print(text)
        if is_total and len(line) > 1 and line[0] != TOTAL and line[1] == TOTAL and number + 1 < len(lines):
            out.print()


def _hint(found: CrossTable, name: str) -> str:
    """Return the command that shows the rows of the largest single figure."""
    single = [
        cell
        for cell in found.cells
        if cell.rows
        and all(one.kind in ("value", "missing") for one in cell.by)
        and (cell.across is None or cell.across.kind == "value")
    ]
    if not single or not found.by:
        return ""
    largest = max(single, key=lambda cell: cell.rows)
    names = [
        found.expressions.get(one, one) for one in (*found.by, *([found.across] if found.across else []))
    ]
    labels = [*largest.by, *([largest.across] if largest.across is not None else [])]
    parts = [condition_of(key, label) for key, label in zip(names, labels, strict=True)]
    return f"kivvet show {shell_word(name)} --where {shell_word(' AND '.join(parts))}"


def condition_of(name: str, label: Label) -> str:
    """Return the condition that rows of a label meet."""
    is_name = re.fullmatch(r"[^\W\d]\w*", name) is not None
    key = write_name(name) if is_name or not any(sign in name for sign in "()+*/'") else name
    if label.kind != "value":
        return f"{key} IS NULL"
    value = label.value
    if isinstance(value, bool):
        return f"{key} = {'TRUE' if value else 'FALSE'}"
    if isinstance(value, str):
        return f"{key} = '{value.replace(chr(39), chr(39) * 2)}'"
    text = str(label)
    return f"{key} = DATE '{text}'" if "-" in text[1:] and "e" not in text else f"{key} = {text}"
