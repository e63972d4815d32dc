"""What is in a book, and what uses what, on a terminal."""

from __future__ import annotations

from collections.abc import Sequence

from rich.cells import cell_len
from rich.console import Console
from rich.text import Text

from kivvet.books.asks.overview import Overview, TableListed, Use
from kivvet.core.words.wording import count, listed
from kivvet.show.figures import cut, padded, shown
from kivvet.show.terminal import SEVERITY_STYLES, print_columns

_WIDEST = 40
_NARROWEST = 14


def print_overview(out: Console, found: Overview) -> None:
    """Print tables, formulas, datasets and summaries, a line each."""
    out.print(Text(shown(found.title), "bold"))
    if found.tables:
        out.print()
        out.print(Text("tables", "dim"))
        rows = [
            [
                table.name,
                table.shape,
                f"{table.rows:,}",
                _reads(table),
                _users(table.used_by),
                table.owner,
                table.reviewed,
            ]
            for table in found.tables
        ]
        styles = [
            ("bold", False),
            ("cyan", False),
            ("", True),
            ("", False),
            ("dim", False),
            ("dim", False),
            ("dim", False),
        ]
        for one, line in zip(found.tables, _aligned(out, rows, styles), strict=True):
            for severity, number in sorted(one.findings.items()):
                if severity != "note":
                    line.append(f"  {count(number, severity)}", SEVERITY_STYLES.get(severity, ""))
            line.rstrip()
            out.print(line)
    if found.formulas:
        out.print()
        out.print(Text("formulas", "dim"))
        rows = [
            [formula.name, cut(shown(formula.text), 60), _users(formula.used_by)]
            for formula in found.formulas
        ]
        for line in _aligned(out, rows, [("bold", False), ("", False), ("dim", False)], widest=60):
            line.rstrip()
            out.print(line)
    for heading, is_summary in (("datasets", False), ("summaries", True)):
        some = [dataset for dataset in found.datasets if dataset.is_summary is is_summary]
        if not some:
            continue
        out.print()
        out.print(Text(heading, "dim"))
        rows = [
            [
                one.name,
                f"of {one.source}" if is_summary else one.source,
                f"-> {one.target}" if one.target else "",
                count(len(one.columns), "new column") if one.columns else "",
                one.problem,
            ]
            for one in some
        ]
        styles = [("bold", False), ("cyan", False), ("cyan", False), ("dim", False), ("yellow", False)]
        for line in _aligned(out, rows, styles):
            line.rstrip()
            out.print(line)
    if found.unreadable:
        out.print()
        names = listed(map(shown, found.unreadable), 12)
        print_columns(out, [("cannot be read", "bold red", 16)], f"{names}: why is told by: kivvet check")


def _reads(one: TableListed) -> str:
    return f"{', '.join(one.inputs)} -> {', '.join(one.outputs)}"


def _users(names: Sequence[str]) -> str:
    return f"used by {listed(names, 4)}" if names else "used by nothing"


def _aligned(
    out: Console, rows: Sequence[Sequence[str]], styles: Sequence[tuple[str, bool]], widest: int = _WIDEST
) -> list[Text]:
    """Return rows as lines, aligned; on a terminal that is too narrow the longest columns are cut, then the last left out."""
    cells = [[cut(shown(one), widest) for one in row] for row in rows]
    widths = [max(cell_len(row[place]) for row in cells) for place in range(len(styles))]
    room = out.width - 2 if out.is_terminal else 1 << 30
    while sum(min(width, _NARROWEST) + 2 for width in widths if width) > room and any(widths[1:]):
        widths[max(place for place, width in enumerate(widths) if width)] = 0
    while sum(width + 2 for width in widths if width) > room and max(widths) > _NARROWEST:
        widths[max(range(len(widths)), key=lambda place: widths[place])] -= 1
    cells = [[cut(one, width) for one, width in zip(row, widths, strict=True)] for row in cells]
    lines = []
    for row in cells:
        line = Text("  ")
        for cell, width, (style, right) in zip(row, widths, styles, strict=True):
            if width:
                line.append(padded(cell, width, right=right) + "  ", style)
        lines.append(line)
    return lines


def print_uses(out: Console, name: str, found: Sequence[Use]) -> None:
    """Print how the datasets use a column: what makes it, what it rests on, what reads it, what it leads to."""
    out.print(Text(shown(name), "bold"))
    if not found:
        out.print(Text("  no dataset uses it", "yellow"))
    for one in found:
        out.print(Text("  ").append(one.dataset, "cyan"))
        for word, said in (
            ("made by", one.made_by),
            ("rests on", listed(map(shown, one.rests_on), 40) if one.rests_on else ""),
            ("read by", listed(one.read_by, 40) if one.read_by else "nothing"),
            ("leads to", listed(map(shown, one.leads_to), 40) if one.leads_to else ""),
        ):
            if said:
                print_columns(out, [("", "", 4), (word, "dim", 10)], said)
