"""Promises that hold of tables, as lines to be put into their files."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from kivvet.core.read.options import toml_text


def promises_text(proposed: Mapping[str, Sequence[str]]) -> str:
    """Return the promises of each table as it would keep them."""
    if not proposed:
        return "nothing is proposed: what holds of the tables is promised already, or says little"
    parts = []
    for name, texts in proposed.items():
        lines = "".join(f"  {toml_text(text)},\n" for text in texts)
        parts.append(f"# tables/{name}.toml\npromises = [\n{lines}]")
    return "\n\n".join(parts)
