"""What values a formula can give, as far as its form says: a rank is 1 or more, a month lies from 1 to 12."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal

from kivvet.core.formulas.tree import Arithmetic, Call, Case, ColumnName, Constant, Tree, Window
from kivvet.core.words.conditions import AnyOf, Between, Condition, Equals

_PARTS = {
    "QUARTER": 4,
    "MONTH": 12,
    "WEEK": 53,
    "DAY": 31,
    "DAY_OF_WEEK": 7,
    "DAY_OF_YEAR": 366,
    "YEAR": 9999,
}
_TIMES = {"HOUR": 24, "MINUTE": 60, "SECOND": 60}


@dataclass(frozen=True, slots=True)
class Domain:
    """A range of numbers, or a few texts; missing is not spoken of.

    Attributes
    ----------
    texts : tuple of str or None
    low, high : Decimal or None
        None: unlimited.
    low_closed, high_closed : bool
    """

    texts: tuple[str, ...] | None = None
    low: Decimal | None = None
    low_closed: bool = True
    high: Decimal | None = None
    high_closed: bool = True

    def condition(self) -> Condition:
        """Return it as a condition."""
        if self.texts is not None:
            parts = tuple(Equals(text) for text in self.texts)
            return parts[0] if len(parts) == 1 else AnyOf(parts)
        return Between(
            self.low,
            self.low is not None and self.low_closed,
            self.high,
            self.high is not None and self.high_closed,
        )


#: Gives the domain of a column; None where nothing is known.
DomainOf = Callable[[str], Domain | None]


def domain_of(tree: Tree, of_column: DomainOf) -> Domain | None:
    """Return the values a tree can have; None where nothing limits them, or it is not worked out."""
    match tree:
        case ColumnName(name):
            return of_column(name)
        case Constant(Decimal() as value):
            return _range(value, value)
        case Constant(str() as text):
            return Domain((text,)) if text else None
        case Case(branches, otherwise):
            values = [value for _, value in branches] + ([] if otherwise is None else [otherwise])
            return _hull(values, of_column)
        case Arithmetic(sign, left, right):
            return _of_arithmetic(sign, domain_of(left, of_column), domain_of(right, of_column))
        case Window(name, parts):
            if tree.within is not None:
                return domain_of(tree.within.part, of_column)
            return _of_window(name, parts, of_column)
        case Call(name, parts):
            return _of_call(name, parts, of_column)
    return None


def _range(low: Decimal | int | None, high: Decimal | int | None) -> Domain:
    return Domain(
        None, None if low is None else Decimal(low), True, None if high is None else Decimal(high), True
    )


def _hull(trees: Sequence[Tree], of_column: DomainOf) -> Domain | None:
    """Return what holds the values of all trees; NULL has none."""
    found = []
    for tree in trees:
        if isinstance(tree, Constant) and tree.value is None:
            continue
        one = domain_of(tree, of_column)
        if one is None:
            return None
        found.append(one)
    return joined(found)


def joined(domains: Sequence[Domain]) -> Domain | None:
    """Return what holds the values of all domains; None where they are of different kinds."""
    if not domains:
        return None
    if all(domain.texts is not None for domain in domains):
        return Domain(tuple(dict.fromkeys(text for domain in domains for text in domain.texts or ())))
    if any(domain.texts is not None for domain in domains):
        return None
    made = domains[0]
    for one in domains[1:]:
        low, low_closed = _outer(made.low, made.low_closed, one.low, one.low_closed, is_low=True)
        high, high_closed = _outer(made.high, made.high_closed, one.high, one.high_closed, is_low=False)
        made = Domain(None, low, low_closed, high, high_closed)
    return None if made.low is None and made.high is None else made


def _outer(
    one: Decimal | None, one_closed: bool, other: Decimal | None, other_closed: bool, *, is_low: bool
) -> tuple[Decimal | None, bool]:
    if one is None or other is None:
        return None, True
    if one == other:
        return one, one_closed or other_closed
    takes_one = one < other if is_low else one > other
    return (one, one_closed) if takes_one else (other, other_closed)


def _of_arithmetic(sign: str, left: Domain | None, right: Domain | None) -> Domain | None:
    if left is None or right is None or left.texts is not None or right.texts is not None:
        return None
    if sign == "-":
        right = _negative(right)
        sign = "+"
    if sign == "+":
        low = None if left.low is None or right.low is None else left.low + right.low
        high = None if left.high is None or right.high is None else left.high + right.high
        made = Domain(
            None, low, left.low_closed and right.low_closed, high, left.high_closed and right.high_closed
        )
        return None if low is None and high is None else made
    factor, other = (left, right) if left.low == left.high and left.low is not None else (right, left)
    if sign != "*" or factor.low is None or factor.low != factor.high:
        return None
    scaled = Domain(
        None,
        None if other.low is None else other.low * abs(factor.low),
        other.low_closed,
        None if other.high is None else other.high * abs(factor.low),
        other.high_closed,
    )
    return scaled if factor.low >= 0 else _negative(scaled)


def _negative(one: Domain) -> Domain:
    return Domain(
        None,
        None if one.high is None else -one.high,
        one.high_closed,
        None if one.low is None else -one.low,
        one.low_closed,
    )


def _of_window(name: str, parts: Sequence[Tree], of_column: DomainOf) -> Domain | None:
    match name:
        case "ROW_NUMBER" | "RANK" | "DENSE_RANK":
            return _range(1, None)
        case "COUNT":
            return _range(0, None)
        case "NTILE":
            return (
                _range(1, parts[0].value)
                if isinstance(parts[0], Constant) and isinstance(parts[0].value, Decimal)
                else _range(1, None)
            )
        case "PERCENT_RANK":
            return _range(0, 1)
        case "CUME_DIST":
            return Domain(None, Decimal(0), False, Decimal(1), True)
        case "VAR_POP" | "VAR_SAMP" | "STDDEV_POP" | "STDDEV_SAMP":
            return _range(0, None)
        case "MIN" | "MAX" | "MEDIAN" | "FIRST_VALUE" | "LAST_VALUE":
            return domain_of(parts[0], of_column)
        case "LAG" | "LEAD":
            return _hull((parts[0], *parts[2:]), of_column)
    return None


def _of_call(name: str, parts: Sequence[Tree], of_column: DomainOf) -> Domain | None:
    match name:
        case "EXTRACT":
            assert isinstance(parts[0], Constant)
            part = str(parts[0].value)
            return (
                _range(1, _PARTS[part])
                if part in _PARTS
                else Domain(None, Decimal(0), True, Decimal(_TIMES[part]), False)
            )
        case "ABS" | "SQRT" | "EXP" | "POSITION":
            return _range(0, None)
        case "SIGN":
            return _range(-1, 1)
        case "CHAR_LENGTH":
            return _range(1, None)
        case "COALESCE" | "GREATEST" | "LEAST":
            return _hull(parts, of_column)
        case "NULLIF":
            return domain_of(parts[0], of_column)
        case "MOD":
            divisor = parts[1].value if isinstance(parts[1], Constant) else None
            if not isinstance(divisor, Decimal) or not divisor:
                return None
            given = domain_of(parts[0], of_column)
            is_positive = given is not None and given.low is not None and given.low >= 0
            return Domain(
                None, Decimal(0) if is_positive else -abs(divisor), is_positive, abs(divisor), False
            )
    return None
