"""Proposing bounds for bins: equal width, equal counts, round numbers, natural breaks, standard deviations, quantiles."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from decimal import Decimal
from typing import Literal

import numpy as np
import numpy.typing as npt

from kivvet.core.columns.arrays import Places
from kivvet.core.draft.look import round_width

Method = Literal["width", "counts", "round", "natural", "deviations"]
METHODS: tuple[Method, ...] = ("width", "counts", "round", "natural", "deviations")
#: Those whose bounds are values of the data themselves, each the first of its bin: they are not rounded.
AT_VALUES = ("counts", "natural", "quantiles")
_MOST_FOR_NATURAL = 1_500

FloatArray = npt.NDArray[np.float64]


def propose_bounds(
    numbers: FloatArray, weights: npt.NDArray[np.int64], method: Method, n_bins: int
) -> list[float]:
    """Return bounds, in order, that divide values into about `n_bins` bins; a bound begins its upper bin.

    Parameters
    ----------
    numbers : ndarray of float64
        Distinct, finite, in order.
    weights : ndarray of int64
        The rows of each.
    method : {"width", "counts", "round", "natural"}
        Equally wide bins; bins of about equally many rows; bounds that are round numbers; or the bins within
        which values differ least: the exact optimum of Fisher (1958), "On grouping for maximum
        homogeneity", Journal of the American Statistical Association 53, found by dynamic programming. Deviations
        are bins one standard deviation wide, laid evenly about the mean.
    """
    if len(numbers) < 2 or n_bins < 2:
        return []
    low, high = float(numbers[0]), float(numbers[-1])
    if method == "width":
        return [low + (high - low) * part / n_bins for part in range(1, n_bins)]
    if method == "round":
        width = round_width((high - low) / n_bins)
        first = np.floor(low / width) + 1
        return [float(width * place) for place in np.arange(first, np.ceil(high / width))]
    if method == "counts":
        return equal_counts(numbers, weights, n_bins)
    if method == "deviations":
        mean = float(np.average(numbers, weights=weights))
        spread = float(np.sqrt(np.average((numbers - mean) ** 2, weights=weights)))
        return [mean + spread * (place - n_bins / 2) for place in range(1, n_bins)]
    return _natural_breaks(*_thinned(numbers, weights), n_bins)


def equal_counts(numbers: FloatArray, weights: npt.NDArray[np.int64], n_bins: int) -> list[float]:
    """Return the bounds of bins of equal counts, the first ones with one row more where they do not divide, as NTILE
    has them; but equal values stay together, in the lower of the bins that they would be parted into.
    """
    return _values_after(numbers, weights, _equal_ends(weights, n_bins))


def _equal_ends(weights: npt.NDArray[np.int64], n_bins: int) -> Places:
    small, larger = divmod(int(weights.sum()), n_bins)
    ends = np.array([part * small + min(part, larger) for part in range(1, n_bins)], np.int64)
    return ends[ends > 0]


def nearer_counts(numbers: FloatArray, weights: npt.NDArray[np.int64], n_bins: int) -> list[float]:
    """Return the bounds of `equal_counts`, but with equal values in the upper bin where that leaves the rows below nearer to
    equal counts.
    """
    ends, below = _equal_ends(weights, n_bins), np.cumsum(weights)
    places = np.searchsorted(below, ends) + 1
    lower = np.where(places > 1, below[np.maximum(places - 2, 0)], -1)
    is_nearer = (lower >= 0) & (np.abs(lower - ends) < np.abs(below[places - 1] - ends))
    chosen = sorted(set((places - is_nearer).tolist()))
    return [float(numbers[place]) for place in chosen if place < len(numbers)]


def sizes_of_bins(
    bounds: Sequence[float], numbers: FloatArray, weights: npt.NDArray[np.int64]
) -> npt.NDArray[np.int64]:
    """Return the rows of each bin; a bound begins its upper bin."""
    below = np.concatenate([[0], np.cumsum(weights)])
    ends = np.concatenate([[0], np.searchsorted(numbers, np.asarray(bounds)), [len(numbers)]])
    return np.diff(below[ends.astype(np.intp)])


def quantile_bounds(
    numbers: FloatArray, weights: npt.NDArray[np.int64], shares: Sequence[Decimal]
) -> list[float]:
    """Return the bounds of bins that hold, up to each share of the rows, at least so many; equal values stay together."""
    total = int(weights.sum())
    ends = [-(-total * top // bottom) for top, bottom in (share.as_integer_ratio() for share in shares)]
    return _values_after(numbers, weights, np.array(ends))


def _values_after(numbers: FloatArray, weights: npt.NDArray[np.int64], ends: Places) -> list[float]:
    """Return the first value beyond each of some numbers of rows, counted from the lowest value; each once."""
    places = np.searchsorted(np.cumsum(weights), ends) + 1
    return [float(numbers[place]) for place in sorted(set(places.tolist())) if place < len(numbers)]


def _thinned(numbers: FloatArray, weights: npt.NDArray[np.int64]) -> tuple[FloatArray, FloatArray]:
    """Return at most some 1,500 values for the quadratic search: neighbours of equal share stand together."""
    if len(numbers) <= _MOST_FOR_NATURAL:
        return numbers, weights.astype(np.float64)
    share = (np.cumsum(weights) - 1) * _MOST_FOR_NATURAL // weights.sum()
    starts = np.flatnonzero(np.diff(share, prepend=-1))
    return numbers[starts], np.add.reduceat(weights, starts).astype(np.float64)


def _natural_breaks(numbers: FloatArray, weights: FloatArray, n_bins: int) -> list[float]:
    """Return the first value of each bin but the lowest, for the least sum of squared differences from bin
    means.
    """
    n = len(numbers)
    n_bins = min(n_bins, n)
    zero = np.zeros(1)
    total = np.concatenate([zero, np.cumsum(weights)])
    shifted = numbers - numbers.mean()
    first = np.concatenate([zero, np.cumsum(weights * shifted)])
    second = np.concatenate([zero, np.cumsum(weights * shifted**2)])

    def cost(start: npt.NDArray[np.intp], end: int) -> FloatArray:
        rows, sums = total[end] - total[start], first[end] - first[start]
        return np.asarray(second[end] - second[start] - sums**2 / rows)

    best = np.array([cost(np.array([0]), end)[0] if end else 0.0 for end in range(n + 1)])
    chosen = np.zeros((n_bins + 1, n + 1), np.intp)
    for bins in range(2, n_bins + 1):
        made = np.full(n + 1, np.inf)
        for end in range(bins, n + 1):
            starts = np.arange(bins - 1, end)
            costs = best[starts] + cost(starts, end)
            place = int(np.argmin(costs))
            made[end], chosen[bins, end] = costs[place], starts[place]
        best = made
    breaks, end = [], n
    for bins in range(n_bins, 1, -1):
        end = int(chosen[bins, end])
        breaks.append(float(numbers[end]))
    return breaks[::-1]


def round_dates(first: dt.date, last: dt.date, n_bins: int) -> list[dt.date]:
    """Return beginnings of years, quarters, months or days: those that give about `n_bins` bins."""
    options: list[list[dt.date]] = []
    for months in (120, 60, 12, 3, 1):
        place = (first.year * 12 + first.month - 1) // months + 1
        made = []
        while (day := dt.date(place * months // 12, place * months % 12 + 1, 1)) <= last:
            made.append(day)
            place += 1
        options.append(made)
    span = (last - first).days
    width = max(1, span // n_bins)
    options.append([first + dt.timedelta(days) for days in range(width, span + 1, width)])
    return min(options, key=lambda made: (abs(len(made) + 1 - n_bins), -len(made)))
