"""Rules that stand in a query, taken over as tables and formulas of a book: proved to give the same, then written."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from kivvet.books.asks.adopted import Adopted, RulesAdopted
from kivvet.books.asks.adopted_proof import Proof, proved
from kivvet.books.asks.data_read import DataRead, data_read
from kivvet.books.files.read_formulas import parse_named_formula
from kivvet.books.files.read_table import read_table
from kivvet.books.runs.read_data import infer_types, source_type
from kivvet.core.adopt.apart import texts_apart
from kivvet.core.adopt.case_table import CaseTable, case_table
from kivvet.core.adopt.cases import Branch, branches_of, is_case
from kivvet.core.adopt.queries import Item, read_query
from kivvet.core.adopt.sql_tokens import Token, joined, spelled_once
from kivvet.core.check.check import findings_of
from kivvet.core.compare.compare import compare_tables
from kivvet.core.formulas.errors import FormulaError, pointed_at
from kivvet.core.formulas.tree import And, Case, Constant, Tree, write_name
from kivvet.core.read.options import toml_text
from kivvet.core.read.table_text import input_text, result_text
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError, DataError, TableError
from kivvet.core.words.places import Place
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import count, did_you_mean, listed, shown_path, toml_key
from kivvet.io.scratch import scratch_folder

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

_MOST_BYTES = 16 << 20


class NothingError(Exception):
    """No branch is left."""


@dataclass(frozen=True)
class _Text:
    """A query and what it is called in messages."""

    text: str
    shown: str

    def fault(self, error: FormulaError) -> DataError:
        """Return an error of the text with its line and column."""
        before = self.text[: error.offset]
        line, column = before.count("\n") + 1, error.offset - (before.rfind("\n") + 1) + 1
        return DataError(
            f"{error.problem}\n{pointed_at(self.text, error.offset)}",
            place=Place(self.shown, line, column),
            fix=error.fix or None,
        )


def adopt_sql(
    book: OpenBook,
    path: Path | None,
    query: str = "",
    *,
    name: str = "",
    on: object = None,
    against: str = "",
    on_rows: Callable[[int], None] = lambda _: None,
) -> RulesAdopted:
    """Return the rules of a query as tables and formulas, nothing written yet; see `Book.adopt`.

    Parameters
    ----------
    path : Path or None
        Of a file of SQL; None where the query itself is given.
    """
    text = _Text(query, "the query") if path is None else _text_of(path)
    stem = name or ("adopted" if path is None else path.stem)
    data = None if on is None else _Data.of(book, on)
    try:
        found = read_query(text.text)
        made: list[Adopted] = []
        left = list(found.left)
        spelled: dict[str, str] = {}  # by a name in small letters, as it stands first
        named = [item for item in found.items if name and item.name == name]
        for item in named or found.items:
            called = item.name or (stem if len(found.items) == 1 else f"{stem}_{len(made) + 1}")
            tokens = spelled_once(item.tokens, spelled) if data is None else data.with_its_names(item.tokens)
            one = _adopted(called, replace(item, tokens=tokens), text, data)
            if isinstance(one, str):
                left.append(one)
            else:
                made.append(one)
    except FormulaError as error:
        raise text.fault(error) from error
    if not made:
        raise DataError(
            "no CASE and no expression stands here that could be taken over",
            place=Place(text.shown),
            found="; ".join(left) or None,
        )
    proofs: list[Proof] = []
    tables = [one.name for one in made if one.table is not None]
    if against and len(tables) > 1:
        raise BookError(
            f"a column of old results is of one table, and the query makes {len(tables)}: {listed(tables, 8)}",
            fix=f"say which: --name {tables[0]} (name={tables[0]!r})",
        )
    if data is not None:
        proofs = [
            proved(book, data.read, one.name, one.table, one.tree, against, on_rows)
            for one in made
            if one.table is not None
        ]
    return RulesAdopted(text.shown, tuple(made), tuple(left), tuple(proofs))


def _text_of(path: Path) -> _Text:
    try:
        raw = path.read_bytes()
    except OSError as error:
        raise BookError(f"cannot be read: {error.strerror}", place=Place(shown_path(path))) from error
    if len(raw) > _MOST_BYTES:
        raise BookError(f"has {len(raw):,} bytes, more than a query has", place=Place(shown_path(path)))
    for encoding in ("utf-8-sig", "utf-16" if raw[:2] in (b"\xff\xfe", b"\xfe\xff") else "cp1252"):
        try:
            return _Text(raw.decode(encoding).replace("\r\n", "\n"), shown_path(path))
        except UnicodeDecodeError:
            continue
    raise BookError("is no text", place=Place(shown_path(path)), fix="save it as UTF-8")


@dataclass
class _Data:
    """The data at hand: its columns, and their types as far as they are known."""

    read: DataRead
    names: list[str]
    types: dict[str, ValueType]

    @classmethod
    def of(cls, book: OpenBook, on: object) -> _Data:
        read = data_read(book, on)
        source = read.open()
        types = {
            name: kind
            for name in source.names
            if (kind := source_type(source, read.dataset.types, name)) is not None
        }
        if source.is_text:
            unknown = [name for name in source.names if name not in types]
            types |= infer_types(source, read.dataset, unknown).types
        return cls(read, list(source.names), types)

    def with_its_names(self, tokens: Sequence[Token]) -> list[Token]:
        """Return tokens whose names of columns are written as the data has them; `FormulaError` where there is none."""
        by_case: dict[str, list[str]] = {}
        for name in self.names:
            by_case.setdefault(name.casefold(), []).append(name)
        made = []
        for token, after in zip(tokens, [*tokens[1:], None], strict=True):
            is_call = after is not None and after.is_sign("(")
            text = token.text[1:-1].replace('""', '"') if token.text[:1] == '"' else token.text
            same = by_case.get(text.casefold(), [])
            if token.kind in ("name", "quoted") and not is_call and text not in self.names and len(same) == 1:
                made.append(Token(token.kind, write_name(same[0]), token.at))
            else:
                made.append(token)
        return made

    def need(self, names: Sequence[str], at: int) -> None:
        """Raise where the data lacks a column."""
        for name in names:
            if name not in self.names:
                raise FormulaError(
                    f"reads {name!r}, which is no column of {self.read.dataset.name}",
                    at,
                    did_you_mean(name, self.names) or f"its columns: {listed(self.names, 12)}",
                )


def _adopted(name: str, item: Item, text: _Text, data: _Data | None) -> Adopted | str:
    """Return what an item becomes; in words why it is not taken over."""
    if not is_case(item.tokens):
        return _formula(name, item, text, data)
    branches = list(branches_of(item.tokens))
    made = case_table(name, branches, None if data is None else data.types)
    line = text.text[: item.at].count("\n") + 1
    if not made.inputs:
        return (
            f"{name} (line {line}) is not taken over: it gives the same for all rows, whatever columns hold"
        )
    if data is not None:
        data.need([input_.name for input_ in made.inputs], item.at)
    note = f"taken over from {text.shown}, line {line}"
    try:
        table, toml, notes = as_table(name, made, note)
    except NothingError:
        return f"{name} (line {line}) is not taken over: no branch of it can ever hold"
    return Adopted(name, "table", toml, table, tree_of(branches), (*made.notes, *notes), line)


def tree_of(branches: Sequence[Branch]) -> Tree:
    """Return branches as one CASE again, for an evaluation of its own."""
    asked = [
        (And(branch.asked) if len(branch.asked) > 1 else branch.asked[0], branch.gives)
        for branch in branches
        if branch.asked
    ]
    last = next((branch.gives for branch in branches if not branch.asked), None)
    return Case(tuple(asked), last) if asked else (last or Constant(None))


def _formula(name: str, item: Item, text: _Text, data: _Data | None) -> Adopted | str:
    """Return an item that is no CASE as a formula."""
    written = joined(item.tokens)[0]
    line = text.text[: item.at].count("\n") + 1
    formula, faults = parse_named_formula(name, written)
    if formula is None or faults:
        why = faults[0].message.split("\n")[0] if faults else "it cannot be read"
        return f"{name} (line {line}) is not taken over: {why}: {written[:80]}"
    if data is not None:
        data.need(list(formula.reads), item.at)
    return Adopted(
        name, "formula", f"{toml_key(name)} = {toml_text(written)}\n", None, formula.tree, (), line
    )


def as_table(name: str, made: CaseTable, note: str) -> tuple[Table, str, list[str]]:
    """Return a table, its text, and what more is to be said; of one input as bins or a mapping, where it is one."""
    records = made.records
    toml = _toml(made, records, note, is_first=True)
    table = table_of_text(name, toml)
    notes: list[str] = []
    never = {
        finding.rows[0] - 1
        for finding in findings_of(table)
        if finding.kind == "impossible" and not finding.possible
    }
    if never:
        made.rows = [row for at, row in enumerate(made.rows) if at not in never]
        notes.append(
            f"{count(len(never), 'branch asks', 'branches ask')} what no value is, and {'is' if len(never) == 1 else 'are'} left out"
        )
        if not made.rows:
            raise NothingError
        records = made.records
        toml = _toml(made, records, note, is_first=True)
        table = table_of_text(name, toml)
    apart = texts_apart(table)
    if apart is not None and len(records[0]) == 2:
        kept = [record for record, text in zip(records[1:], apart, strict=True) if text is not None]
        texts = [text for text in apart if text is not None]
        rows = [[text or record[0], record[1]] for record, text in zip(kept, texts, strict=True)]
        plain_toml = _toml(made, [records[0], *rows], note, is_first=False)
        plain = table_of_text(name, plain_toml)
        if compare_tables(table, plain).is_same:
            gone = len(apart) - len(kept)
            if gone:
                notes.append(
                    f"{count(gone, 'branch', 'branches')} could never decide and {'is' if gone == 1 else 'are'} left out"
                )
            return plain, plain_toml, notes
    return table, toml, notes


def _toml(made: CaseTable, records: Sequence[Sequence[str]], note: str, *, is_first: bool) -> str:
    lines = [f"note = {toml_text(note)}"]
    lines += [f"inputs.{toml_key(input_.name)} = {input_text(input_)}" for input_ in made.inputs]
    lines.append(f"outputs.{toml_key(made.output.name)} = {toml_text(made.output.type)}")
    if is_first:
        lines.append('match = "first"')
    if made.has_else and made.otherwise is not None:
        said = f"{{ {toml_key(made.output.name)} = {toml_text(result_text(made.otherwise))} }}"
        lines += [f"missing   = {said}", f"otherwise = {said}"]
    heads, *rows = [[toml_text(cell) for cell in record] for record in records]
    shown = [*([heads] if len(heads) > 2 or not rows else []), *rows]
    widths = [min(40, max(len(row[at]) for row in shown)) for at in range(len(heads))] if shown else []
    lines += ["", "rows = ["]
    for row in shown:
        padded = [f"{cell}, ".ljust(width + 2) for cell, width in zip(row[:-1], widths, strict=False)]
        lines.append(f"  [{''.join(padded)}{row[-1]}],")
    return "\n".join([*lines, "]", ""])


def table_of_text(name: str, toml: str, files: Mapping[str, bytes] | None = None) -> Table:
    """Return the table that a text describes, with files that lie beside it; `TableError` where it cannot be read."""
    with scratch_folder() as folder:
        path = folder / "table.toml"
        path.write_text(toml, encoding="utf-8")
        for beside, content in (files or {}).items():
            path.with_name(beside).write_bytes(content)
        table, _, faults = read_table(path)
    errors = [fault for fault in faults if fault.severity == "error"]
    if table is None or errors:
        raise TableError([replace(error, places=()) for error in errors])
    return replace(table, name=name)
