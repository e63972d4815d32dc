"""Texts between two cuts: whether there is one of a given length and shape, and which.

A shape says how codes look: ``A`` a capital letter A to Z, ``a`` a small one, ``9`` a digit, any other
sign itself; more may follow. The question "is there a text between these two cuts" is answered exactly, by
constructing the first one.
"""

from __future__ import annotations

import re
import string

from kivvet.core.words.regions import HIGH, LOW, Cut, Interval

_CHOICES = {"A": string.ascii_uppercase, "a": string.ascii_lowercase, "9": string.digits}
_LAST = "\U0010ffff"


def next_character(character: str) -> str | None:
    """Return the next character by code point, None after the last; surrogates are none."""
    code = ord(character) + 1
    if code == 0xD800:
        code = 0xE000
    return chr(code) if code <= 0x10FFFF else None


def prefix_interval(prefix: str) -> Interval:
    """Return the interval of all texts that begin with `prefix`."""
    return (0, prefix, 0), after_prefix(prefix)


def after_prefix(prefix: str) -> Cut:
    """Return the cut just after the last text that begins with `prefix`."""
    for length in range(len(prefix), 0, -1):
        if (following := next_character(prefix[length - 1])) is not None:
            return (0, prefix[: length - 1] + following, 0)
    return HIGH


def shape_pattern(shape: str) -> str:
    """Return the regular expression that matches the beginning of texts of this shape."""
    classes = {"A": "[A-Z]", "a": "[a-z]", "9": "[0-9]"}
    return "^" + "".join(classes.get(sign, re.escape(sign)) for sign in shape)


class TextSpace:
    """The texts of at least `shortest` characters that have the shape.

    Parameters
    ----------
    shape : str
        Empty for no shape.
    is_folded : bool
        Whether case does not count: letters are then small ones.
    """

    def __init__(self, shape: str = "", *, is_folded: bool = False) -> None:
        self.shape = shape
        folded = shape.casefold() if is_folded else shape
        self.allowed = tuple(_CHOICES.get(sign, sign) for sign in folded)

    def has_shape(self, text: str) -> bool:
        """Whether a text begins as the shape says; True without one."""
        return len(text) >= len(self.allowed) and all(
            one in allowed for one, allowed in zip(text, self.allowed, strict=False)
        )

    def first_without_shape(self, start: str) -> str | None:
        """Return the first text, not before `start`, that does not begin as the shape says; None if there is
        none.

        The longer the part of `start` that is kept, the smaller the text: so the last sign of the shape is
        raised first. Raised before the last, the text is shorter than the shape, which it then has not.
        """
        if not self.has_shape(start):
            return start
        last = len(self.allowed) - 1
        for position in range(last, -1, -1):
            following = next_character(start[position])
            while position == last and following is not None and following in self.allowed[last]:
                following = next_character(following)
            if following is not None:
                return start[:position] + following
        return None

    def first_character(self, position: int) -> str:
        return self.allowed[position][0] if position < len(self.allowed) else "\0"

    def next_allowed(self, position: int, character: str) -> str | None:
        """Return the first character allowed at `position` that is greater than `character`."""
        if position >= len(self.allowed):
            return next_character(character)
        return min((one for one in self.allowed[position] if one > character), default=None)

    def first_text(self, low: Cut, high: Cut, shortest: int, longest: int | None) -> str | None:
        """Return the first text between two cuts by code point; None if there is none.

        Parameters
        ----------
        low, high : Cut
        shortest, longest : int
            Lengths in characters, both included; `longest` None has no limit.
        """
        shortest = max(shortest, len(self.shape), 1)
        if low >= high or (longest is not None and shortest > longest):
            return None
        start = "" if low == LOW else str(low[1])
        if low != LOW and low[2] == 1:
            start += "\0"  # the text that follows directly
        found = self._first_from(start, shortest, longest)
        if found is None or (high != HIGH and (0, found, 0) >= high):
            return None
        return found

    def _first_from(self, start: str, shortest: int, longest: int | None) -> str | None:
        kept = start if longest is None else start[:longest]
        for position, character in enumerate(kept):
            if position < len(self.allowed) and character not in self.allowed[position]:
                return self._raised(kept, position, shortest)
        if len(kept) < len(start):  # what was cut off makes `kept` too small
            return self._raised(kept, len(kept) - 1, shortest)
        return self._filled(kept, shortest)

    def _raised(self, text: str, position: int, shortest: int) -> str | None:
        """Return the first text greater than all that begin with ``text[:position + 1]``, or nearly so."""
        for at in range(position, -1, -1):
            if (following := self.next_allowed(at, text[at])) is not None:
                return self._filled(text[:at] + following, shortest)
        return None

    def _filled(self, text: str, shortest: int) -> str:
        return text + "".join(self.first_character(at) for at in range(len(text), shortest))

    def last_code(self, high: Cut) -> str | None:
        """Return the last text of exactly the shape that lies before the cut `high`, with all it begins."""
        length = len(self.shape)
        if high == HIGH:
            return "".join(max(one) for one in self.allowed)
        bound = str(high[1])
        for at in range(min(len(bound), length) - 1, -1, -1):
            if any(bound[i] not in self.allowed[i] for i in range(at)):
                continue
            smaller = [one for one in self.allowed[at] if one < bound[at]]
            if smaller:
                head = bound[:at] + max(smaller)
                return head + "".join(max(one) for one in self.allowed[len(head) :])
        return None

    def readable(self, text: str, low: Cut, high: Cut) -> str:
        """Return a text like `text` without control signs, if one lies between the cuts too."""
        if text.isprintable():
            return text
        for sign in ("0", "A", "a", " ", _LAST):
            candidate = "".join(sign if one == "\0" else one for one in text)
            if low <= (0, candidate, 0) < high and candidate.isprintable():
                return candidate
        return text
