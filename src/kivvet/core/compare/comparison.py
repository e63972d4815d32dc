"""What a comparison of two versions of a table says, in words and as values."""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from kivvet.core.compare.change import Change
from kivvet.core.compare.versions import NOTHING, Given
from kivvet.core.space.region_text import write_region, write_results
from kivvet.core.words.printed import Printed
from kivvet.core.words.wording import count, listed


@dataclass(frozen=True, slots=True)
class Gives:
    """What one version gives in a region.

    Attributes
    ----------
    results : mapping of str to str
        By output; empty where no row matches and the table does not say what then. Where rows disagree, all that they
        would give.
    rows : tuple of int
        The rows that decide at the witness, counted from 1.
    how : str
        "row", "rows" (several, under ``match = "every"``), "otherwise", "missing" (what the table gives for missing
        inputs), "no row", or "disagree" (rows that differ, where just one is to match).
    """

    results: Mapping[str, str]
    rows: tuple[int, ...]
    how: str

    @classmethod
    def of(cls, given: Given, outputs: Sequence[str]) -> Gives:
        texts = {
            name: _text(result) for name, result in zip(outputs, given.disputed or given.results, strict=True)
        }
        is_nothing = not given.disputed and all(result is NOTHING for result in given.results)
        return cls({} if is_nothing else texts, given.rows, given.how)

    def of_outputs(self, names: Sequence[str]) -> str:
        """Return what it gives for some outputs, as it reads in a message."""
        if not self.results:
            return "no row"
        if self.how in ("otherwise", "missing") and "nothing" in self.results.values():
            said = (f"{name} = {one}" for name, one in self.results.items() if one != "nothing")
            return f"no row, so {listed(said)}"
        text = ", ".join(self.results[name] for name in names)
        return f"{text} (rows {listed(self.rows)} disagree)" if self.how == "disagree" else text

    def as_dict(self) -> dict[str, Any]:
        return {"results": dict(self.results), "rows": list(self.rows), "how": self.how}


def _text(result: Hashable) -> str:
    if result is NOTHING:
        return "nothing"
    if isinstance(result, frozenset):
        return " or ".join(sorted(map(_text, result))) or "none"
    if isinstance(result, tuple):
        return ", ".join(map(_text, result)) or "none"
    return write_results([result])  # type: ignore[list-item]


@dataclass(frozen=True, slots=True)
class ChangedRegion:
    """A region in which two versions of a table give different results, one each.

    Attributes
    ----------
    region : mapping of str to str
        By input, in the condition syntax, and under ``when`` what is asked besides; empty for everything.
    before, after : Gives
    witness : mapping of str to str
        An example: values that lie there, by input.
    possible : bool
        True where inputs may depend on each other, so that no value may lie there.
    count : int or None
        The rows of data that lie there; None where none were looked at.
    example_row : int or None
        The first of them, counted from 1.
    example_dataset : str
        The dataset that it is a row of.
    """

    region: Mapping[str, str]
    before: Gives
    after: Gives
    witness: Mapping[str, str]
    possible: bool = False
    count: int | None = None
    example_row: int | None = None
    example_dataset: str = ""

    @property
    def changed_outputs(self) -> tuple[str, ...]:
        """The outputs whose results differ; all where one version has no row."""
        names = list(self.before.results or self.after.results)
        one, other = self.before.results, self.after.results
        return tuple(name for name in names if one.get(name) != other.get(name)) or tuple(names)

    @property
    def where(self) -> str:
        """The region as it reads in a message."""
        return write_region(self.region) or "everything"

    @property
    def change(self) -> str:
        """What becomes of the results: ``good -> watch``; of several outputs, those that change, by name."""
        before, after, names = self.before, self.after, self.changed_outputs
        if len(before.results or after.results) < 2 or not (before.results and after.results):
            return f"{before.of_outputs(names)} -> {after.of_outputs(names)}"
        return ", ".join(
            f"{name} {before.of_outputs([name])} -> {after.of_outputs([name])}" for name in names
        )

    def __str__(self) -> str:
        return f"{self.where}: {self.change}"

    def as_dict(self) -> dict[str, Any]:
        return {
            "region": dict(self.region),
            "before": self.before.as_dict(),
            "after": self.after.as_dict(),
            "witness": dict(self.witness),
            "possible": self.possible,
            "count": self.count,
            "example_row": self.example_row,
            "example_dataset": self.example_dataset,
        }


@dataclass(frozen=True)
class Comparison(Printed):
    """Whether two versions of a table mean the same, and if not, where they differ.

    Attributes
    ----------
    table, old, new : str
        The table, and what the two versions are called.
    regions : tuple of ChangedRegion
        Where results differ, exactly: none overlap in one input; with several inputs they may touch each other, and
        their union is what counts.
    options : tuple of Change
        Options that decide results or columns and differ: the step of an input, the order of classes.
    forms : tuple of Change
        What is written otherwise and changes no result.
    not_compared : tuple of str
        Inputs and outputs that one of the two lacks, where only what they share was to be compared.
    is_settled : bool
        Whether everything was looked at within the budget of steps.
    n_more : int or None
        Regions that differ beyond those listed; None where it is not known how many.
    examples : tuple of str
        The examples kept with the table that tell the two apart.
    promises : tuple of str
        The promises kept with it that one of the two breaks.
    rows_read : mapping of str to int
        The data that was looked at: by dataset the rows.
    rows_changed : int or None
        The rows of data whose results differ.
    not_counted : mapping of str to str
        Datasets that use the table and could not be looked at, with the reason.
    """

    table: str
    old: str
    new: str
    regions: tuple[ChangedRegion, ...]
    options: tuple[Change, ...] = ()
    forms: tuple[Change, ...] = ()
    not_compared: tuple[str, ...] = ()
    is_settled: bool = True
    n_more: int | None = 0
    examples: tuple[str, ...] = ()
    promises: tuple[str, ...] = ()
    rows_read: Mapping[str, int] = field(default_factory=dict)
    rows_changed: int | None = None
    not_counted: Mapping[str, str] = field(default_factory=dict)

    @property
    def is_same(self) -> bool:
        """Whether it is proven that the two mean the same."""
        return self.is_settled and not self.regions and not self.options and self.n_more == 0

    @property
    def is_different(self) -> bool:
        """Whether it is proven that they do not."""
        return bool(self.options) or any(not region.possible for region in self.regions)

    @property
    def changes(self) -> tuple[Change, ...]:
        """All changes in short: options and regions; what is written otherwise only where that is all."""
        decisive = (*self.options, *map(in_short, self.regions))
        return decisive or self.forms

    @property
    def summary(self) -> str:
        """The answer in a sentence."""
        if self.is_same:
            return "same meaning: no value gets another result"
        if not self.regions and not self.options:
            return "not proven: no difference was found within the steps allowed"
        more = "" if self.n_more == 0 else " at least" if self.n_more is None else ""
        n = len(self.regions) + (self.n_more or 0)
        parts = [f"{more.strip()} {count(n, 'region')}".strip()] if self.regions else []
        parts += [count(len(self.options), "option")] if self.options else []
        verb = "differs" if self.is_different else "may differ"
        left = "" if self.is_settled else "; the rest is not proven within the steps allowed"
        return f"meaning {verb}: {' and '.join(parts)}{left}"

    def as_dict(self) -> dict[str, Any]:
        return {
            "version": 1,
            "table": self.table,
            "old": self.old,
            "new": self.new,
            "same": self.is_same,
            "settled": self.is_settled,
            "summary": self.summary,
            "regions": [region.as_dict() for region in self.regions],
            "more": self.n_more,
            "options": [option.as_dict() for option in self.options],
            "forms": [form.as_dict() for form in self.forms],
            "not_compared": list(self.not_compared),
            "examples": list(self.examples),
            "promises": list(self.promises),
            "rows_read": dict(self.rows_read),
            "rows_changed": self.rows_changed,
            "not_counted": dict(self.not_counted),
        }


def in_short(changed: ChangedRegion) -> Change:
    """Return a changed region in short: of one input the condition alone."""
    names = list(changed.before.results or changed.after.results)
    texts = [one.of_outputs(names) if one.results else "" for one in (changed.before, changed.after)]
    region = changed.region
    where = next(iter(region.values())) if len(changed.witness) == len(region) == 1 else changed.where
    return Change(where, *texts)
