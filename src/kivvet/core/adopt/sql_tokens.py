"""The text of a query as tokens: comments left out, names of all ways of quoting in one way, dialects' signs told."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.tree import RESERVED, write_name

_DEEPEST = 100  # brackets within brackets
Kind = Literal["name", "quoted", "text", "number", "sign"]

_TOKEN = re.compile(
    r"""(?P<blank>\s+|--[^\n]*|/\*.*?\*/)
    |(?P<text>'(?:[^']|'')*')
    |(?P<quoted>"(?:[^"]|"")+"|`[^`]+`|\[[^\]\n]+\])
    |(?P<number>(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d{1,3})?)
    |(?P<name>[^\W\d][\w$]*)
    |(?P<sign><>|<=|>=|!=|==|\|\||::|[-+*/%=<>(),.;])""",
    re.VERBOSE | re.DOTALL,
)
#: Signs that some dialects have, and what to write instead.
_OTHERWISE = {
    "::": "a cast is written CAST(x AS INTEGER)",
    "==": "equality is written =",
    "%": "the rest of a division is written MOD(a, b)",
}


@dataclass(frozen=True, slots=True)
class Token:
    """A token of a query: what it is, its text in our way of writing, and where it stands, in characters before it."""

    kind: Kind
    text: str
    at: int

    def is_word(self, *words: str) -> bool:
        """Whether it is one of some words, in whatever case."""
        return self.kind == "name" and self.text.upper() in words

    def is_sign(self, *signs: str) -> bool:
        """Whether it is one of some signs."""
        return self.kind == "sign" and self.text in signs


def tokens_of(text: str) -> list[Token]:
    """Return the tokens of a query; names after a table's own, as in ``s.ph``, stand alone.

    Raises
    ------
    FormulaError
        With the place, where a sign is none, or a text or a comment does not end.
    """
    made: list[Token] = []
    at = 0
    while at < len(text):
        match = _TOKEN.match(text, at)
        if text.startswith("/*", at) and (match is None or match.lastgroup != "blank"):
            raise FormulaError("a comment does not end", at, "*/ ends it")
        if match is None:
            sign = text[at]
            what = {"'": "a text does not end", '"': "a name in quotes does not end"}.get(sign)
            raise FormulaError(what or f"{sign!r} is no sign of a query", at)
        kind = match.lastgroup
        found = match[0]
        if kind == "quoted":
            name = found[1:-1].replace('""', '"') if found[0] == '"' else found[1:-1]
            made.append(Token("quoted", write_name(name), at))
        elif kind == "sign":
            if found in _OTHERWISE:
                raise FormulaError(f"{found} is no sign of the SQL standard", at, _OTHERWISE[found])
            made.append(Token("sign", "<>" if found == "!=" else found, at))
        elif kind != "blank":
            made.append(Token(kind, found, at))  # type: ignore[arg-type]
        at = match.end()
    depth = 0
    for token in made:
        depth += token.is_sign("(") - token.is_sign(")")
        if depth > _DEEPEST:
            raise FormulaError(f"brackets are nested more than {_DEEPEST} deep", token.at)
    return _without_tables(made)


def _without_tables(tokens: Sequence[Token]) -> list[Token]:
    """Return tokens with the names of tables before those of columns left out."""
    made: list[Token] = []
    for token in tokens:
        if (
            token.kind in ("name", "quoted")
            and len(made) > 1
            and made[-1].is_sign(".")
            and made[-2].kind in ("name", "quoted")
        ):
            del made[-2:]
        made.append(token)
    return made


def joined(tokens: Sequence[Token]) -> tuple[str, list[tuple[int, int]]]:
    """Return tokens as text, and where in it each begins beside where it stood."""
    text = ""
    places: list[tuple[int, int]] = []
    before: Token | None = None
    for token in tokens:
        is_close = token.is_sign(")", ",") or (before is not None and before.is_sign("("))
        is_call = (
            token.is_sign("(") and before is not None and before.kind == "name" and not _is_operator(before)
        )
        text += "" if before is None or is_close or is_call else " "
        places.append((len(text), token.at))
        text += token.text
        before = token
    return text, places


def _is_operator(token: Token) -> bool:
    return token.is_word(
        "AND", "OR", "NOT", "IN", "WHEN", "THEN", "ELSE", "CASE", "BETWEEN", "LIKE", "OVER", "FILTER", "GROUP"
    )


def place_of(offset: int, places: Sequence[tuple[int, int]]) -> int:
    """Return where a place of a joined text stood."""
    return next((at + offset - start for start, at in reversed(list(places)) if start <= offset), 0)


def spelled_once(tokens: Sequence[Token], known: dict[str, str]) -> list[Token]:
    """Return tokens whose names, which differ by case alone, are spelled as the first of them; those in quotes stay.

    Parameters
    ----------
    known : dict of str to str
        By a name in small letters its first spelling, to which new ones are added.
    """
    made = []
    for token, after in zip(tokens, [*tokens[1:], None], strict=True):
        is_call = after is not None and after.is_sign("(")
        if token.kind != "name" or is_call or token.text.lower() in RESERVED:
            made.append(token)
            continue
        first = known.setdefault(token.text.casefold(), token.text)
        made.append(Token("name", first, token.at))
    return made
