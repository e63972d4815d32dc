"""Reading the formulas of a book: faults become findings that point into the formula."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from kivvet.books.files.examples import with_examples
from kivvet.books.files.readers import read_toml
from kivvet.core.formulas.errors import FormulaError, written_error
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.parser import parse_condition_formula, parse_formula
from kivvet.core.formulas.types import FORMULA_TYPES
from kivvet.core.read.examples import read_examples
from kivvet.core.read.file_keywords import NOTE, TITLE
from kivvet.core.read.forms import FLAG, TEXT, Keywords, by_name, one_of, options_of
from kivvet.core.read.options import Faults, KeyPath, Locate, Options
from kivvet.core.read.table_parser import TABLE_KEYWORDS
from kivvet.core.words.findings import Finding
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import did_you_mean, listed

FORMULAS_FILE = "formulas.toml"
FORMULA_KEYWORDS: Keywords = {
    "formula": TEXT.says("the expression, in the words of standard SQL"),
    "type": one_of(FORMULA_TYPES).says("the type of its results, where it is not the one that follows"),
    "among": TEXT.says("a condition of the rows that a window counts"),
    "strict": FLAG.says("whether a value that cannot be made is an error"),
    "note": NOTE,
    "title": TITLE,
    "examples": TABLE_KEYWORDS["examples"],
}
#: Of formulas.toml.
FORMULAS_FORM = by_name(TEXT | options_of(FORMULA_KEYWORDS, "formula"))


def read_formulas(folder: Path) -> tuple[dict[str, Formula], set[str], list[Finding]]:
    """Return the formulas of a book, the names of those that cannot be used, and the faults found."""
    path = folder / FORMULAS_FILE
    if not path.exists():
        return {}, set(), []
    document, faults = read_toml(path)
    if document is None:
        return {}, set(), faults
    formulas: dict[str, Formula] = {}
    unusable: set[str] = set()
    for name, given in document.values.items():
        locate = document.locate
        if isinstance(given, dict) and isinstance(given.get("examples"), str):
            given, locate, found = with_examples(given, path, locate, name, (name, "examples"))  # noqa: PLW2901
            faults += [replace(one, is_of_formula=True) for one in found]
        formula, found = parse_named_formula(name, given, locate)
        faults += found
        if formula is None:
            unusable.add(name)
        else:
            formulas[name] = formula
    return formulas, unusable, faults


def parse_named_formula(
    name: str, given: Any, locate: Locate = lambda _: None
) -> tuple[Formula | None, list[Finding]]:
    """Return the formula that an entry of formulas.toml defines, and the faults found."""
    faults = Faults(lambda path: locate(path) or locate((name,)), formula=name, root=(name,))
    definition = {"formula": given} if isinstance(given, str) else given
    if not isinstance(definition, Mapping) or not isinstance(definition.get("formula"), str):
        faults.add(
            f"a formula is a text, or {{ formula = ..., type = ... }}; found {given!r}",
            fix=f'for example {name} = "flow * nitrate"',
        )
        return None, faults.found
    options = Options(definition, faults)
    options.unknown(FORMULA_KEYWORDS, "a formula")
    trees = {}
    for word, parse in (("formula", parse_formula), ("among", parse_condition_formula)):
        if (text := definition.get(word)) is None:
            continue
        path: KeyPath = () if isinstance(given, str) else (word,)
        if not isinstance(text, str):
            faults.add(f"{word} is a text; found {text!r}", path)
            continue
        try:
            trees[word] = parse(text)
        except FormulaError as error:
            message, fix = written_error(error, text, word)
            faults.add(message, path, fix=fix)
    kind: Any = definition.get("type")
    if kind is not None and kind not in FORMULA_TYPES:
        fix = did_you_mean(str(kind), FORMULA_TYPES) or f"one of: {listed(FORMULA_TYPES)}"
        options.fault("type", f"{kind!r} is no type of a formula", fix)
    strict = options.flag("strict")
    if len(faults) or "formula" not in trees:
        return None, faults.found
    place = locate((name,))
    made = Formula(name, definition["formula"], trees["formula"], trees.get("among"), kind, strict, place)
    reads: dict[str, ValueType | None] = dict.fromkeys(made.reads)
    examples = read_examples(definition.get("examples"), reads, {name: made.type}, faults)
    if len(faults):
        return None, faults.found
    note = " ".join(str(definition[word]) for word in ("title", "note") if definition.get(word))
    return replace(made, examples=examples, note=note), []
