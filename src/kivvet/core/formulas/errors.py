"""What is wrong with a formula, and where in it."""

from __future__ import annotations


class FormulaError(ValueError):
    """A text that is no formula: what is wrong, where (characters before the place), what to do."""

    def __init__(self, problem: str, offset: int, fix: str = "") -> None:
        self.problem = problem
        self.offset = offset
        self.fix = fix
        super().__init__(problem)


def pointed_at(text: str, offset: int) -> str:
    """Return the line of a formula that holds a place, and below it a caret under the place."""
    start = text.rfind("\n", 0, offset) + 1
    line = text[start:].split("\n", 1)[0]
    first = max(0, offset - start - 60)
    shown = line[first : first + 100]
    return f"{shown}\n{' ' * (offset - start - first)}^"


def written_error(error: FormulaError, text: str, word: str = "formula") -> tuple[str, str]:
    """Return what is wrong with a formula, with a caret under the place, and the cure."""
    where = "in among: " if word == "among" else ""
    return f"{where}{error.problem}\n{pointed_at(text, error.offset)}", error.fix
