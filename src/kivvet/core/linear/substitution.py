"""Columns that equations fix are put in terms of the others before anything is cut: conditions that say the same become one form."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction

from kivvet.core.linear.lattices import Step
from kivvet.core.linear.linear_forms import Linear, Statement

#: Coefficients and a constant.
Reduced = tuple[tuple[Fraction, ...], Fraction]
_ZERO = Fraction(0)


@dataclass(frozen=True)
class Substitution:
    """Columns in terms of fewer.

    Attributes
    ----------
    free : tuple of str
        The columns that are left.
    replaced : mapping of str to Linear
        The others, by those left.
    left : tuple of Statement
        The statements that still bound something.
    """

    free: tuple[str, ...]
    replaced: Mapping[str, Linear]
    left: tuple[Statement, ...]

    @classmethod
    def of(
        cls, names: Sequence[str], statements: Iterable[Statement], steps: Mapping[str, Step]
    ) -> Substitution:
        """Return what equations among statements allow; one whose columns all lie on steps is used where these stay met."""
        replaced: dict[str, Linear] = {}
        left = []
        for statement in statements:
            form = _put(statement.form, replaced)
            chosen = _solved(form, steps) if _is_equation(statement) else None
            if chosen is None:
                left.append(statement)
                continue
            name, by = chosen
            replaced = {key: _put(value, {name: by}) for key, value in replaced.items()} | {name: by}
        return cls(tuple(name for name in names if name not in replaced), replaced, tuple(left))

    def reduced(self, form: Linear) -> Reduced:
        """Return a form by the columns that are left."""
        put = _put(form, self.replaced)
        return tuple(put.coefficients.get(name, _ZERO) for name in self.free), put.constant

    def values(self, point: Sequence[Fraction]) -> dict[str, Fraction]:
        """Return the value of every column at a point."""
        known = dict(zip(self.free, point, strict=True))
        for name, form in self.replaced.items():
            known[name] = form.constant + sum(
                (value * known[one] for one, value in form.coefficients.items()), _ZERO
            )
        return known


def _is_equation(statement: Statement) -> bool:
    ((low, high), *others) = statement.intervals
    return not others and low is not None and high is not None and low[0] == high[0]


def _put(form: Linear, replaced: Mapping[str, Linear]) -> Linear:
    for name, by in replaced.items():
        if factor := form.coefficients.get(name):
            rest = {key: value for key, value in form.coefficients.items() if key != name}
            form = Linear(rest, form.constant, form.kind).plus(by.by(factor), 1, form.kind)
    return form


def _solved(form: Linear, steps: Mapping[str, Step]) -> tuple[str, Linear] | None:
    """Return a column of an equation, ``form = 0``, and what it is by the others; None where its step would be lost."""
    for name in sorted(form.coefficients, key=lambda one: (steps.get(one) is not None, one)):
        factor = form.coefficients[name]
        others = {key: value for key, value in form.coefficients.items() if key != name}
        by = Linear(others, form.constant, form.kind).by(-1 / factor)
        if steps.get(name) is None or _stays_on(by, steps, name):
            return name, by
    return None


def _stays_on(form: Linear, steps: Mapping[str, Step], name: str) -> bool:
    """Whether the values of a form all lie on the step of a column."""
    own = steps[name]
    assert own is not None
    size, offset = own
    at = form.constant - offset
    for other, factor in form.coefficients.items():
        step = steps.get(other)
        if step is None or factor * step[0] % size:
            return False
        at += factor * step[1]
    return not at % size


def primitive(coefficients: Sequence[Fraction]) -> tuple[tuple[int, ...], Fraction]:
    """Return coprime whole coefficients, the first of them positive, and what they are to be multiplied with."""
    unit = math.lcm(*(coefficient.denominator for coefficient in coefficients))
    whole = [int(coefficient * unit) for coefficient in coefficients]
    factor = Fraction(math.gcd(*whole), unit) * (1 if next(filter(None, whole)) > 0 else -1)
    return tuple(int(coefficient / factor) for coefficient in coefficients), factor
