"""Powers, exponentials and logarithms with the same bits on every machine.

A mathematical library rounds the last digit of these as its authors and the processor's vector units have it.
Here they are worked out of additions, products and tables alone, whose rounding IEEE 754 fixes, with 106 bits
where they count, so that a column is the same whoever makes it. Results are within .503 of the last place,
and exact where the exact result is a float.

The way is Tang's (ACM Transactions on Mathematical Software 15, 1989; 16, 1990): a table for the leading bits
and a short polynomial for the rest. Pairs of floats are added and multiplied as by Dekker (Numerische
Mathematik 18, 1971) and Knuth.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal, localcontext
from functools import cache
from typing import Any

import numpy as np

from kivvet.core.columns.arrays import Array

#: A float and what it lacks: together 106 bits.
Pair = tuple[Array, Array]

_BLOCK = 65_536  # rows at a time, so that what is in between takes little memory
_PARTS = 128  # of the interval that a table covers
_MANTISSA = (1 << 52) - 1
_ONE = 1023 << 52
#: By exponent, what the processor itself rounds as it should be.
_COMMON: dict[float, Callable[[Array], Array]] = {
    2.0: lambda x: np.asarray(x * x),
    1.0: np.array,
    0.5: lambda x: np.where(np.isinf(x), np.inf, np.sqrt(x + 0.0)),
    -1.0: lambda x: np.asarray(1.0 / x),
}
_ROOT_HALF = int(np.float64(0.5**0.5).view(np.int64))
_LARGEST, _SMALLEST = 709.79, -745.14  # beyond, e to the power of it is infinite, or 0


@dataclass(frozen=True)
class _Tables:
    """What the reductions take away, and its logarithm or power."""

    inverses: Array  # about 1 / (n / 128), 10 bits each, n from 0
    logarithms: Pair  # of those, negative
    roots: Pair  # 2 ** (n / 128)
    ln_2: tuple[float, float]  # 42 bits, and the rest
    step: tuple[float, float, float]  # ln 2 / 128: 33 bits, 33 bits, and the rest
    over_ln_10: tuple[float, float]  # 1 / ln 10


def exponential(x: Array) -> Array:
    """Return e to the power of each number; beyond what a float holds infinite, or 0."""
    return _by_blocks(lambda one: _exponential(one, np.zeros_like(one)), x)


def logarithm(x: Array) -> Array:
    """Return the natural logarithm of each number: of 0 minus infinity, below 0 NaN."""
    return _by_blocks(lambda one: _of_positive(one, lambda high, low: high + low, np.log), x)


def logarithm_10(x: Array) -> Array:
    """Return the logarithm to base 10 of each number, as ``logarithm`` does."""
    return _by_blocks(lambda one: _of_positive(one, _over_ln_10, np.log10), x)


def power(x: Array, y: Array) -> Array:
    """Return each of ``x`` to the power of that of ``y``, with what C's ``pow`` says of 0, 1 and infinity."""
    return _by_blocks(_power, x, y)


def _by_blocks(work: Callable[..., Array], *arguments: Array) -> Array:
    given = np.broadcast_arrays(*(np.asarray(argument, float) for argument in arguments))
    shape = given[0].shape
    flat = [one.reshape(-1) for one in given]
    result = np.empty(flat[0].size)

    with np.errstate(all="ignore"):
        for start in range(0, result.size, _BLOCK):
            rows = slice(start, start + _BLOCK)
            result[rows] = work(*(one[rows] for one in flat))
    return result.reshape(shape)


def _power(x: Array, y: Array) -> Array:
    is_common = [y == exponent for exponent in _COMMON]
    for exponent, rows in zip(_COMMON, is_common, strict=True):
        if rows.all():
            return _COMMON[exponent](x)
    is_fixed = ~(np.isfinite(x) & np.isfinite(y)) | (x == 0) | (y == 0) | (x == 1)
    base = np.abs(x)
    # Beyond 1e25 the result is 0 or infinite for all but 1, whose logarithm is 0.
    exponents = np.clip(y, -1e25, 1e25)
    if is_fixed.any():
        base[is_fixed], exponents[is_fixed] = 1.0, 0.0
    high, low = _logarithm(base)
    product, rest = _product(exponents, high)
    result = _exponential(product, rest + exponents * low)
    is_below = x < 0
    if is_below.any():
        is_whole = np.floor(y) == y
        result[is_below & (np.fmod(y, 2) != 0)] *= -1
        result[is_below & ~is_whole] = np.nan
    if is_fixed.any():
        result[is_fixed] = np.power(x[is_fixed], y[is_fixed])
    for exponent, rows in zip(_COMMON, is_common, strict=True):
        if rows.any():
            result[rows] = _COMMON[exponent](x[rows])
    return result


def _of_positive(x: Array, ended: Callable[[Array, Array], Array], otherwise: Callable[[Any], Any]) -> Array:
    """Return what a logarithm gives; of what is not above 0 and finite it is the same everywhere."""
    is_finite = (x > 0) & (x < np.inf)
    if is_finite.all():
        return ended(*_logarithm(x))
    result = ended(*_logarithm(np.where(is_finite, x, 1.0)))
    result[~is_finite] = otherwise(x[~is_finite])
    return result


def _over_ln_10(high: Array, low: Array) -> Array:
    inverse, rest = _tables().over_ln_10
    product, lacking = _product(high, np.float64(inverse))
    return np.asarray(product + (lacking + (high * rest + low * inverse)))


def _logarithm(x: Array) -> Pair:
    """Return the logarithm of positive finite numbers: x = 2**e * m, ln x = e ln 2 - ln c + ln(1 + (m c - 1))."""
    tables = _tables()
    is_tiny = x < 2.0**-1022
    has_tiny = is_tiny.any()
    bits = (np.where(is_tiny, x * 2.0**54, x) if has_tiny else x).view(np.int64)
    exponent = (bits - _ROOT_HALF) >> 52
    m = (bits - (exponent << 52)).view(np.float64)  # from the root of 1/2 to the root of 2
    e = exponent.astype(float)
    if has_tiny:
        e[is_tiny] -= 54.0
    n = np.rint(m * _PARTS).astype(np.intp)
    inverse = tables.inverses[n]
    head = (m.view(np.int64) & ~0x7FFFFFF).view(np.float64)  # 26 bits: its product is exact
    r, r_low = _sum(head * inverse - 1.0, (m - head) * inverse)
    square, square_low = _product(r, r)
    more = _series(r, tuple((-1) ** (k + 1) / k for k in range(3, 11))) * (square * r)
    high, low = _sum(e * tables.ln_2[0], tables.logarithms[0][n])
    high, lacking = _sum(high, r)
    low += lacking
    high, lacking = _sum(high, square * -0.5)
    low += lacking + (e * tables.ln_2[1] + tables.logarithms[1][n] + r_low)
    low += more - (square_low * 0.5 + r * r_low)
    return _fast_sum(high, low)


def _exponential(high: Array, low: Array) -> Array:
    """Return e to the power of a pair: 2**(k/128) * e**r, where |r| is at most ln 2 / 256."""
    tables = _tables()
    is_inside = (high > _SMALLEST) & (high < _LARGEST)
    is_all = is_inside.all()
    x, low = (high, low) if is_all else (np.where(is_inside, high, 0.0), np.where(is_inside, low, 0.0))
    k = np.rint(x * (_PARTS / tables.ln_2[0]))
    first, second, third = tables.step
    r, r_low = _sum(x - k * first, k * -second)
    r, r_low = _fast_sum(r, r_low + (low - k * third))
    more = r_low + r * r * _series(r, (1 / 2, 1 / 6, 1 / 24, 1 / 120, 1 / 720))
    whole = k.astype(np.int64)
    n = whole & (_PARTS - 1)
    root, root_low = tables.roots[0][n], tables.roots[1][n]
    result = root + (root * r + (root_low + root * more))
    # In two steps, the first exact: what ends below the normal floats is rounded once more only there.
    twos = whole >> 7
    half = twos >> 1
    result *= ((half << 52) + _ONE).view(np.float64)
    result *= (((twos - half) << 52) + _ONE).view(np.float64)
    if not is_all:
        result = np.where(is_inside, result, np.where(high > 0, np.inf, np.where(high < 0, 0.0, np.nan)))
    return np.asarray(result)


def _series(r: Array, factors: tuple[float, ...]) -> Array:
    result = np.full_like(r, factors[-1])
    for factor in reversed(factors[:-1]):
        result *= r
        result += factor
    return result


def _sum(a: Any, b: Any) -> Pair:
    """Return a sum and exactly what it lacks (Knuth)."""
    total = a + b
    of_b = total - a
    lacking = total - of_b
    np.subtract(a, lacking, out=lacking)
    np.subtract(b, of_b, out=of_b)
    lacking += of_b
    return total, lacking


def _fast_sum(a: Array, b: Array) -> Pair:
    """Return the same where ``a`` is the larger (Dekker)."""
    total = a + b
    lacking = total - a
    np.subtract(b, lacking, out=lacking)
    return total, lacking


def _product(a: Array, b: Any) -> Pair:
    """Return a product and exactly what it lacks (Dekker)."""
    total = a * b
    a_head, a_tail = _halves(a)
    b_head, b_tail = (a_head, a_tail) if b is a else _halves(b)
    lacking = a_head * b_head
    lacking -= total
    lacking += a_head * b_tail
    lacking += a_tail * b_head
    lacking += a_tail * b_tail
    return total, lacking


def _halves(a: Any) -> tuple[Any, Any]:
    """Return a number as two of 26 bits, whose products are exact (Veltkamp)."""
    head = a * 134_217_729.0
    tail = head - a
    head = np.subtract(head, tail)
    return head, a - head


@cache
def _tables() -> _Tables:
    with localcontext() as context:
        context.prec = 60
        inverses = [1.0] * 64 + [round(_PARTS / n * 512) / 512 for n in range(64, 2 * _PARTS)]
        ln_2 = Decimal(2).ln()
        logarithms = _split([-Decimal(inverse).ln() for inverse in inverses])
        roots = _split([(ln_2 * n / _PARTS).exp() for n in range(_PARTS)])
        short, step = _shortened(ln_2, 42), ln_2 / _PARTS
        first = _shortened(step, 33)
        second = _shortened(step - Decimal(first), 33)
        over = 1 / Decimal(10).ln()
        return _Tables(
            inverses=np.array(inverses),
            logarithms=logarithms,
            roots=roots,
            ln_2=(short, float(ln_2 - Decimal(short))),
            step=(first, second, float(step - Decimal(first) - Decimal(second))),
            over_ln_10=(float(over), float(over - Decimal(float(over)))),
        )


def _split(values: list[Decimal]) -> Pair:
    high = [float(value) for value in values]
    return np.array(high), np.array(
        [float(one - Decimal(near)) for one, near in zip(values, high, strict=True)]
    )


def _shortened(value: Decimal, bits: int) -> float:
    """Return a number's leading bits, so that its product with a short integer is exact."""
    mantissa, exponent = np.frexp(float(value))
    return float(np.ldexp(np.floor(np.ldexp(mantissa, bits)), int(exponent) - bits))
