"""Three versions of a file of keyed rows as one: row by row by their keys, wherever each side has put them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from kivvet.books.files.line_merge import MergedText, merged_line
from kivvet.io.csv_records import BrokenRecordError, records


@dataclass(frozen=True)
class _Rows:
    """The rows of one version: what stands above them, the headings, and by key the text and the fields of each, in order."""

    above: str
    headings: tuple[str, ...]
    texts: Mapping[tuple[str, ...], str]
    fields: Mapping[tuple[str, ...], tuple[str, ...]]

    @classmethod
    def of(cls, text: str, keys: Sequence[str], delimiter: str, quote: str, lines_above: int) -> _Rows | None:
        """Return the rows of a text; None where its headings lack a key, or a key stands twice."""
        lines = text.splitlines(keepends=True)
        if lines and not lines[-1].endswith("\n"):
            lines[-1] += "\n"
        try:
            found = list(records(lines[lines_above:], delimiter, is_strict=True, quote=quote))
        except BrokenRecordError:
            return None
        found = [(line - 1 + lines_above, record) for line, record in found if record]
        if not found:
            return None
        (_, headings), *rows = found
        names = [heading.strip() for heading in headings]
        if len(set(names)) != len(names) or not set(keys) <= set(names):
            return None
        places = [names.index(key) for key in keys]
        ends = [line for line, _ in found[2:]] + [len(lines)]
        begin = found[1][0] if rows else len(lines)
        texts: dict[tuple[str, ...], str] = {}
        fields: dict[tuple[str, ...], tuple[str, ...]] = {}
        for (start, record), end in zip(rows, ends, strict=False):
            if len(record) != len(names):
                return None
            key = tuple(record[place].strip() for place in places)
            if key in texts:
                return None
            texts[key], fields[key] = "".join(lines[start:end]), tuple(record)
        return cls("".join(lines[:begin]), tuple(names), texts, fields)


def merged_rows(
    texts: Sequence[str],
    keys: Sequence[str],
    delimiter: str,
    quote: str = '"',
    lines_above: int = 0,
    called: tuple[str, str] = ("ours", "theirs"),
) -> MergedText | None:
    """Return the common version, ours and theirs as one text; None where they are no rows with keys of their own.

    A row that one side changed, took out or added is taken from it, and of a row that both changed the cells. Rows stand in
    the order of ours, unless only theirs has them in another than before.

    Parameters
    ----------
    texts : sequence of three str
    keys : sequence of str
        The headings of the columns that tell rows apart.
    delimiter, quote : str
    lines_above : int
        What stands above the headings.
    """
    found = [_Rows.of(text, keys, delimiter, quote, lines_above) for text in texts]
    base, ours, theirs = found
    if base is None or ours is None or theirs is None:
        return None
    aboves = [one.above for one in (base, ours, theirs)]
    if not base.headings == ours.headings == theirs.headings or len(set(aboves)) == 3:
        return None
    made = MergedText([aboves[1] if aboves[2] == aboves[0] else aboves[2]])
    for key in _order(list(base.texts), list(ours.texts), list(theirs.texts)):
        _add(made, key, base, ours, theirs, called)
    return made


def _add(
    made: MergedText,
    key: tuple[str, ...],
    base: _Rows,
    ours: _Rows,
    theirs: _Rows,
    called: tuple[str, str],
) -> None:
    """Add what becomes of one row."""
    before, one, two = (each.fields.get(key) for each in (base, ours, theirs))
    if two in (one, before):
        made.lines += [ours.texts[key]] if one is not None else []
    elif one == before:
        made.lines += [theirs.texts[key]] if two is not None else []
    else:
        sides = [each.texts.get(key, "") for each in (ours, theirs)]
        cells = merged_line(base.texts[key], *sides) if before and one and two else None
        if cells is not None:
            made.lines.append(cells)
        else:
            made.add_conflict(*([side] if side else [] for side in sides), called=called)


def _order(
    base: Sequence[tuple[str, ...]], ours: Sequence[tuple[str, ...]], theirs: Sequence[tuple[str, ...]]
) -> list[tuple[str, ...]]:
    """Return all keys of both sides, each once: in the order of the side that moved rows, else of ours; what only the other
    has after what stands before it there.
    """
    held = set(base)
    is_moved = [key for key in ours if key in held] != [key for key in base if key in set(ours)]
    first, other = (ours, theirs) if is_moved else (theirs, ours)
    after: dict[tuple[str, ...] | None, list[tuple[str, ...]]] = {}
    known, before = set(first), None
    for key in other:
        if key not in known:
            after.setdefault(before, []).append(key)
        else:
            before = key
    made = list(after.get(None, []))
    for key in first:
        made += [key, *after.get(key, [])]
    return made
