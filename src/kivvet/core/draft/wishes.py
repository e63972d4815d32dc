"""What the caller of a draft asks for."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from kivvet.core.draft.breaks import METHODS, Method
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import FOLDS, LiteralError, parse_decimal, write_value
from kivvet.core.words.wording import did_you_mean, listed

_ABOUT = 5  # bins where no number is asked for


@dataclass(frozen=True)
class Wishes:
    """What the caller of a draft asks for.

    Attributes
    ----------
    output : str or None
        The name of the output; None: the table's name, with ``_class`` where a column that it reads has that name.
    method : str or None
        How to bin numbers and dates; None: a mapping for texts and few whole numbers, round bounds otherwise.
    n_bins : int or None
        How many bins are asked for; None: about five.
    bounds : tuple of str
        Bounds that are given; they win over `method`.
    by_value : bool
        Whether numbers and dates too get one row a value.
    quantiles : tuple of Decimal
        Shares of the rows, rising between 0 and 1, at which bounds are; they win over `method`.
    results : str, tuple of str, mapping of str to str or None
        A pattern for the classes of bins: ``{number}`` is the bin's from 1, ``{range}`` its condition; or the classes in order; or
        for one row a value, the classes by value, as it is written. None: blank.
    fold : tuple of str
        Differences of spelling that do not count: values that differ by them alone make one row.
    noting : str or None
        A column whose most frequent values are noted beside each row of a mapping.
    """

    output: str | None = None
    method: Method | None = None
    n_bins: int | None = None
    bounds: tuple[str, ...] = ()
    by_value: bool = False
    quantiles: tuple[Decimal, ...] = ()
    results: str | tuple[str, ...] | Mapping[str, str] | None = None
    fold: tuple[str, ...] = ()
    noting: str | None = None

    def output_of(self, name: str, columns: Sequence[str]) -> str:
        """Return the name of the output of a table of that name that reads some columns."""
        return self.output or (f"{name}_class" if name in columns else name)

    @property
    def wants_bins(self) -> bool:
        """Whether ranges are asked for."""
        return bool(self.method or self.bounds or self.quantiles or self.n_bins)

    @property
    def number_of_bins(self) -> int:
        """How many bins are wanted, more or less."""
        if self.quantiles:
            return len(self.quantiles) + 1
        return self.n_bins or (len(self.results) if isinstance(self.results, tuple) else _ABOUT)


def wishes_of(
    output: str | None,
    method: str | None,
    n_bins: int | None,
    bounds: Sequence[Any],
    *,
    by_value: bool,
    quantiles: Sequence[Any] = (),
    results: str | Sequence[str] | Mapping[str, str] | None = None,
    fold: str | Sequence[str] = (),
    classes: str | None = None,
    noting: str | None = None,
    is_of_one: bool = True,
) -> Wishes:
    """Return what is wished for, as calls give it; `DataError` where there is no such way to propose bounds, or something is
    asked that has no meaning beside the rest.
    """
    if not is_of_one:
        _refuse(
            "has a meaning for one column only",
            "draft a table for each column first, and read the classes that they give",
            bounds=bounds,
            results=results,
            fold=fold,
            noting=noting,
        )
    if classes:
        _refuse(
            "has no meaning beside classes that the data holds",
            "leave it out: the rows are those that give these classes",
            propose=method,
            bins=n_bins,
            bounds=bounds,
            quantiles=quantiles,
            results=results,
            fold=fold,
            noting=noting,
        )
    if method is not None and method not in METHODS:
        raise DataError(f"{method!r} is no way to propose bounds", expected=f"one of: {listed(METHODS)}")
    texts = tuple(
        write_value(Decimal(repr(bound)) if isinstance(bound, float) else bound) for bound in bounds
    )
    shares = tuple(_share(quantile) for quantile in quantiles)
    if sorted(set(shares)) != list(shares):
        raise DataError(
            f"the quantiles {listed(map(str, quantiles), 10)} do not rise",
            expected="each once, from the lowest up",
        )
    named = _classes(results)
    if by_value and (
        asked := [word for word, value in _ways_of_bins(method, n_bins, bounds, quantiles) if value]
    ):
        raise DataError(
            f"{asked[0]} asks for bins, and by_value for one row a value", fix="leave one of them out"
        )
    return Wishes(
        output,
        method,
        n_bins,
        texts,
        by_value,
        shares,
        named,
        _folds(fold),
        noting,
    )


def _folds(given: str | Sequence[str]) -> tuple[str, ...]:
    """Return the differences of spelling that are not to count."""
    names = tuple(
        one.strip() for one in (given.split(",") if isinstance(given, str) else given) if one.strip()
    )
    for name in names:
        if name not in FOLDS:
            raise DataError(
                f"{name!r} is no difference that can be left uncounted",
                expected=f"some of: {listed(FOLDS)}",
                fix=did_you_mean(name, FOLDS),
            )
    return names


def _classes(
    given: str | Sequence[str] | Mapping[str, str] | None,
) -> str | tuple[str, ...] | Mapping[str, str] | None:
    """Return the pattern of the classes of bins, the classes in the order of the bins, or those by value."""
    if (
        given is None
        or isinstance(given, Mapping)
        or (isinstance(given, str) and ("{number}" in given or "{range}" in given))
    ):
        return given
    names = tuple(one.strip() for one in (given.split(",") if isinstance(given, str) else given))
    if len(names) < 2 or not all(names):
        raise DataError(
            f"the classes {given!r} would all be the same",
            fix='name them in order: "cold,mild,warm"; or say where the number of the bin stands: "tenth {number}"; '
            'or its range: "{range}"',
        )
    return names


def _ways_of_bins(*given: Any) -> list[tuple[str, bool]]:
    return [
        (word, value is not None and value not in ([], ()))
        for word, value in zip(("propose", "bins", "bounds", "quantiles"), given, strict=True)
    ]


def _refuse(why: str, fix: str, **given: Any) -> None:
    if asked := [word for word, value in given.items() if value not in (None, (), [], False, "")]:
        raise DataError(f"{asked[0]} {why}", fix=fix)


def _share(given: Any) -> Decimal:
    """Return a share of the rows, between 0 and 1."""
    try:
        share = parse_decimal(str(given).strip())
    except LiteralError:
        share = Decimal(-1)
    if not 0 < share < 1:
        raise DataError(
            f"{str(given)!r} is no quantile",
            expected="shares of the rows between 0 and 1",
            fix="0.1 for the lowest tenth",
        )
    return share
