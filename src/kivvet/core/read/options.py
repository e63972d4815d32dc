"""Reading options: plain values by keyword, each as what it has to be; what is wrong is told with its place.

Definitions of tables, datasets, formulas and books are all read with these.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import replace
from typing import Any, TypeVar

from kivvet.core.read.forms import by_name, one_of
from kivvet.core.words.findings import KINDS, SEVERITIES, Finding, Severity, finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import did_you_mean, listed, toml_key

#: Where something stands in a definition, such as ``("rows", 2, 0)``.
KeyPath = tuple[str | int, ...]
#: Gives the place of a path, or None where it is not known.
Locate = Callable[[KeyPath], Place | None]
Choice = TypeVar("Choice", bound=str)
#: What a table or a book says of the kinds of findings.
SEVERITY = by_name(one_of(SEVERITIES), names=KINDS)
_MOST_STRANGE = 20  # words that are no keywords are told one by one


class Faults:
    """The faults of one definition, as findings with their places.

    Parameters
    ----------
    locate : callable
    table, dataset, formula : str
        What the findings are about.
    root : tuple
        Where the definition stands; paths are told from there.
    """

    def __init__(
        self,
        locate: Locate = lambda _: None,
        *,
        table: str = "",
        dataset: str = "",
        formula: str = "",
        root: KeyPath = (),
    ) -> None:
        self.locate = locate
        self.table = table or formula
        self.is_of_formula = bool(formula)
        self.dataset = dataset
        self.root = root
        self.found: list[Finding] = []

    def __len__(self) -> int:
        return len(self.found)

    def add(
        self,
        message: str,
        path: KeyPath = (),
        *,
        fix: str = "",
        kind: str = "syntax",
        row: int | None = None,
        offset: int = 0,
    ) -> None:
        """Add a fault.

        Parameters
        ----------
        row : int, optional
            The row of the table that it is about, counted from 1.
        offset : int
            Signs from the beginning of what stands at the path.
        """
        place = self.locate((*self.root, *path))
        if place is not None and place.column is not None and offset:
            place = replace(place, column=place.column + offset)
        self.found.append(
            finding(
                kind,
                message,
                table=self.table,
                dataset=self.dataset,
                is_of_formula=self.is_of_formula,
                remedy=fix,
                rows=() if row is None else (row,),
                places=(place,) if place else (),
            )
        )


class Options:
    """Options by keyword, at one place of a definition.

    Parameters
    ----------
    given : mapping
    faults : Faults
        Where what is wrong is told; an option that is wrong is then as if it were not there.
    path : tuple
        Where the options stand.
    """

    def __init__(self, given: Mapping[str, Any], faults: Faults, path: KeyPath = ()) -> None:
        self.given = given
        self.faults = faults
        self.path = path

    def __contains__(self, word: str) -> bool:
        return word in self.given

    def plain(self, word: str, default: Any = None) -> Any:
        """Return an option as it was given."""
        return self.given.get(word, default)

    def fault(self, word: str, message: str, fix: str = "", kind: str = "syntax") -> None:
        """Tell what is wrong with an option."""
        self.faults.add(message, (*self.path, word), fix=fix, kind=kind)

    def unknown(self, known: Collection[str], what: str, later: Mapping[str, str] | None = None) -> None:
        """Tell the words that are no keywords of what is defined, and those that a later version reads."""
        strange = [word for word in self.given if word not in known or (later and word in later)]
        if len(strange) > _MOST_STRANGE:
            message = (
                f"{len(strange):,} words are no keywords of {what}, such as {listed(map(repr, strange), 6)}"
            )
            self.fault(strange[0], message, f"known here: {listed(known, 20)}")
            return
        for word in strange:
            if later and word in later:
                self.fault(word, f"{word!r} ({later[word]}) is not read by this version")
            else:
                fix = did_you_mean(word, known) or f"known here: {listed(known, 20)}"
                self.fault(word, f"{word!r} is no keyword of {what}", fix)

    def flag(self, word: str, *, default: bool = False) -> bool:
        """Return an option that is true or false."""
        value = self.given.get(word, default)
        if not isinstance(value, bool):
            self.fault(word, f"{word} is true or false; found {value!r}")
            return default
        return value

    def text(self, word: str, says: str, *, default: str | None = None, fix: str = "") -> str | None:
        """Return an option that is a text; `says` is what it holds, in words."""
        value = self.given.get(word)
        if value is None:
            return default
        if not isinstance(value, str) or not value.strip():
            self.fault(word, f"{says}; found {value!r}", fix)
            return default
        return value

    def one_of(self, word: str, choices: Sequence[Choice], default: Choice, says: str, fix: str) -> Choice:
        """Return an option that is one of a few words; `says` is told of any other, after the word itself."""
        value = self.given.get(word, default)
        if value not in choices:
            self.fault(word, f"{word} = {value!r} {says}", fix)
            return default
        found: Choice = value
        return found

    def texts(self, word: str, says: str, fix: str = "") -> tuple[str, ...]:
        """Return an option that is a list of texts."""
        value = self.given.get(word, ())
        if not isinstance(value, (list, tuple)) or not all(isinstance(each, str) for each in value):
            self.fault(word, f"{says}; found {value!r}", fix)
            return ()
        return tuple(value)

    def by_name(self, word: str, says: str, fix: str = "", *, of_texts: bool = False) -> Mapping[str, Any]:
        """Return an option that gives something by name, with `of_texts` a text; nothing by default."""
        value = self.given.get(word, {})
        is_fit = isinstance(value, Mapping) and not (
            of_texts and not all(isinstance(each, str) for each in value.values())
        )
        if not is_fit:
            self.fault(word, f"{says}; found {value!r}", fix)
            return {}
        fit: Mapping[str, Any] = value
        return fit

    def line(self, word: str = "headings_on_line") -> int:
        """Return an option that is the number of a line, counted from 1, which it is by default."""
        value = self.given.get(word, 1)
        if not is_line_number(value):
            self.fault(word, f"{word} is the number of a line, from 1; found {value!r}")
            return 1
        number: int = value
        return number


def is_line_number(given: object) -> bool:
    """Whether a value of a book is the number of a line."""
    return isinstance(given, int) and not isinstance(given, bool) and given >= 1


def read_severities(options: Options) -> dict[str, Severity]:
    """Return the severities that a table or a book gives by kind of finding."""
    chosen: dict[str, Severity] = {}
    says = "severity gives error, warning or note by kind of finding"
    for kind, severity in options.by_name("severity", says, '[severity]  gap = "warning"').items():
        at = (*options.path, "severity", kind)
        if kind not in KINDS:
            fix = did_you_mean(kind, KINDS) or listed(KINDS, 30)
            options.faults.add(f"{kind!r} is no kind of finding", at, fix=fix)
        elif severity not in SEVERITIES:
            options.faults.add(f"{severity!r} is no severity", at, fix=f"one of: {listed(SEVERITIES)}")
        else:
            chosen[kind] = severity
    return chosen


def toml_text(given: Any) -> str:
    """Return a plain value as a file writes it."""
    if isinstance(given, Mapping):
        return "{ " + ", ".join(f"{toml_key(name)} = {toml_text(one)}" for name, one in given.items()) + " }"
    if isinstance(given, (list, tuple)):
        return "[" + ", ".join(map(toml_text, given)) + "]"
    return json.dumps(given, ensure_ascii=False, default=str)
