"""Values of a TOML text written anew; every other character stays as it was."""

from __future__ import annotations

from kivvet.books.files.toml_tokens import Token, tokens


def _statement(text: str, path: tuple[str, ...]) -> list[Token]:
    """Return the tokens of what stands at a path, its key included."""
    return [one for one in tokens(text) if one.path[: len(path)] == path]


def with_match(text: str) -> str:
    """Return the text of a table whose first row that holds wins."""
    value = next((one for one in _statement(text, ("match",)) if one.kind == "value"), None)
    if value is not None:
        return f"{text[: value.start]}first{text[value.end :]}"
    rows = next(one for one in tokens(text) if one.kind == "key" and one.path in (("rows",), ("lookup",)))
    at = text.rfind("\n", 0, rows.start) + 1
    return f'{text[:at]}match = "first"\n{text[at:]}'


def with_option(text: str, name: str, word: str, value: str) -> str:
    """Return the text of a table with an option of an input said."""
    found = _statement(text, ("inputs", name))
    said = [one for one in found if one.path == ("inputs", name, word) and one.kind == "value"]
    if said:
        start, end = said[0].start - said[0].is_string, said[0].end + said[0].is_string
        return text[:start] + value + text[end:]
    plain = next((one for one in found if one.path == ("inputs", name) and one.kind == "value"), None)
    if plain is not None:
        start, end = plain.start - 1, plain.end + 1
        return f"{text[:start]}{{ type = {text[start:end]}, {word} = {value} }}{text[end:]}"
    close = next((one for one in found if one.path == ("inputs", name) and one.kind == "close"), None)
    if close is not None:
        return f"{text[: close.start].rstrip()}, {word} = {value} {text[close.start :]}"
    last = [one for one in found if len(one.path) == 3][-1]
    end = text.find("\n", last.end)
    end = len(text) if end < 0 else end
    heading = any(one.kind == "heading" for one in found)
    key = word if heading else f"inputs.{name}.{word}"
    return f"{text[:end]}\n{key} = {value}{text[end:]}"


def with_input(text: str, name: str, options: str) -> str:
    """Return the text of a table with an input defined anew, where it stands in one statement."""
    found = _statement(text, ("inputs", name))
    values = [one for one in found if one.path == ("inputs", name) and one.kind in ("value", "open", "close")]
    if not values:
        return text
    start = values[0].start - values[0].is_string
    end = values[-1].end + values[-1].is_string
    return text[:start] + options + text[end:]
