"""Merging two versions of a table's file that both come from a third, by what they mean."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from kivvet.books.files.line_merge import MergedText, merged_text
from kivvet.books.files.read_table import files_beside, how_rows_are_read, read_table
from kivvet.books.files.readers import read_toml
from kivvet.books.files.row_merge import merged_rows
from kivvet.books.files.table_files import as_files
from kivvet.books.runs.table_findings import new_errors
from kivvet.core.compare.change import Change
from kivvet.core.compare.compare import changes_between
from kivvet.core.run.three_way import Clash, ThreeWay, three_way
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError, OutputError
from kivvet.core.words.findings import Finding
from kivvet.core.words.places import Place
from kivvet.core.words.printed import Printed
from kivvet.core.words.wording import shown_path
from kivvet.io.files import replacing
from kivvet.io.formats import ROW_ENDINGS, delimiter_of
from kivvet.io.scratch import scratch_folder

MERGE_VERSION = 1


@dataclass(frozen=True)
class Merged(Printed):
    """Two versions of a table's file as one.

    Attributes
    ----------
    path : str
        The file that is merged, as it is called in the book.
    text : str
        What it holds then; with marks around lines that could not be merged.
    clashes : tuple of Clash
        Regions that both changed, to different results.
    conflicts : int
        Places in the text that could not be merged.
    called : tuple of (str, str)
        What the two sides are called.
    is_proven : bool
        Whether it is certain that the merged table gives just what each side changed, and else what it gave before.
    wrong : str
        Where the merged text would give what nobody wanted.
    errors : tuple of Finding
        What the merged table has that neither side had: a value that two rows hold now, a gap between bounds that both
        moved.
    changes : tuple of two tuples of Change
        What each side changed, where something is left to decide.
    why_not : str
        Why its meaning was not looked at: a version that is no table, or tables of different columns.
    """

    path: str
    text: str
    clashes: tuple[Clash, ...] = ()
    conflicts: int = 0
    called: tuple[str, str] = ("ours", "theirs")
    is_proven: bool = False
    wrong: str = ""
    errors: tuple[Finding, ...] = ()
    why_not: str = ""
    changes: tuple[tuple[Change, ...], tuple[Change, ...]] = ((), ())

    @property
    def is_clean(self) -> bool:
        """Whether the merged text can be used as it is."""
        return not (self.clashes or self.conflicts or self.wrong or self.errors)

    def write(self, target: str | Path) -> None:
        """Write the merged text to a file, atomically; the line ends of what is there are kept.

        Raises
        ------
        OutputError
            If it cannot be written.
        """
        path = Path(target)
        try:
            had = path.read_bytes() if path.is_file() else b""
        except OSError as error:
            raise OutputError(f"cannot be read: {error.strerror}", place=Place(shown_path(path))) from error
        mark = b"\xef\xbb\xbf" if had.startswith(b"\xef\xbb\xbf") else b""
        text = self.text.replace("\n", "\r\n") if b"\r\n" in had else self.text
        with replacing(path) as beside:
            beside.write_bytes(mark + text.encode())

    def as_dict(self) -> dict[str, Any]:
        return {
            "version": MERGE_VERSION,
            "path": self.path,
            "clean": self.is_clean,
            "proven": self.is_proven,
            "clashes": [clash.as_dict() for clash in self.clashes],
            "conflicts": self.conflicts,
            "called": list(self.called),
            "wrong": self.wrong,
            "errors": [error.as_dict() for error in self.errors],
            "changes": [[one.as_dict() for one in side] for side in self.changes],
            "why_not": self.why_not,
            "text": self.text,
        }


def merge_files(
    base: str | Path,
    ours: str | Path,
    theirs: str | Path,
    *,
    path: str | Path | None = None,
    called: tuple[str, str] = ("ours", "theirs"),
) -> Merged:
    """Return two versions of a table's file, or of the file of its rows, as one; see `kivvet.merge`."""
    texts = [_text_of(Path(one)) for one in (base, ours, theirs)]
    real = Path(ours if path is None else path)
    made = _by_keys(real, texts, called) or merged_text(texts[0], texts[1], texts[2], called)
    found = _merged_as(made, texts, real, called)
    if made.has_ends_of_both and not found.is_proven and not found.clashes:
        return _merged_as(
            merged_text(texts[0], texts[1], texts[2], called, by_ends=False), texts, real, called
        )
    return found


def _by_keys(real: Path, texts: Sequence[str], called: tuple[str, str]) -> MergedText | None:
    """Return three versions of the rows of a lookup merged row by row; None where it is none, or its keys do not tell rows
    apart.
    """
    definition = _definition_of(real)
    if definition is None or definition == real:
        return None
    table = _table_of(definition, real, texts[0])
    if table is None or table.lookup is None:
        return None
    options, _ = how_rows_are_read(definition)
    if options.headings:
        return None
    keys = [
        (input_.column or input_.name) if input_.period is None else input_.period.start
        for input_ in table.inputs
    ]
    delimiter = options.delimiter or delimiter_of(real)
    return merged_rows(texts, keys, delimiter, options.quote, options.lines_above, called)


def _merged_as(made: MergedText, texts: Sequence[str], real: Path, called: tuple[str, str]) -> Merged:
    """Return a merged text with what it means."""
    shown = shown_path(real)
    definition = _definition_of(real)
    if definition is None:
        return Merged(
            shown, made.text, conflicts=len(made.conflicts), called=called, why_not="it is no file of a table"
        )
    tables = [_table_of(definition, real, text) for text in texts]
    unread = [
        name for name, table in zip(("the common version", *called), tables, strict=True) if table is None
    ]
    if unread:
        wrong = f"{unread[0]} cannot be read as a table, so it is not known what the merged one gives"
        return Merged(shown, made.text, conflicts=len(made.conflicts), called=called, wrong=wrong)
    one, two, three = (table for table in tables if table is not None)
    return _judged(shown, made, called, (one, two, three), definition, real)


def _judged(
    shown: str,
    made: MergedText,
    called: tuple[str, str],
    tables: tuple[Table, Table, Table],
    definition: Path,
    real: Path,
) -> Merged:
    merged = None if made.conflicts else _table_of(definition, real, made.text)
    if merged is None:
        found = three_way(*tables, None)
        changes = changes_between(tables[0], tables[1]), changes_between(tables[0], tables[2])
        broken = "" if made.conflicts else "the merged text cannot be read as a table"
        conflicts = len(made.conflicts)
        return Merged(shown, made.text, found.clashes, conflicts, called, wrong=broken, changes=changes)
    found = three_way(*tables, merged)
    errors = (
        () if found.clashes else tuple(replace(one, places=()) for one in new_errors(merged, *tables[1:]))
    )  # of a copy, which nobody knows
    text = made.text
    if found.clashes:
        text = _with_marks(text, found, called)
    why = (
        ""
        if found.is_proven or found.clashes or found.wrong
        else "its cases are too many to be proven, or its columns differ"
    )
    return Merged(shown, text, found.clashes, 0, called, found.is_proven, found.wrong, errors, why)


def _with_marks(text: str, found: ThreeWay, called: tuple[str, str]) -> str:
    """Return a text that lines alone would have merged, with a mark on top, so that nobody takes it for merged."""
    said = "".join(
        f"# {clash.where}: {called[0]} {clash.ours}, {called[1]} {clash.theirs}\n" for clash in found.clashes
    )
    return f"<<<<<<< {called[0]}\n{said}=======\n>>>>>>> {called[1]}\n{text}"


def _text_of(path: Path) -> str:
    try:
        return path.read_bytes().decode("utf-8-sig").replace("\r\n", "\n")
    except OSError as error:
        raise BookError(f"cannot be read: {error.strerror}", place=Place(shown_path(path))) from error
    except UnicodeDecodeError as error:
        raise BookError("is not UTF-8", place=Place(shown_path(path)), fix="save it as UTF-8") from error


def _definition_of(real: Path) -> Path | None:
    """Return the TOML file of the table that a file defines or holds the rows of; None where there is none."""
    if real.suffix == ".toml":
        return real
    if not real.name.lower().endswith(ROW_ENDINGS):
        return None
    for path in sorted(real.parent.glob("*.toml")):
        document, _ = read_toml(path)
        if document is not None and real.resolve() in {
            x.resolve() for x in files_beside(path, document.values)
        }:
            return path
    return None


def _table_of(definition: Path, real: Path, text: str) -> Table | None:
    """Return the table that a version of a file describes; None where it cannot be read."""
    if definition == real and not definition.parent.is_dir():
        with scratch_folder() as folder:
            alone = folder / definition.name
            alone.write_text(text, encoding="utf-8", newline="")
            table, _, faults = read_table(alone)
    else:
        with as_files(definition, real, text) as (there, _):
            table, _, faults = read_table(there)
    return None if table is None or any(fault.severity == "error" for fault in faults) else table
