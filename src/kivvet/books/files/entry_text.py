"""The entry of a dataset as lines of book.toml, and how it gets there."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from kivvet.books.files.dataset import Dataset
from kivvet.books.files.readers import read_text
from kivvet.core.columns.field_form import FieldForm
from kivvet.core.read.options import toml_text
from kivvet.core.words.errors import BookError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path, toml_key
from kivvet.io.files import replacing
from kivvet.io.source_and_target import ReadOptions


def book_lines(dataset: Dataset, kinds: Mapping[str, str]) -> list[tuple[str, str]]:
    """Return what a dataset has to say of how its source is read, as words and values of TOML.

    Parameters
    ----------
    kinds : mapping of str to str
        By column, the type that is said; of those without a form of their own just that.
    """
    lines = [(word, toml_text(value)) for word, value in dataset.options.said().items()]
    types = [
        (toml_key(name), type_text(kind, dataset.fields.forms.get(name), dataset.options))
        for name, kind in kinds.items()
        if name in dataset.types
    ]
    if len(types) == 1:
        ((name, value),) = types
        lines.append(("types", f"{{ {name} = {value} }}"))
    else:
        lines += [(f"types.{name}", value) for name, value in types]
    fields = dataset.fields
    words_of = {name: list(words) for name, words in fields.missing_words_of.items()}
    if words_of or fields.missing_words:
        lines.append(("missing_words", toml_text(words_of or list(fields.missing_words))))
    return lines


def lookup_lines(dataset: Dataset, columns: Sequence[str]) -> list[tuple[str, str]]:
    """Return what a lookup has to say of how its file is read, of some columns of it, as words and values of TOML.

    Types stand with its inputs and outputs: of columns only those are said that are written in a form of their own.
    """
    fields = dataset.fields
    kinds = {name: kind for name, kind in fields.types.items() if name in columns and name in fields.forms}
    words_of = {name: words for name, words in fields.missing_words_of.items() if name in columns}
    return book_lines(replace(dataset, fields=replace(fields, missing_words_of=words_of)), kinds)


def aligned(lines: Sequence[tuple[str, str]]) -> list[str]:
    """Return words and values as lines of TOML, one below the other."""
    width = max((len(word) for word, _ in lines), default=0)
    return [f"{word.ljust(width)} = {value}" for word, value in lines]


def type_text(kind: str, form: FieldForm | None, options: ReadOptions) -> str:
    """Return the type of a column, with the form of its fields where that is not as the options of its file say."""
    said = {} if form is None else _said_of(form, options)
    if not said:
        return toml_text(kind)
    parts: dict[str, Any] = {"type": kind, **said}
    return "{ " + ", ".join(f"{word} = {toml_text(value)}" for word, value in parts.items()) + " }"


def _said_of(form: FieldForm, options: ReadOptions) -> dict[str, Any]:
    said: dict[str, Any] = {}
    if form.pattern:
        return {"pattern": form.pattern}
    if form.true_words or form.false_words:
        return {"true": list(form.true_words), "false": list(form.false_words)}
    if form.decimal != options.decimal:
        said["decimal"] = form.decimal
    if form.thousands != options.thousands:
        said["thousands"] = form.thousands
    if form.unit:
        said["unit"] = form.unit
    if form.is_share:
        said["as"] = "share"
    return said


def append_entry(path: Path, lines: Sequence[str]) -> None:
    """Add lines at the end of a file of TOML, all else staying as it is."""
    made = with_entry(path, lines)
    with replacing(path) as part:
        part.write_text(made, encoding="utf-8", newline="")


def with_entry(path: Path, lines: Sequence[str]) -> str:
    """Return the text of a file of TOML with lines at its end; of a file that is not there, these alone."""
    if not path.exists():
        return "\n".join([*lines, ""])
    text, faults = read_text(path)
    if faults:
        raise BookError(faults[0].message, place=faults[0].places[0])
    line_end = "\r\n" if "\r\n" in text else "\n"
    gap = "" if not text.strip() else line_end if text.endswith(("\n", "\r")) else 2 * line_end
    made = text + gap + line_end.join([*lines, ""])
    try:
        tomllib.loads(made)
    except tomllib.TOMLDecodeError as error:
        raise BookError(
            f"the entry does not fit into the file: {error}",
            place=Place(shown_path(path)),
            fix="add it by hand:\n" + "\n".join(lines),
        ) from error
    return ("\ufeff" if path.read_bytes().startswith(b"\xef\xbb\xbf") else "") + made
