"""What a query works out: the items of each SELECT, or of UPDATE ... SET, by the name of the column that they make."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from kivvet.core.adopt.sql_tokens import Token, joined, tokens_of

_ENDS_OF_LIST = ("FROM", "INTO", "WHERE", "GROUP", "HAVING", "ORDER", "UNION", "LIMIT", "WINDOW")
_NOT_TAKEN = ("WHERE", "HAVING", "JOIN", "LIMIT", "UNION", "GROUP")
_OPERATORS = ("AND", "OR", "NOT", "IN", "IS", "LIKE", "BETWEEN", "CASE", "WHEN", "THEN", "ELSE", "AS", "NULL")


@dataclass(frozen=True)
class Item:
    """One thing that a query works out.

    Attributes
    ----------
    name : str
        Of the column that it makes; empty where none is given.
    tokens : sequence of Token
    """

    name: str
    tokens: Sequence[Token]

    @property
    def at(self) -> int:
        return self.tokens[0].at

    @property
    def text(self) -> str:
        return joined(self.tokens)[0]


@dataclass
class Query:
    """What stands in a text: its items, and what of it is not taken over."""

    items: list[Item] = field(default_factory=list)
    left: list[str] = field(default_factory=list)


def read_query(text: str) -> Query:
    """Return the items of all SELECTs of a text, those within too; of a text without one the expression that it is.

    Raises
    ------
    FormulaError
        With the place, where the text cannot be read as tokens, or holds nothing.
    """
    from kivvet.core.formulas.errors import FormulaError

    tokens = tokens_of(text)
    while tokens and tokens[-1].is_sign(";"):
        tokens.pop()
    if not tokens:
        raise FormulaError("there is nothing to take over", 0, "a CASE, or a query with one")
    is_statement = tokens[0].is_word("SELECT", "WITH", "UPDATE", "INSERT", "CREATE") or tokens[0].is_sign("(")
    starts = [place for place, token in enumerate(tokens) if token.is_word("SELECT") and is_statement]
    sets = [place for place, token in enumerate(tokens) if token.is_word("SET")]
    query = Query()
    if not starts and not (sets and tokens[0].is_word("UPDATE")):
        query.items += [] if _is_plain(tokens) else [_item(tokens, is_alone=True)]
        return query
    last = 0  # up to where a list of items was read: a query within one is none of its own
    for start in starts:
        if start < last:
            continue
        rest = _to_end(tokens, start + 1)
        if rest and rest[0].is_word("DISTINCT", "ALL"):
            rest = rest[1:]
        stop = _first(rest, _ENDS_OF_LIST)
        last = start + 1 + stop
        query.items += [_item(part) for part in _by_commas(rest[:stop]) if part]
        query.left += _left(rest[stop:])
    for start in () if starts else sets:
        rest = _to_end(tokens, start + 1)
        stop = _first(rest, _ENDS_OF_LIST)
        for part in _by_commas(rest[:stop]):
            if len(part) > 2 and part[1].is_sign("="):
                query.items.append(Item(_name(part[0]), part[2:]))
        query.left += _left(rest[stop:])
    query.items = [item for item in query.items if not _is_plain(item.tokens)]
    query.left = list(dict.fromkeys(query.left))
    return query


def _to_end(tokens: Sequence[Token], start: int) -> Sequence[Token]:
    """Return the tokens up to the bracket that closes around them, or the end of the statement."""
    depth = 0
    for place in range(start, len(tokens)):
        depth += tokens[place].is_sign("(") - tokens[place].is_sign(")")
        if depth < 0 or (not depth and tokens[place].is_sign(";")):
            return tokens[start:place]
    return tokens[start:]


def _first(tokens: Sequence[Token], words: Sequence[str]) -> int:
    depth = 0
    for place, token in enumerate(tokens):
        depth += token.is_sign("(") - token.is_sign(")")
        if not depth and token.is_word(*words):
            return place
    return len(tokens)


def _by_commas(tokens: Sequence[Token]) -> list[Sequence[Token]]:
    made: list[Sequence[Token]] = []
    depth = start = 0
    for place, token in enumerate(tokens):
        depth += token.is_sign("(") - token.is_sign(")")
        if not depth and token.is_sign(","):
            made.append(tokens[start:place])
            start = place + 1
    return [*made, tokens[start:]]


def _item(tokens: Sequence[Token], *, is_alone: bool = False) -> Item:
    """Return an item with the name that it is given, by AS or without."""
    if len(tokens) > 2 and tokens[-2].is_word("AS") and tokens[-1].kind in ("name", "quoted"):
        return Item(_name(tokens[-1]), tokens[:-2])
    if len(tokens) > 1 and not is_alone and tokens[-1].kind in ("name", "quoted"):
        before = tokens[-2]
        is_end = before.is_word("END") or before.kind in ("text", "number", "quoted") or before.is_sign(")")
        is_name = before.kind == "name" and not before.is_word(*_OPERATORS) and not tokens[-1].is_word("END")
        if (is_end or is_name) and not tokens[-1].is_word("END", "NULL"):
            return Item(_name(tokens[-1]), tokens[:-1])
    return Item("", tokens)


def _name(token: Token) -> str:
    text = token.text
    return text[1:-1].replace('""', '"') if text[:1] == '"' else text


def _is_plain(tokens: Sequence[Token]) -> bool:
    return len(tokens) == 1 and (tokens[0].kind in ("name", "quoted") or tokens[0].is_sign("*"))


def _left(tokens: Sequence[Token]) -> list[str]:
    """Return the parts of a query that are not taken over, in words."""
    made = []
    depth = 0
    for place, token in enumerate(tokens):
        depth += token.is_sign("(") - token.is_sign(")")
        if depth or not token.is_word(*_NOT_TAKEN):
            continue
        if token.is_word("WHERE"):
            rest = tokens[place + 1 :]
            text = joined(rest[: _first(rest, ("GROUP", "HAVING", "ORDER", "LIMIT", "UNION", "WINDOW"))])[0]
            made.append(f"WHERE {text} is not taken over: a dataset keeps rows by where = ...")
        else:
            made.append(f"{token.text.upper()} is not taken over: only what is worked out for each row is")
    return made
