"""Reading the formulas of a book: faults become findings that point into the formula."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from kivvet.books.files.readers import Locate, read_toml
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.parser import FormulaError, parse_condition_formula, parse_formula, written_error
from kivvet.core.formulas.types import FORMULA_TYPES
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import did_you_mean, listed

FORMULAS_FILE = "formulas.toml"
FORMULA_KEYWORDS = ("formula", "type", "among", "strict", "note", "title")


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
        formula, found = parse_named_formula(name, given, document.locate)
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
    faults: list[Finding] = []

    def fault(message: str, path: tuple[str | int, ...], fix: str = "", place: Place | None = None) -> None:
        place = place or locate((name, *path)) or locate((name,))
        faults.append(finding("syntax", message, table=name, places=(place,) if place else (), remedy=fix))

    options = {"formula": given} if isinstance(given, str) else given
    if not isinstance(options, Mapping) or not isinstance(options.get("formula"), str):
        fault(
            f"a formula is a text, or {{ formula = ..., type = ... }}; found {given!r}",
            (),
            f'for example {name} = "flow * nitrate"',
        )
        return None, faults
    for word in options:
        if word not in FORMULA_KEYWORDS:
            fault(
                f"{word!r} is no keyword of a formula",
                (word,),
                did_you_mean(word, FORMULA_KEYWORDS) or f"known here: {listed(FORMULA_KEYWORDS)}",
            )
    trees = {}
    for word, parse in (("formula", parse_formula), ("among", parse_condition_formula)):
        if (text := options.get(word)) is None:
            continue
        path: tuple[str | int, ...] = () if isinstance(given, str) else (word,)
        if not isinstance(text, str):
            fault(f"{word} is a text; found {text!r}", path)
            continue
        try:
            trees[word] = parse(text)
        except FormulaError as error:
            message, fix = written_error(error, text, word)
            fault(message, path, fix)
    kind: Any = options.get("type")
    if kind is not None and kind not in FORMULA_TYPES:
        fault(
            f"{kind!r} is no type of a formula",
            ("type",),
            did_you_mean(str(kind), FORMULA_TYPES) or f"one of: {listed(FORMULA_TYPES)}",
        )
        kind = None
    strict: Any = options.get("strict", False)
    if not isinstance(strict, bool):
        fault(f"strict is true or false; found {strict!r}", ("strict",))
    if faults or "formula" not in trees:
        return None, faults
    return Formula(
        name, options["formula"], trees["formula"], trees.get("among"), kind, strict, locate((name,))
    ), []
