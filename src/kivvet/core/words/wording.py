"""How messages count, list and name things."""

from __future__ import annotations

import difflib
import itertools
import json
import os
import re
import shlex
from collections import Counter
from collections.abc import Iterable, Sequence
from functools import lru_cache
from pathlib import Path

#: What stands in views for rows that have no class, where it is not told why.
NO_CLASS = "(no class)"


def count(number: int, noun: str, plural: str | None = None) -> str:
    """Return ``1 row``, ``12 rows``, ``3,140 rows``."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"


def listed(names: Iterable[object], most: int = 12, n_all: int | None = None) -> str:
    """Return the names with commas; after `most` of them, how many more there are.

    `n_all` is their number, where `names` gives just the first of very many.
    """
    texts = [str(name) for name in (names if n_all is None else itertools.islice(names, most + 1))]
    number = len(texts) if n_all is None else n_all
    if number > most:
        texts = [*texts[:most], f"... and {number - most:,} more"]
    return ", ".join(texts) if texts else "none"


def shell_word(text: str) -> str:
    """Return a text as one word of a shell's line: in double quotes where that is enough."""
    if re.fullmatch(r"[\w.,:/-]+", text):
        return text
    return shlex.quote(text) if any(sign in text for sign in '"$`\\!') else f'"{text}"'


def values_with_rows(values: Sequence[tuple[str, int]], n_beyond: int = 0, most: int = 6) -> str:
    """Return values with the rows that have them, and of those left out how many they are, with their rows.

    Parameters
    ----------
    n_beyond : int
        Rows that have none of the values.
    """
    parts = [f"{value!r} ({n:,})" for value, n in values[:most]]
    n_left = sum(n for _, n in values[most:])
    if n_left:
        parts.append(f"... and {len(values) - most:,} more ({n_left:,})")
    if n_beyond:
        parts.append(f"... and values not told apart ({n_beyond:,})")
    return ", ".join(parts)


def near_name(name: str, names: Iterable[str]) -> str | None:
    """Return the one of `names` closest in spelling to `name`, if any is close."""
    by_folded = {other.casefold(): other for other in names}
    close = difflib.get_close_matches(name.casefold(), by_folded, n=1, cutoff=0.6)
    return by_folded[close[0]] if close else None


def did_you_mean(name: str, names: Iterable[str]) -> str | None:
    """Return the question to print after an unknown name, if there is a near one."""
    near = near_name(name, names)
    return f"did you mean {near!r}?" if near else None


def repeated(names: Iterable[str]) -> list[str]:
    """Return the names that stand more than once, in order."""
    return sorted(name for name, n in Counter(names).items() if n > 1)


def toml_key(name: str) -> str:
    """Return a name as a key of TOML: in quotes where it is not bare."""
    is_bare = bool(name) and name.isascii() and name.replace("_", "").replace("-", "").isalnum()
    return name if is_bare else json.dumps(name, ensure_ascii=False)


_COPIES: dict[str, str] = {}


def call_copy(path: Path, name: str) -> None:
    """Let messages call a file, a copy of something elsewhere, by the name of that."""
    _COPIES[str(path)] = name


def shown_path(path: Path) -> str:
    """Return `path` as a user would type it: relative to where they are, if it lies below; else without ways back."""
    if _COPIES and str(path) in _COPIES:
        return _COPIES[str(path)]
    try:
        is_plain = path.name not in ("", "..") and not path.is_symlink()
        whole = _real_folder(path.parent.absolute()) / path.name if is_plain else path.resolve()
        return str(whole.relative_to(Path.cwd()))
    except (ValueError, OSError, RuntimeError):
        return os.path.normpath(path)


@lru_cache(1024)
def _real_folder(folder: Path) -> Path:
    """Return a folder with links followed, looked up once: a book of hundreds of files names each of them."""
    return folder.resolve()
