"""Commands that are named in what is told, such as "to write it: kivvet apply": they go to the book that was given."""

from __future__ import annotations

import re
from contextvars import ContextVar
from pathlib import Path

from kivvet.core.words.wording import shell_word

#: What ``--book`` was given; empty: nothing.
typed_book: ContextVar[str] = ContextVar("typed_book", default="")

_WITHOUT_BOOK = ("new", "demo", "merge")
# A command to the end of what is said of it: of a sentence, a clause, a bracket.
_COMMAND = re.compile(
    r"""\bkivvet[ ](?P<name>[a-z]+)(?P<rest>(?:"[^"\n]*"|'[^'\n]*'|[ ](?![ ]|or\b)|[^\s"';,)`]|,(?![\s]))*)"""
)


def command(*words: str) -> str:
    """Return a command of ours as it is to be typed."""
    return " ".join(["kivvet", *map(shell_word, words)])


def book_is(folder: Path | None) -> None:
    """Note which book a command was given, if any."""
    typed_book.set("" if folder is None else str(folder))


def with_book(text: str) -> str:
    """Return a text whose commands name the book that was given, as they have to be typed."""
    given = typed_book.get()
    if not given or "kivvet " not in text:
        return text

    def named(match: re.Match[str]) -> str:
        command = match[0].rstrip()
        if match["name"] in _WITHOUT_BOOK or "--book" in command:
            return match[0]
        return f"{command} --book {shell_word(given)}{match[0][len(command) :]}"

    return _COMMAND.sub(named, text)
