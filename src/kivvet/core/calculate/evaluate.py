"""Evaluating formulas on columns, whole columns at a time, in the logic of true, false and unknown."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.calculate.arithmetic import NUMERIC, worked_out
from kivvet.core.calculate.casts import cast
from kivvet.core.calculate.comparing import KindsDifferError, Signs, common, compared, signs_of
from kivvet.core.calculate.moments import days_between, part_of, whole_years
from kivvet.core.calculate.texts import TEXT, like_regex, mapped
from kivvet.core.calculate.vectors import Vector, either, nothing, of_column, of_constant, without_empty
from kivvet.core.calculate.whole_steps import Steps, signs_in_steps
from kivvet.core.columns.column import BoolArray, Column
from kivvet.core.formulas.tree import (
    And,
    Arithmetic,
    Call,
    Case,
    Cast,
    ColumnName,
    Comparison,
    Constant,
    IsNull,
    Not,
    Or,
    Tree,
    Window,
    write_formula,
)
from kivvet.core.words.errors import DataError

Truth = tuple[BoolArray, BoolArray]
Rows = npt.NDArray[np.intp]


class Evaluator:
    """Evaluates trees on the columns of one batch; the types of the columns have to fit.

    Parameters
    ----------
    column_named : callable
        Gives a column by name, as a `Column` or a `Vector`.
    n_rows : int
    is_near_equal : bool
        Whether numbers within rounding error of each other are equal, as in statements that always hold.
    windows : mapping of tree to Vector, optional
        What window functions, and comparisons of them with 1, gave for these rows.
    shared : mapping of int to str, optional
        By the `id` of each part of a tree that stands in it more than once its text: it is worked out once.
    steps : mapping of str to (Decimal, Decimal), optional
        By column that has one its step, and what multiples are counted from: sums of such columns are compared exactly.

    Attributes
    ----------
    made_missing : Counter
        By cause, how many values were there and have no result.
    first_missing : dict of str to int
        By cause, the first such row, from 0.
    """

    def __init__(
        self,
        column_named: Callable[[str], Column | Vector],
        n_rows: int,
        *,
        is_near_equal: bool = False,
        windows: Mapping[Tree, Vector] | None = None,
        shared: Mapping[int, str] | None = None,
        steps: Steps | None = None,
    ) -> None:
        self.steps = steps or {}
        self.column_named = column_named
        self.n_rows = n_rows
        self.is_near_equal = is_near_equal
        self.windows = windows or {}
        self.shared = shared or {}
        self.made_missing: Counter[str] = Counter()
        self.first_missing: dict[str, int] = {}
        self._columns: dict[str, Vector] = {}
        self._known: dict[str, Vector] = {}

    # What is asked

    def vector(self, tree: Tree) -> Vector:
        """Return the values of a tree."""
        text = self.shared.get(id(tree))
        if text is None:
            return self._worked(tree)
        if text not in self._known:
            self._known[text] = self._worked(tree)
        return self._known[text]

    def truth(self, tree: Tree) -> Truth:
        """Return where a condition is true, and where it is false; elsewhere it is unknown."""
        yes, no = self._truth(tree)
        return np.broadcast_to(yes, self.n_rows), np.broadcast_to(no, self.n_rows)

    def signs(self, left: Tree, right: Tree) -> tuple[Signs, BoolArray]:
        """Return -1, 0 or 1 as left is below, equal to or above right, and where one of them is missing."""
        exact = None
        if self.steps:
            exact = signs_in_steps(left, right, self.steps, self._column, self.n_rows)
        if exact is not None and exact[2].all():
            return exact[0], exact[1]
        try:
            signs, missing = signs_of(
                _with_empty_missing(self.vector(left)),
                _with_empty_missing(self.vector(right)),
                is_near_equal=self.is_near_equal,
            )
        except KindsDifferError as error:
            raise _incomparable(left, right, error) from None
        gone = np.zeros(self.n_rows, bool) if missing is None else np.broadcast_to(missing, self.n_rows)
        if exact is not None:
            return np.where(exact[2], exact[0], signs), gone
        return np.broadcast_to(signs, self.n_rows), gone

    def _column(self, name: str) -> Vector:
        return self.vector(ColumnName(name))

    def note(self, cause: str, rows: BoolArray) -> None:
        """Count values that have no result; for a constant part, every row has none."""
        number = self.n_rows * int(rows) if rows.ndim == 0 else int(np.count_nonzero(rows))
        if not number:
            return
        self.made_missing[cause] += number
        first = 0 if rows.ndim == 0 else int(np.argmax(rows))
        self.first_missing.setdefault(cause, first)

    def on_rows(self, rows: Rows) -> Evaluator:
        """Return an evaluator of some of the rows, which notes nothing by itself."""
        return Evaluator(
            lambda name: self.column(name).take(rows),
            len(rows),
            is_near_equal=self.is_near_equal,
            windows={window: made.take(rows) for window, made in self.windows.items()},
            shared=self.shared,
            steps=self.steps,
        )

    def column(self, name: str) -> Vector:
        """Return a column as a vector."""
        if name not in self._columns:
            given = self.column_named(name)
            self._columns[name] = given if isinstance(given, Vector) else of_column(given)
        return self._columns[name]

    # How it is worked out

    def _worked(self, tree: Tree) -> Vector:
        match tree:
            case ColumnName(name):
                return self.column(name)
            case Constant(value):
                return of_constant(value)
            case Arithmetic(sign, left, right):
                one, other = self.vector(left), self.vector(right)
                self._need_worked(tree, one, other)
                return worked_out(sign, one, other, self.note)
            case Cast(part, kind):
                given = _with_empty_missing(self.vector(part))
                return cast(given, kind, self.note, length=tree.length, digits=tree.digits)
            case Case(branches, otherwise):
                return self._case(branches, otherwise)
            case Call(name, parts) if name not in ("IS TRUE", "IS FALSE", "IS DISTINCT"):
                return self._call(name, parts)
            case Window():
                return self.windows[tree]
        yes, no = self._truth(tree)
        unknown = ~(yes | no)
        return Vector("boolean", np.asarray(yes), np.asarray(unknown) if unknown.any() else None)

    def _need_worked(self, tree: Arithmetic, *sides: Vector) -> None:
        for side, vector in zip((tree.left, tree.right), sides, strict=True):
            is_gone = vector.missing is not None and bool(vector.missing.all())
            if vector.kind in ("text", "boolean") and not is_gone:
                raise DataError(
                    f"{write_formula(side)} is no number",
                    expected="a number",
                    found=vector.kind,
                    fix=f"declare the column as number, or leave it out of {write_formula(tree)}",
                )

    def _truth(self, tree: Tree) -> Truth:
        match tree:
            case Comparison() if self.windows and tree in self.windows:
                made = self.windows[tree]
                return _known(made.values, made.missing)
            case Comparison(operator, left, right):
                if self.is_near_equal:
                    return self._near_truth(tree)
                try:
                    one, other = (
                        _with_empty_missing(self.vector(left)),
                        _with_empty_missing(self.vector(right)),
                    )
                    holds, missing = compared(operator, one, other)
                except KindsDifferError as error:
                    raise _incomparable(left, right, error) from None
                return _known(holds, missing)
            case IsNull(part, is_negated):
                gone = _with_empty_missing(self.vector(part)).missing
                missing = np.array(False) if gone is None else gone
                return (~missing, missing) if is_negated else (missing, ~missing)
            case Not(part):
                yes, no = self._truth(part)
                return no, yes
            case And(parts) | Or(parts):
                yes, no = self._truth(parts[0])
                for part in parts[1:]:
                    more_yes, more_no = self._truth(part)
                    if isinstance(tree, And):
                        yes, no = yes & more_yes, no | more_no
                    else:
                        yes, no = yes | more_yes, no & more_no
                return yes, no
            case Call("IS TRUE" | "IS FALSE" as name, parts):
                yes, no = self._truth(parts[0])
                holds = np.asarray(yes if name == "IS TRUE" else no)
                return holds, ~holds
            case Call("IS DISTINCT", (left, right)):
                yes, no = self._truth(Comparison("=", left, right))
                both = self._truth(IsNull(left))[0] & self._truth(IsNull(right))[0]
                same = yes | both
                return ~same, same
        made = self.vector(tree)
        if made.kind != "boolean" and not (made.missing is not None and made.missing.all()):
            raise DataError(
                f"{write_formula(tree)} is no condition",
                expected="true or false",
                found=made.kind,
                fix="compare it with a value",
            )
        return _known(made.values.astype(bool, copy=False), made.missing)

    def _near_truth(self, tree: Comparison) -> Truth:
        from kivvet.core.formulas.tree import SIGNS

        signs, missing = self.signs(tree.left, tree.right)
        return _known(np.isin(signs, SIGNS[tree.operator]), missing)

    def _case(self, branches: Sequence[tuple[Tree, Tree]], otherwise: Tree | None) -> Vector:
        rest = np.arange(self.n_rows)
        pieces: list[tuple[Rows, Vector]] = []
        for number, (test, value) in enumerate(branches):
            here = self if number == 0 else self.on_rows(rest)
            yes, _ = here.truth(test)
            if number:
                self._note_of(here, rest)
            pieces.append(self.value_on(rest[yes], value))
            rest = rest[~yes]
        pieces.append(self.value_on(rest, otherwise or Constant(None)))
        return merged(pieces, self.n_rows)

    def value_on(self, rows: Rows, tree: Tree) -> tuple[Rows, Vector]:
        """Return the values of a tree on some rows only, so that nothing goes wrong on others."""
        if isinstance(tree, Constant):
            return rows, of_constant(tree.value)
        if isinstance(tree, ColumnName) or len(rows) == self.n_rows:
            return rows, self.vector(tree) if len(rows) == self.n_rows else self.vector(tree).take(rows)
        here = self.on_rows(rows)
        made = here.vector(tree)
        self._note_of(here, rows)
        return rows, made

    def _note_of(self, part: Evaluator, rows: Rows) -> None:
        """Take over what an evaluator of some rows noted."""
        for cause, number in part.made_missing.items():
            self.made_missing[cause] += number
            first = int(rows[part.first_missing[cause]])
            self.first_missing[cause] = min(first, self.first_missing.get(cause, first))

    def _call(self, name: str, parts: tuple[Tree, ...]) -> Vector:
        if name == "COALESCE":
            rest = np.arange(self.n_rows)
            pieces: list[tuple[Rows, Vector]] = []
            for part in parts:
                rows, made = self.value_on(rest, part)
                made = _with_empty_missing(made)
                gone = made.missing_rows(len(rows))
                pieces.append((rows[~gone], made.take(~gone)))
                rest = rows[gone]
            pieces.append((rest, nothing()))
            return merged(pieces, self.n_rows)
        if name == "NULLIF":
            yes, _ = self._truth(Comparison("=", parts[0], parts[1]))
            made = self.vector(parts[0])
            return _lacking(made, yes)
        if name == "EXTRACT":
            assert isinstance(parts[0], Constant)
            return part_of(str(parts[0].value), self.vector(parts[1]))
        given = [self.vector(part) for part in parts]
        if name in NUMERIC:
            return NUMERIC[name](*given, self.note)
        if name in ("GREATEST", "LEAST"):
            return _extreme(given, is_greatest=name == "GREATEST")
        if name == "WHOLE_YEARS":
            return whole_years(given[0], given[1])
        if name == "DAYS_BETWEEN":
            return days_between(given[0], given[1])
        if name == "LIKE_REGEX" and all(one.kind == "text" for one in given):
            return like_regex(_with_empty_missing(given[0]), given[1], self.note)
        work, kind = TEXT[name] if name in TEXT else TEXT["LIKE"]
        for one in given:
            is_gone = not self.n_rows or (one.missing is not None and bool(one.missing.all()))
            if one.kind not in ("text", "integer") and not is_gone:
                raise DataError(
                    f"{name} is given a {one.kind}",
                    expected="text",
                    found=one.kind,
                    fix="CAST(... AS TEXT) makes text of it",
                )
        first = given[0] if name in ("||",) else _with_empty_missing(given[0])
        return mapped(work, [first, *given[1:]], kind, self.note, f"{name} has no result")


def _known(holds: BoolArray, missing: BoolArray | None) -> Truth:
    if missing is None:
        return np.asarray(holds), np.asarray(~holds)
    known = ~missing
    return np.asarray(holds & known), np.asarray(~holds & known)


def _with_empty_missing(vector: Vector) -> Vector:
    """Return a vector in which text of no characters is missing."""
    return without_empty(vector) if vector.kind == "text" else vector


def _lacking(vector: Vector, rows: BoolArray) -> Vector:
    from dataclasses import replace

    if rows.ndim and vector.is_single:
        vector = vector.of_rows(len(rows))
    return replace(vector, missing=either(vector.missing, rows))


def merged(pieces: list[tuple[Rows, Vector]], n_rows: int) -> Vector:
    """Return one vector of pieces, each with the rows it is for; all rows are in one piece."""
    vectors = common([one for _, one in pieces])
    whole = next((one for (rows, _), one in zip(pieces, vectors, strict=True) if len(rows) == n_rows), None)
    if whole is not None and n_rows:
        return whole
    distinct: pa.Array | None = None
    if vectors[0].kind == "text":
        encoded = pc.dictionary_encode(pa.concat_arrays([vector.distinct for vector in vectors]))
        numbers = encoded.indices.to_numpy(zero_copy_only=False)
        distinct, start = encoded.dictionary, 0
        for place, one in enumerate(vectors):
            size = len(one.distinct)  # type: ignore[arg-type]
            vectors[place] = Vector(
                "text", np.asarray(numbers[start : start + size][one.values]), one.missing, distinct
            )
            start += size
    values = np.zeros(n_rows, np.result_type(*(vector.values.dtype for vector in vectors)))
    missing = np.zeros(n_rows, bool)
    for (rows, _), one in zip(pieces, vectors, strict=True):
        values[rows] = one.values
        if one.missing is not None:
            missing[rows] = one.missing
    return Vector(vectors[0].kind, values, missing if missing.any() else None, distinct, vectors[0].tz)


def _extreme(given: list[Vector], *, is_greatest: bool) -> Vector:
    """Return the greatest or the least of several values, row by row; missing where one of them is."""
    vectors = common([_with_empty_missing(one) for one in given])
    missing = either(*(vector.missing for vector in vectors))
    best = vectors[0]
    for one in vectors[1:]:
        holds, _ = compared("<" if is_greatest else ">", best, one)
        if best.is_single and one.is_single:
            best = one if bool(holds) else best
            continue
        (n_rows,) = np.broadcast_shapes(best.values.shape, one.values.shape)
        rows = np.broadcast_to(holds, n_rows)
        places = np.flatnonzero(rows), np.flatnonzero(~rows)
        best = merged(
            [
                (places[0], one.of_rows(n_rows).take(places[0])),
                (places[1], best.of_rows(n_rows).take(places[1])),
            ],
            n_rows,
        )
    return Vector(best.kind, best.values, missing, best.distinct, best.tz)


def _incomparable(left: Tree, right: Tree, error: KindsDifferError) -> DataError:
    return DataError(
        f"{write_formula(left)} and {write_formula(right)} cannot be compared",
        expected="values of one type",
        found=" and ".join(map(str, error.args)),
        fix="declare the types of the columns, or compare others",
    )
