"""What a keyword of a definition may hold, said once: readers go by the words, editors by the schemas made of the same forms.

A form is a JSON Schema (2020-12) of the plain values of TOML; a day or a time is a text there, as editors hand it on.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

JSON_SCHEMA = "https://json-schema.org/draft/2020-12/schema"


@dataclass(frozen=True)
class Form:
    """What a value may be.

    Attributes
    ----------
    schema : mapping
        The JSON Schema of it.
    words : str
        What it is for, in words; empty where the keyword says it.
    """

    schema: Mapping[str, Any]
    words: str = ""

    def says(self, words: str) -> Form:
        """Return the same form with what it is for."""
        return Form(self.schema, words)

    def __or__(self, other: Form) -> Form:
        """Return the form of what is of either."""
        return Form({"anyOf": [*_ways(self), *_ways(other)]})

    def described(self) -> dict[str, Any]:
        """Return the schema, with what it is for."""
        return {"description": self.words, **self.schema} if self.words else dict(self.schema)


#: By word, what it may hold: the keywords of a part of a definition.
Keywords = Mapping[str, Form]

ANYTHING = Form({})
TEXT = Form({"type": "string"})
FILLED = Form({"type": "string", "pattern": r"\S"})
FILLED_AT_ALL = Form({"type": "string", "minLength": 1})
NUMBER = Form({"type": "number"})
INTEGER = Form({"type": "integer"})
NOTHING = Form({"type": "null"})
FLAG = Form({"type": "boolean"})
LINE = Form({"type": "integer", "minimum": 1})
CELL = Form({"type": ["string", "number", "boolean"]})
DAY = Form({"type": "string", "pattern": r"^\d{4}-\d{2}-\d{2}"})
POSITIVE = Form({"anyOf": [{"type": "number", "exclusiveMinimum": 0}, {"type": "string"}]})


def one_of(choices: Iterable[str]) -> Form:
    """Return the form of one of a few words."""
    return Form({"enum": list(choices)})


def exactly(value: Any) -> Form:
    """Return the form of one value."""
    return Form({"const": value})


def whole(least: int, most: int | None = None) -> Form:
    """Return the form of whole numbers from one to another, both in."""
    return Form({"type": "integer", "minimum": least, **({} if most is None else {"maximum": most})})


def like(pattern: str) -> Form:
    """Return the form of texts in which a regular expression is found."""
    return Form({"type": "string", "pattern": pattern})


def list_of(item: Form, *, at_least: int = 0, each_once: bool = False) -> Form:
    """Return the form of a list."""
    made: dict[str, Any] = {"type": "array", "items": item.described()}
    if at_least:
        made["minItems"] = at_least
    if each_once:
        made["uniqueItems"] = True
    return Form(made)


def by_name(item: Form, *, names: Iterable[str] | None = None, at_least: int = 0, at_most: int = 0) -> Form:
    """Return the form of values by name; with `names` by these alone."""
    made: dict[str, Any] = {"type": "object", "additionalProperties": item.described()}
    if names is not None:
        made["propertyNames"] = {"enum": list(names)}
    if at_least:
        made["minProperties"] = at_least
    if at_most:
        made["maxProperties"] = at_most
    return Form(made)


def options_of(
    keywords: Keywords, *required: str, one_of_these: Iterable[str] = (), is_open: bool = False
) -> Form:
    """Return the form of options by keyword.

    Parameters
    ----------
    required : str
        Those that are always there.
    one_of_these : iterable of str
        Those of which exactly one is there.
    is_open : bool
        Whether there may be others, as a later version may write.
    """
    made: dict[str, Any] = {
        "type": "object",
        "properties": {word: form.described() for word, form in keywords.items()},
        "additionalProperties": is_open,
    }
    if required:
        made["required"] = list(required)
    if choice := [{"required": [word]} for word in one_of_these]:
        made["oneOf"] = choice
    return Form(made)


def document(title: str, form: Form) -> dict[str, Any]:
    """Return the schema of a whole file."""
    return {"$schema": JSON_SCHEMA, "title": title, **form.described()}


def _ways(form: Form) -> list[dict[str, Any]]:
    ways = form.schema.get("anyOf")
    return [form.described()] if ways is None or set(form.schema) != {"anyOf"} else list(ways)
