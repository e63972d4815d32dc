"""What a remedy says to do, as steps that a program can take: the words of a finding, read again.

A remedy that says `add`, `write`, `remove`, `move`, `swap` or `set` can be followed as it stands; editors do, and tests of
every law about remedies.
"""

from __future__ import annotations

import csv
import json
import re
from dataclasses import dataclass

from kivvet.core.words.findings import Finding

_ADD = re.compile(
    r"add  (?P<row>\[.*?\]|[^\[].*?)(?:  or, if all values of (?P<input>\S+) are .*, set step = (?P<step>\S+)|, or say with .*)?"
    r"(?:, and check again: .*)?"
)
_WRITE_ROW = re.compile(r"write row (\d+) as (.*), or set match = \"first\".*")
_WRITE_CELL = re.compile(r"write (\S+) of row (\d+) as (.*), or set match = \"first\".*")
_FIRST = re.compile(r".*set match = \"first\" to let the earlier row win")
_REMOVE = re.compile(r"remove row (\d+)")
_MOVE = re.compile(r"move row (\d+) above row (\d+), or remove it")
_SWAP = re.compile(r"swap the ends \((.*)\), or remove the row")
_MEANT = re.compile(r"did you mean '([^']+)'\?.*")
_INPUT = re.compile(r".*\binputs\.(?P<input>[\w-]+) = (?P<options>\{.*\})")
_KEEP_ONE = "keep one of the two rows"


@dataclass(frozen=True)
class AddRow:
    """A row of conditions, and of results that are still to be said: ``...`` stands there."""

    cells: tuple[str, ...]


@dataclass(frozen=True)
class SetStep:
    """How far apart the values of an input are."""

    input: str
    step: str


@dataclass(frozen=True)
class SetInput:
    """An input, defined by other options: the text of an inline table of TOML."""

    input: str
    options: str


@dataclass(frozen=True)
class WriteCell:
    """A cell of a row, by its heading; without one it is the first."""

    row: int
    text: str
    heading: str = ""


@dataclass(frozen=True)
class FirstWins:
    """That of several rows that hold, the first one wins."""


@dataclass(frozen=True)
class RemoveRow:
    """A row that goes, by its number from 1."""

    row: int


@dataclass(frozen=True)
class MoveRow:
    """A row that is to stand above another."""

    row: int
    above: int


@dataclass(frozen=True)
class ReplaceWord:
    """The word at the place of the finding, written as another."""

    word: str


Cure = AddRow | SetStep | SetInput | WriteCell | FirstWins | RemoveRow | MoveRow | ReplaceWord


def cures_of(finding: Finding) -> list[Cure]:
    """Return the cures that a finding offers, each of which takes it away; nothing where its remedy asks for a decision
    in words.
    """
    remedy = finding.remedy
    found: list[Cure] = []
    if match := _ADD.fullmatch(remedy):
        found.append(AddRow(_cells(match["row"])))
        if match["step"]:
            found.append(SetStep(match["input"], match["step"]))
    if match := _WRITE_ROW.fullmatch(remedy):
        found.append(WriteCell(int(match[1]), match[2]))
    elif match := _WRITE_CELL.fullmatch(remedy):
        found.append(WriteCell(int(match[2]), match[3], match[1]))
    if _FIRST.fullmatch(remedy):
        found.append(FirstWins())
    if match := _REMOVE.fullmatch(remedy):
        found.append(RemoveRow(int(match[1])))
    if match := _MOVE.fullmatch(remedy):
        found += [MoveRow(int(match[1]), int(match[2])), RemoveRow(int(match[1]))]
    if match := _SWAP.fullmatch(remedy):
        found.append(WriteCell(finding.rows[0], match[1]))
    if finding.kind == "impossible" and finding.rows:
        found.append(RemoveRow(finding.rows[0]))
    if remedy == _KEEP_ONE:
        found += [RemoveRow(number) for number in reversed(finding.rows[:2])]
    if (match := _INPUT.fullmatch(remedy)) and "..." not in match["options"]:
        found.append(SetInput(match["input"], match["options"]))
    if match := _MEANT.fullmatch(remedy):
        found.append(ReplaceWord(match[1]))
    return found


def _cells(row: str) -> tuple[str, ...]:
    """Return the cells of a row as a remedy writes it: as a list of TOML, or as a line of CSV."""
    return tuple(json.loads(row)) if row.startswith("[") else tuple(next(csv.reader([row])))
