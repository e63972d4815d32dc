"""Powers, exponentials and logarithms against 60 digits of ``decimal``, C's rules, and other processors."""

import math
import os
import subprocess
import sys
from decimal import Decimal, localcontext

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kivvet.core.calculate.elementary import exponential, logarithm, logarithm_10, power

LARGEST = Decimal(sys.float_info.max)
EDGES = [
    5e-324, 2.2e-308, 1e-310, 1.7e308, 1 - 2**-53, 1 + 2**-52, 0.5**0.5, 2**0.5, 128.5 / 128, 127.5 / 128, 1e22, 1e23, 709.782712893384,
    -708.3964185322641, -745.1332191019411, 1e-300, 2.0**53 + 2,
]  # fmt: skip
POSITIVE = st.sampled_from([one for one in EDGES if one > 0]) | st.floats(5e-324, 1.7e308) | st.floats(0.5, 2)
WAYS = {
    "EXP": (
        exponential,
        lambda x: Decimal(x).exp(),
        st.sampled_from([one for one in EDGES if one < 710]) | st.floats(-746, 710),
    ),
    "LN": (logarithm, lambda x: Decimal(x).ln(), POSITIVE),
    "LOG10": (logarithm_10, lambda x: Decimal(x).log10(), POSITIVE),
}
SPECIAL = [
    0.0,
    -0.0,
    1.0,
    -1.0,
    math.inf,
    -math.inf,
    math.nan,
    2.0,
    -2.0,
    3.0,
    -3.0,
    0.5,
    -0.5,
    1e25,
    2.0**53,
    1e300,
    -1e300,
]


def is_near(found, exact):
    """A result is at most .503 of the last place from the exact one, or beyond what a float holds as that is; below the normal
    floats it is rounded once more.
    """
    if math.isinf(found):
        return abs(exact) > LARGEST
    places = Decimal("0.503") if abs(found) >= sys.float_info.min else Decimal("0.76")
    return abs(Decimal(found) - exact) <= places * Decimal(float(np.spacing(abs(found))))


@pytest.mark.parametrize("name", WAYS)
@given(data=st.data())
def test_results_are_the_nearest_floats(name, data):
    way, exact, values = WAYS[name]
    given_ones = data.draw(st.lists(values, min_size=1, max_size=20))
    with localcontext() as context:
        context.prec = 60
        for x, found in zip(given_ones, way(np.array(given_ones)).tolist(), strict=True):
            assert is_near(found, exact(x)), (name, x, found)


@given(st.lists(st.tuples(POSITIVE, st.floats(-1e9, 1e9) | st.floats(-30, 30)), min_size=1, max_size=20))
def test_powers_are_the_nearest_floats(pairs):
    with localcontext() as context:
        context.prec = 60
        for (x, y), found in zip(pairs, power(*np.array(pairs).T).tolist(), strict=True):
            exponent = Decimal(y) * Decimal(x).ln()
            if -746 < exponent < 710:
                assert is_near(found, exponent.exp()), (x, y, found)
            else:
                assert found == (math.inf if exponent > 0 else found * 0), (x, y, found)


def test_what_is_exact_is_exact():
    tens = np.arange(23)
    assert logarithm_10(10.0**tens).tolist() == tens.tolist()
    assert logarithm_10(np.array([0.001, 0.1])).tolist() == [-3.0, -1.0]
    pairs = [(a, b) for a in range(2, 60) for b in range(53) if a**b < 2**53]
    base, exponent = np.array(pairs, float).T
    assert power(base, exponent).tolist() == [a**b for a, b in pairs]
    assert power(-base, exponent).tolist() == [(-a) ** b for a, b in pairs]
    x = np.random.default_rng(1).lognormal(size=5_000)
    for exponent, exact in ((2.0, x * x), (0.5, np.sqrt(x)), (-1.0, 1 / x), (1.0, x)):
        assert np.array_equal(power(x, np.array(exponent)), exact)
        beside = power(np.append(x, 7.0), np.append(np.full(x.size, exponent), 1.25))
        assert np.array_equal(beside[:-1], exact)


def test_of_zero_one_and_infinity_as_c_has_it():
    base, exponent = (one.ravel() for one in np.meshgrid(SPECIAL, SPECIAL))
    for x, y, found in zip(base.tolist(), exponent.tolist(), power(base, exponent).tolist(), strict=True):
        try:
            is_so = math.pow(x, y)
        except OverflowError:
            is_so = math.copysign(math.inf, x if y % 2 == 1 else 1.0)
        except ValueError:  # a negative number to a part of one, and 0 to a negative power
            is_so = math.nan if x else math.copysign(math.inf, x if y % 2 == 1 else 1.0)
        assert found == is_so or (math.isnan(found) and math.isnan(is_so)), (x, y)
        assert math.isnan(found) or math.copysign(1, found) == math.copysign(1, is_so), (x, y)
    given_ones = np.array([math.inf, -math.inf, 0.0, -0.0, math.nan, 1e300, -1e300])
    nan = math.nan
    np.testing.assert_array_equal(exponential(given_ones), [math.inf, 0, 1, 1, nan, math.inf, 0])
    with np.errstate(all="raise"):
        for way in (logarithm, logarithm_10):
            np.testing.assert_array_equal(way(given_ones[:5]), [math.inf, nan, -math.inf, -math.inf, nan])


def test_one_value_as_among_many():
    x = np.exp(np.random.default_rng(2).normal(0, 30, 70_000))
    for way in (exponential, logarithm, logarithm_10, lambda one: power(one, np.array(1.7))):
        together = way(x)
        assert together.shape == x.shape
        for row in (0, 65_535, 65_536, 69_999):
            assert way(x[row : row + 1])[0] == together[row] == way(x[row])


#: Of the values below, wherever they are worked out.
KNOWN = "448e11fa66b7d681564f7f601f6b6161bc0fd89389bbe2114ffd27c38873b8f7"
BITS = """
import numpy as np, hashlib
from kivvet.core.calculate.elementary import exponential, logarithm, logarithm_10, power
x = np.arange(1, 50_001) * 26_544_357_619 % 2**40 / 2**20
bits = [exponential(-x % 700), logarithm(x), logarithm_10(x), power(x, np.roll(x, 1) % 40)]
print(hashlib.sha256(b"".join(one.tobytes() for one in bits)).hexdigest())
"""


def test_the_same_bits_without_wide_vector_units():
    wide = " ".join(np.show_config(mode="dicts")["SIMD Extensions"].get("found", []))
    without = {**os.environ, "NPY_DISABLE_CPU_FEATURES": wide}
    said = [
        subprocess.run(
            [sys.executable, "-c", BITS], env=env, capture_output=True, text=True, check=True
        ).stdout.strip()
        for env in ({**os.environ}, without)
    ]
    assert said == [KNOWN] * 2
