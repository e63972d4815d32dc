"""A look at data on a terminal: a line a column, then what deserves another look; or one column in full."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from kivvet.core.draft.look import ColumnLook, Look, ReadAs
from kivvet.core.words.wording import count
from kivvet.show.applied import print_no_data
from kivvet.show.terminal import bar, percent, print_columns, print_hint

_SPARKS = "▁▂▃▄▅▆▇█"
_MOST_VALUES = 20
_LONGEST_VALUE = 40
_BAR_WIDTH = 30
_LONGEST_FIGURE = 12


def print_look(out: Console, look: Look, title: str) -> None:
    """Print a line for each column, and the hints."""
    out.print(
        Text()
        .append(title, "bold")
        .append(f"  {count(look.rows, 'row')}, {count(len(look.columns) + look.n_more, 'column')}")
    )
    if look.no_data:
        print_no_data(out, look.no_data)
    if look.read_as is not None:
        _print_read_as(out, look.read_as)
    out.print()
    cells = [_cells(column) for column in look.columns]
    heads = ("column", "type", "missing", "distinct", "")
    widths = [max(len(row[place]) for row in [heads, *cells]) for place in range(4)]
    _print_line(out, heads, widths, "dim")
    for row, one in zip(cells, look.columns, strict=True):
        _print_line(out, row, widths, "", _spark(one))
    if look.n_more:
        print_hint(
            out,
            f"... and {look.n_more:,} more columns; those you name are looked at: kivvet look SOURCE COLUMN",
            "dim",
        )
    hints = [(column.name, hint) for column in look.columns for hint in column.hints]
    if hints:
        out.print()
        out.print(Text("Look again at", "bold"))
        width = 2 + max(len(name) for name, _ in hints)
        for name, hint in hints:
            print_columns(out, [("", "", 2), (name, "yellow", width)], hint)


def _print_read_as(out: Console, read_as: ReadAs) -> None:
    """Print how a file was read, as lines that a dataset takes."""
    out.print()
    if read_as.lines:
        out.print(
            Text(f"Read as {f'{read_as.by} says' if read_as.by else 'recognised'}; a dataset says", "bold")
        )
        for line in read_as.lines:
            out.print(Text(f"  {line}", "cyan"))
    for remark in read_as.remarks:
        print_columns(out, [("", "", 2), ("note", "yellow", 6)], remark)


def _cells(one: ColumnLook) -> tuple[str, str, str, str, str]:
    missing = percent(one.missing, one.rows) if one.missing else "."
    distinct = f"{one.distinct:,}" if one.is_counted else f"> {one.distinct:,}"
    return one.name, one.type, missing, distinct, _in_short(one)


def _in_short(one: ColumnLook) -> str:
    if one.lowest:
        step = (
            f", step {one.step}"
            if one.step and one.type == "number"
            else ", continuous"
            if one.type == "number"
            else ""
        )
        ends = [_short(one.lowest), *([_short(one.highest)] if one.highest != one.lowest else [])]
        return f"{' to '.join(ends)}{step}"
    if one.distinct == one.rows - one.missing > 1:
        return f"every value once, such as {_cut(one.values[0][0])}" if one.values else "every value once"
    shown = ", ".join(f"{_cut(value)} {percent(rows, one.rows)}" for value, rows in one.values[:4])
    more = ", ..." if len(one.values) > 4 else ""
    why = f"  ({one.reason})" if one.reason.startswith("leading") else ""
    return f"{shown}{more}{why}"


def _short(figure: str) -> str:
    return (
        figure
        if len(figure) <= _LONGEST_FIGURE or not figure[-1].isdigit() or "-" in figure[1:]
        else f"{float(figure):.6g}"
    )


def _print_line(out: Console, row: Sequence[str], widths: Sequence[int], style: str, spark: str = "") -> None:
    line = Text()
    for place, width in enumerate(widths):
        text = row[place].rjust(width) if place >= 2 else row[place].ljust(width)
        line.append(text + "  ", style or ("bold" if place == 0 else "cyan" if place == 1 else ""))
    if spark:
        line.append(spark + "  ", "blue")
    line.append(row[4])
    if out.is_terminal and len(line) > out.width:
        line.truncate(out.width, overflow="ellipsis")
    line.rstrip()
    out.print(line)


def _spark(one: ColumnLook) -> str:
    most = max((rows for *_, rows in one.bars), default=0)
    return (
        "".join(_SPARKS[(rows * (len(_SPARKS) - 1) + most - 1) // most] for *_, rows in one.bars)
        if most
        else ""
    )


def print_column(out: Console, one: ColumnLook, uses: Sequence[str], *, all_values: bool) -> None:
    """Print one column in full: its range with a histogram, or its values with counts."""
    out.print(
        Text().append(one.name, "bold").append(f"  {one.type}", "cyan").append(f"  ({one.reason})", "dim")
    )
    distinct = f"{one.distinct:,}" if one.is_counted else f"more than {one.distinct:,}"
    out.print(
        Text(
            f"  {count(one.rows, 'row')}, {one.missing:,} missing ({percent(one.missing, one.rows)}), {distinct} distinct"
            + (f", longest {one.longest} characters" if one.longest else "")
        )
    )
    for use in uses:
        out.print(Text(f"  {use}", "dim"))
    if one.lowest:
        _print_range(out, one)
    if not one.bars or all_values or one.distinct <= _MOST_VALUES:
        _print_values(out, one, all_values=all_values)
    if one.hints:
        out.print()
        for hint in one.hints:
            print_columns(out, [("", "", 2), ("look again", "yellow", 12)], hint)


def _print_range(out: Console, one: ColumnLook) -> None:
    fine = f"all are multiples of {one.step}" if one.step else "continuous" if one.type == "number" else ""
    out.print(Text(f"  {one.lowest} to {one.highest}" + (f", {fine}" if fine else "")))
    quantiles = "   ".join(f"{share} {value}" for share, value in one.quantiles.items())
    print_columns(out, [("", "", 2), ("quantiles", "dim", 11)], quantiles)
    out.print()
    if not one.bars:
        return
    most = max(rows for *_, rows in one.bars)
    low_width = max(len(low) for low, *_ in one.bars)
    high_width = max(len(high) for _, high, _ in one.bars)
    figures = max(len(f"{rows:,}") for *_, rows in one.bars)
    for low, high, rows in one.bars:
        line = Text(f"    {low:>{low_width}} to {f'<{high}':>{high_width + 1}}  {rows:>{figures},}  ")
        out.print(line.append(bar(rows / most, _BAR_WIDTH), "blue"))


def _print_values(out: Console, one: ColumnLook, *, all_values: bool) -> None:
    out.print()
    values = one.values if all_values else one.values[:_MOST_VALUES]
    width = max((len(_cut(value)) for value, _ in values), default=0)
    figures = max((len(f"{rows:,}") for _, rows in values), default=0)
    for value, rows in values:
        line = Text(f"    {_cut(value):<{width}}  {rows:>{figures},}  {percent(rows, one.rows):>7}  ")
        line.append(bar(rows / values[0][1], _BAR_WIDTH), "blue")
        line.rstrip()
        out.print(line)
    if len(values) < one.distinct:
        out.print(Text(f"    ... and {one.distinct - len(values):,} more; --all lists them", "dim"))


def _cut(value: str) -> str:
    shown = value if value == value.strip() and value.isprintable() else repr(value)
    return shown if len(shown) <= _LONGEST_VALUE else shown[: _LONGEST_VALUE - 3] + "..."
