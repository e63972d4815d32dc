"""The line of an input: what lies in a region is what the condition accepts, a witness lies there, and what is written reads as the same."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from fractions import Fraction

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from kivvet.core.space.make_axis import holds_nothing, make_axis
from kivvet.core.tables.inputs import Input
from kivvet.core.words.condition_parser import parse_condition
from kivvet.core.words.conditions import AnyOf, Between, Equals, Negation
from tests.conftest import budget
from tests.oracle import accepts, telling_values
from tests.strategies import conditions

KINDS = ("number", "integer", "date", "datetime", "text", "boolean")
STEPS = (None, Decimal("0.1"), Decimal(5))


def on_the_step(value, about):
    return about.step is None or (Fraction(value) - Fraction(about.step_offset)) % Fraction(about.step) == 0


@st.composite
def inputs(draw, kind, *, with_domain=True):
    domain = draw(st.one_of(st.none(), conditions(kind, missing=False))) if with_domain else None
    step = draw(st.sampled_from(STEPS)) if kind == "number" else None
    return Input(
        "x",
        kind,
        step=step,
        domain=domain,
        shape=draw(st.sampled_from((None, "A9"))) if kind == "text" else None,
    )


def with_values(kind, condition, about):
    """Values that the condition and the domain can tell apart, as the type has them."""
    parts = [condition, *([] if about.domain is None else [about.domain])]
    values = telling_values(parts, about)
    if kind == "number":
        return [one for one in values if on_the_step(one, about)]
    return [one for one in values if one] if kind == "text" else values


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=budget(60), deadline=None)
@given(st.data())
def test_a_witness_is_a_value_that_the_condition_accepts(kind, data):
    about = data.draw(inputs(kind))
    condition = data.draw(conditions(kind))
    axis = make_axis(about, [condition])
    region = axis.region(condition) & axis.domain
    found = [axis.witness(band, *span) for band, spans in enumerate(region.bands) for span in spans]
    for value in found:
        if value is not None:
            assert accepts(condition, value, about), value
            assert about.domain is None or accepts(about.domain, value, about), value
            assert kind not in ("number", "integer") or on_the_step(value, about), value
    there = [
        one
        for one in with_values(kind, condition, about)
        if accepts(condition, one, about) and (about.domain is None or accepts(about.domain, one, about))
    ]
    if kind != "text":  # of texts those that do not have the shape are among the values
        assert any(value is not None for value in found) or not there, there[:3]


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=budget(60), deadline=None)
@given(st.data())
def test_what_is_written_of_a_region_accepts_the_same_values(kind, data):
    about = data.draw(inputs(kind, with_domain=False))
    condition = data.draw(conditions(kind))
    axis = make_axis(about, [condition])
    region = axis.region(condition)
    text = axis.write_region(region)
    values = with_values(kind, condition, about)
    if kind == "text" and (about.shape or axis.n_bands > 1):
        return  # by lengths, which no condition says
    again = parse_condition(text, kind) if text else None
    for value in [*values, None]:
        assert accepts(condition, value, about) == (again is not None and accepts(again, value, about)), (
            text,
            value,
        )


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=budget(40), deadline=None)
@given(st.data())
def test_a_region_and_the_rest_are_everything_and_share_nothing(kind, data):
    about = data.draw(inputs(kind))
    condition = data.draw(conditions(kind))
    axis = make_axis(about, [condition])
    region = axis.region(condition).without_missing()
    rest = region.other_present()
    assert (region | rest).bands == axis.present.bands
    assert not any((region & rest).bands)
    assert region.other_present().other_present() == region
    assert axis.region(Negation(condition)).bands == rest.bands
    assert axis.region(AnyOf((condition, condition))).bands == region.bands


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=budget(60), deadline=None)
@given(st.data())
def test_a_domain_that_holds_nothing_is_one_that_no_value_is_in(kind, data):
    about = data.draw(inputs(kind))
    assume(about.domain is not None)
    there = [one for one in with_values(kind, about.domain, about) if accepts(about.domain, one, about)]
    if holds_nothing(about):
        assert not there, there[:3]
    elif kind in ("number", "integer", "date", "datetime"):
        axis = make_axis(about)
        spans = [(band, *span) for band, spans in enumerate(axis.domain.bands) for span in spans]
        assert any(axis.witness(*span) is not None for span in spans)


@pytest.mark.parametrize(
    ("kind", "more", "domain", "holds"),
    [
        ("number", {}, Between(Decimal(9), True, Decimal(2), True), False),
        ("number", {}, Between(Decimal(2), True, Decimal(2), True), True),
        ("number", {}, Between(Decimal(2), False, Decimal(2), True), False),
        ("number", {"step": Decimal("0.5")}, Between(Decimal("0.1"), True, Decimal("0.4"), True), False),
        ("number", {"step": Decimal("0.5")}, Between(Decimal("0.1"), True, Decimal("0.5"), True), True),
        ("number", {"step": Decimal("0.5")}, Between(Decimal("0.1"), True, Decimal("0.5"), False), False),
        ("integer", {}, Between(Decimal("0.2"), True, Decimal("0.8"), True), False),
        ("integer", {}, Between(Decimal("0.2"), True, Decimal(1), True), True),
        ("date", {}, Between(dt.date(2026, 3, 2), True, dt.date(2026, 3, 1), True), False),
        ("date", {}, Between(dt.date(2026, 3, 1), False, dt.date(2026, 3, 2), False), False),
        ("datetime", {}, Between(dt.date(2026, 3, 1), True, dt.date(2026, 3, 1), True), True),
        ("text", {}, Between("b", True, "a", True), False),
        ("text", {}, Between("a", True, "b", True), True),
        ("text", {}, Equals("a"), True),
    ],
)
def test_domains_that_hold_something_or_nothing(kind, more, domain, holds):
    assert holds_nothing(Input("x", kind, domain=domain, **more)) is not holds
