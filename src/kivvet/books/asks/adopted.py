"""Rules taken over from elsewhere, as values: what they became, what was not taken, what was proved."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Literal

from kivvet.books.asks.adopted_proof import Proof
from kivvet.books.asks.draft_table import free_path, write_files
from kivvet.books.files.entry_text import with_entry
from kivvet.books.files.read_formulas import FORMULAS_FILE
from kivvet.core.formulas.tree import Tree
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError
from kivvet.core.words.places import Place
from kivvet.core.words.printed import Printed
from kivvet.core.words.wording import shown_path

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


@dataclass(frozen=True)
class Adopted:
    """A rule taken over.

    Attributes
    ----------
    name : str
    kind : {"table", "formula"}
    text : str
        Of its file, or of its line in formulas.toml.
    table : Table or None
    tree : Tree
        What was there, for an evaluation of its own.
    notes : tuple of str
        What is otherwise than it may seem.
    line : int
        Where it stood.
    files : mapping of str to bytes
        Files that go beside the table, by name.
    """

    name: str
    kind: Literal["table", "formula"]
    text: str
    table: Table | None = field(repr=False)
    tree: Tree = field(repr=False)
    notes: tuple[str, ...] = ()
    line: int = 0
    files: dict[str, bytes] = field(default_factory=dict, repr=False)


@dataclass(frozen=True)
class RulesAdopted(Printed):
    """Rules taken over.

    Attributes
    ----------
    source : str
        Where they stood.
    rules : tuple of Adopted
    left : tuple of str
        What was not taken over, and why.
    proofs : tuple of Proof
        Of each table, whether it gives on the data at hand what was given before.
    written : tuple of str
        The files that were written.
    """

    source: str
    rules: tuple[Adopted, ...]
    left: tuple[str, ...] = ()
    proofs: tuple[Proof, ...] = ()
    written: tuple[str, ...] = ()

    @property
    def is_proved(self) -> bool:
        """Whether nothing is known to differ."""
        return not any(proof.differing for proof in self.proofs)

    def as_dict(self) -> dict[str, Any]:
        return {
            "version": 1,
            "source": self.source,
            "rules": [
                {
                    "name": rule.name,
                    "kind": rule.kind,
                    "text": rule.text,
                    "notes": list(rule.notes),
                    "line": rule.line,
                }
                for rule in self.rules
            ],
            "left": list(self.left),
            "proofs": [proof.as_dict() for proof in self.proofs],
            "written": list(self.written),
        }


def write_adopted(book: OpenBook, made: RulesAdopted, *, replace_them: bool = False) -> RulesAdopted:
    """Write the rules into the book: all of them, or none where a name is taken.

    Raises
    ------
    BookError, OutputError
        If there is a table or formula of a name already, or a file cannot be written.
    """
    tables = {
        free_path(book, rule.name, replace=replace_them): rule.text
        for rule in made.rules
        if rule.kind == "table"
    }
    lines = [rule.text.rstrip("\n") for rule in made.rules if rule.kind == "formula"]
    for rule in made.rules:
        if rule.kind == "formula" and (rule.name in book.formulas or rule.name in book.unusable_formulas):
            raise BookError(
                f"there is a formula {rule.name!r} already",
                place=Place(shown_path(book.folder / FORMULAS_FILE)),
                fix="rename it, or take it out of formulas.toml",
            )
    folder = book.folder / "tables"
    folder.mkdir(parents=True, exist_ok=True)
    beside = {folder / name: content.decode() for rule in made.rules for name, content in rule.files.items()}
    for path in beside:
        if path.exists() and not replace_them:
            raise BookError(
                "is there already", place=Place(shown_path(path)), fix="choose another --name, or --replace"
            )
    texts = {**beside, **tables}
    if lines:
        path = book.folder / FORMULAS_FILE
        texts[path] = with_entry(path, lines)
    return replace(made, written=tuple(map(shown_path, write_files(texts))))
