"""Which font letters are drawn with: Matplotlib's own where it has them, else one of this machine's, which is said."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from functools import lru_cache

OWN = "DejaVu Sans"
_MOST_NAMED = 8  # letters that are named


def texts_in(values: object) -> Iterator[str]:
    """Yield all texts in plain values, those of mappings and sequences too."""
    if isinstance(values, str):
        yield values
    elif isinstance(values, Mapping):
        for key, value in values.items():
            yield from (*texts_in(key), *texts_in(value))
    elif isinstance(values, (list, tuple)):
        for value in values:
            yield from texts_in(value)


def families_for(texts: Iterable[str]) -> tuple[list[str], tuple[str, ...]]:
    """Return the families to draw some texts with, and what there is to say of it."""
    letters = sorted({sign for text in texts for sign in text if sign.isprintable() and not sign.isspace()})
    own = _letters_of(_own_path())
    lacking = [sign for sign in letters if ord(sign) not in own]
    families, notes = [OWN], []
    while lacking:
        family, held = _best_family(frozenset(map(ord, lacking)))
        if not held:
            notes.append(
                f"no font here has {_named(lacking)}: boxes stand for them; install a font that has, and draw again"
            )
            break
        notes.append(
            f"{_named([sign for sign in lacking if ord(sign) in held])} drawn with the font {family}"
        )
        families.append(family)
        lacking = [sign for sign in lacking if ord(sign) not in held]
    return families, tuple(notes)


def _named(letters: list[str]) -> str:
    shown = " ".join(letters[:_MOST_NAMED])
    return shown if len(letters) <= _MOST_NAMED else f"{shown} and {len(letters) - _MOST_NAMED} more"


def _own_path() -> str:
    from matplotlib.font_manager import FontProperties, findfont

    return str(findfont(FontProperties(family=[OWN])))


@lru_cache(maxsize=256)
def _letters_of(path: str) -> frozenset[int]:
    """Return the code points that a font has glyphs for; none where it cannot be read."""
    from matplotlib.ft2font import FT2Font

    try:
        return frozenset(FT2Font(path).get_charmap())
    except (OSError, RuntimeError):
        return frozenset()


@lru_cache(maxsize=64)
def _best_family(lacking: frozenset[int]) -> tuple[str, frozenset[int]]:
    """Return the family of this machine that has most of some code points, and which."""
    from matplotlib.font_manager import fontManager

    best: tuple[str, frozenset[int]] = "", frozenset()
    entries = sorted(
        (
            one
            for one in fontManager.ttflist
            if one.style == "normal" and not one.name.startswith("Last Resort")
        ),
        key=lambda one: (abs(int(one.weight) - 400) if str(one.weight).isdigit() else 0, one.name, one.fname),
    )
    for entry in entries:
        held = lacking & _letters_of(entry.fname)
        if len(held) > len(best[1]):
            best = entry.name, held
    return best
