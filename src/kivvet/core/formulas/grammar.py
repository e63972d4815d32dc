"""The parser of formulas: made from `grammar.lark`, whose tables are shipped, since working them out takes a third
of a second.

After a change of the grammar, `python -m kivvet.core.formulas.grammar` writes the tables anew.
"""

from __future__ import annotations

import functools
import json
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING, Any

import xxhash

if TYPE_CHECKING:
    from lark import Lark

_FOLDER = "kivvet.core.formulas"
_TABLES = "grammar_tables.json"


@functools.cache
def formula_parser() -> Lark:
    """Return the parser, from the shipped tables where they are of this grammar and of the lark that is installed."""
    from lark import Lark

    kept = (resources.files(_FOLDER) / _TABLES).read_text(encoding="utf-8")
    tables = json.loads(kept, object_hook=_with_numbers_as_keys)
    if tables["made_of"] != made_of():
        return built_parser()
    made: Lark = Lark._load_from_dict(tables["data"], tables["memo"])  # type: ignore[no-untyped-call]
    return made


def built_parser() -> Lark:
    """Return the parser worked out from the grammar."""
    from lark import Lark

    return Lark(_grammar(), parser="lalr", propagate_positions=True, maybe_placeholders=True)


def _grammar() -> str:
    return (resources.files(_FOLDER) / "grammar.lark").read_text(encoding="utf-8")


def made_of() -> list[str]:
    """Return what tables are worked out from: the version of lark, and the grammar as a hash."""
    import lark

    return [lark.__version__, xxhash.xxh3_64_hexdigest(_grammar().encode())]


def _with_numbers_as_keys(values: dict[str, Any]) -> dict[Any, Any]:
    """Return a mapping with its keys as numbers, if all of them are: JSON knows keys of text only."""
    is_numbered = all(key.isdecimal() for key in values)
    return {int(key): value for key, value in values.items()} if is_numbered else values


def write_tables() -> None:
    """Write the tables of the grammar beside it."""
    from lark.grammar import Rule
    from lark.lexer import TerminalDef

    data, memo = built_parser().memo_serialize([TerminalDef, Rule])
    text = json.dumps({"made_of": made_of(), "data": data, "memo": memo}, sort_keys=True)
    (Path(__file__).parent / _TABLES).write_text(text + "\n", encoding="utf-8")


if __name__ == "__main__":
    write_tables()
