"""Reading a formula: text becomes a tree, or an error that points at the place."""

from __future__ import annotations

import re
from typing import Any

from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.grammar import formula_parser
from kivvet.core.formulas.reader import TreeReader
from kivvet.core.formulas.tree import (
    Call,
    Case,
    Cast,
    Tree,
    Window,
    is_condition,
    walk,
)

LONGEST_FORMULA = 4_000
_DEEPEST = 40
_MOST_SIGNS = 200  # of + - * / || and NOT; each is one level of the tree


def parse_formula(text: str, *, of_groups: bool = False) -> Tree:
    """Return the tree of a formula such as ``flow * nitrate * 86.4``.

    Parameters
    ----------
    text : str
    of_groups : bool
        Whether it gives a value for each group of rows, as in a summary: aggregates stand without OVER, and windows
        are an error.

    Raises
    ------
    FormulaError
        With the offset into `text`.
    """
    from lark.exceptions import UnexpectedCharacters, UnexpectedEOF, UnexpectedToken

    if len(text) > LONGEST_FORMULA:
        raise FormulaError(
            f"a formula has at most {LONGEST_FORMULA:,} characters; this one has {len(text):,}", 0
        )
    if not text.strip():
        raise FormulaError("the formula is empty", 0, "for example flow * nitrate")
    _check_depth(text)
    try:
        tree = formula_parser().parse(text)
    except (UnexpectedCharacters, UnexpectedToken, UnexpectedEOF) as error:
        raise _syntax_error(text, error) from None
    return TreeReader(of_groups=of_groups).read(tree.children[0])


def parse_row_formula(text: str, what: str) -> Tree:
    """Return the tree of a formula that looks at one row only; `FormulaError` where windows are in it."""
    made = parse_formula(text)
    for node in walk(made):
        if isinstance(node, Window):
            raise FormulaError(
                f"{node.name} looks at other rows, which {what} cannot",
                node.at,
                "give the calculation a name in formulas.toml, and use that",
            )
    return made


def parse_condition_formula(text: str) -> Tree:
    """Return the tree of a condition such as ``flow > capacity AND method = 'strip'``; no windows are in it.

    Raises
    ------
    FormulaError
        With the offset into `text`.
    """
    made = parse_row_formula(text, "a condition")
    if is_condition(made) or isinstance(made, (Call, Case, Cast)):
        return made
    raise FormulaError("a condition is expected, such as flow > 5; this is a value", 0)


_SIGNS = re.compile(
    r"'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|[()]|\|\||[-+*/]|\b(?i:not|case|end)\b|(?<![\w.])\d{4}-\d\d-\d\d(?!\w)"
)


def _check_depth(text: str) -> None:
    depth = signs = 0
    opened: list[int] = []
    for match in _SIGNS.finditer(text):
        found = match.group().lower()
        if found == ")" and not opened:
            raise FormulaError("a bracket is closed that was not opened", match.start(), "remove it")
        if found == "(":
            opened.append(match.start())
        elif found == ")":
            opened.pop()
        depth += {"(": 1, ")": -1, "case": 1, "end": -1}.get(found, 0)
        signs += found in ("+", "-", "*", "/", "||", "not")
        if depth > _DEEPEST:
            raise FormulaError(f"brackets are nested more than {_DEEPEST} deep", match.start())
        if signs > _MOST_SIGNS:
            raise FormulaError(
                f"a formula has at most {_MOST_SIGNS} signs of + - * / || and NOT",
                match.start(),
                "give parts of it names of their own in formulas.toml",
            )
        if found[0].isdigit():
            raise FormulaError(f"{found} would be a subtraction", match.start(), f"write DATE '{found}'")
    if opened:
        raise FormulaError("a bracket is not closed", opened[-1], "close it with )")


def _syntax_error(text: str, error: Any) -> FormulaError:
    offset = getattr(error, "pos_in_stream", None)
    is_at_end = offset is None or offset < 0 or getattr(getattr(error, "token", None), "type", "") == "$END"
    offset = len(text) if is_at_end else offset
    assert offset is not None
    rest = text[offset:]
    if is_at_end:
        return FormulaError("the formula ends too soon", offset, "a column or a value belongs there")
    if re.search(r"interval\s*$", text[:offset], re.IGNORECASE):
        start = text[:offset].lower().rindex("interval")
        return FormulaError(
            "there are no intervals", start, "days are added as whole numbers: sampled_on + 30"
        )
    if rest.startswith("'") and "'" not in rest[1:]:
        return FormulaError("a text that does not end", offset, "close the quote: '...'")
    if rest.startswith('"'):
        return FormulaError("a quoted column name that does not end", offset, 'close the quote: "..."')
    if rest.startswith(("==", "!=")) or text[max(0, offset - 1) : offset + 1] in ("==", "!="):
        return FormulaError("no such comparison", offset, "write = for equal and <> for not equal")
    word = re.match(r"\w+|.", rest, re.DOTALL)
    found = word.group() if word else rest
    if found == "%":
        return FormulaError("no such sign", offset, "write MOD(a, b) for the remainder")
    if found.lower() in ("and", "or", "not") or found in ("=", "<", ">"):
        return FormulaError(
            f"{found!r} is not expected here", offset, "a column or a value belongs before it"
        )
    return FormulaError(
        f"{found!r} is not expected here",
        offset,
        "texts stand in 'single quotes', column names with blanks or like words of formulas in \"double quotes\", dates as DATE '2026-04-01'",
    )
