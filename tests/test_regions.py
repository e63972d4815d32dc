"""Sets of values: the laws of sets; and whether there is a text between two cuts, against trying all."""

import itertools

from hypothesis import given, settings
from hypothesis import strategies as st

from kivvet.core.space.shapes import TextSpace, after_prefix, prefix_interval
from kivvet.core.words.regions import EVERYTHING, HIGH, LOW, complement, intersection, union
from tests.conftest import budget

cuts = st.one_of(st.just(LOW), st.just(HIGH), st.tuples(st.just(0), st.integers(0, 6), st.integers(0, 1)))
sets = st.lists(st.tuples(cuts, cuts), max_size=4).map(
    lambda pairs: union(tuple(sorted(pair)) for pair in pairs)
)
POINTS = [(0, number / 2, side) for number in range(-1, 14) for side in (0,)]


def holds(intervals, number):
    return any(low <= (0, number, 0) < high for low, high in intervals)


NUMBERS = [number / 2 for number in range(-2, 15)]


@given(sets, sets)
def test_the_laws_of_sets_hold_for_every_number(a, b):
    for number in NUMBERS:
        assert holds(union(a, b), number) == (holds(a, number) or holds(b, number))
        assert holds(intersection(a, b), number) == (holds(a, number) and holds(b, number))
        assert holds(complement(a), number) != holds(a, number)


@given(sets)
def test_sets_have_one_form(a):
    assert union(a) == a
    assert complement(complement(a)) == a
    assert union(a, complement(a)) == EVERYTHING
    assert intersection(a, complement(a)) == ()
    assert all(one[1] < two[0] for one, two in itertools.pairwise(a))


ALPHABET = "AB9a"
EVERY_TEXT = [
    "".join(signs) for length in range(1, 5) for signs in itertools.product(ALPHABET, repeat=length)
]
text_cuts = st.one_of(
    st.just(LOW),
    st.just(HIGH),
    st.tuples(st.just(0), st.text(ALPHABET, min_size=1, max_size=3), st.integers(0, 1)),
)


@settings(max_examples=budget(165))
@given(
    text_cuts,
    text_cuts,
    st.sampled_from(["", "A", "A9", "9", "aA", "B"]),
    st.integers(1, 3),
    st.one_of(st.none(), st.integers(1, 4)),
)
def test_a_text_is_found_wherever_there_is_one(low, high, shape, shortest, longest):
    space = TextSpace(shape)

    def fits(text):
        return (
            low <= (0, text, 0) < high
            and shortest <= len(text) <= (longest or 99)
            and len(text) >= len(shape)
            and all(one in allowed for one, allowed in zip(text, space.allowed, strict=False))
        )

    found = space.first_text(low, high, shortest, longest)
    if found is not None:
        assert fits(found)
        assert fits(space.readable(found, low, high)) or not found.isprintable()
    else:
        assert not any(map(fits, EVERY_TEXT))
    if found is not None:
        assert not any(fits(text) and text < found for text in EVERY_TEXT)


@given(
    st.text(st.sampled_from("AZ\ud7ff\U0010ffff"), min_size=1, max_size=3),
    st.text(st.sampled_from("AZ\U0010ffff"), max_size=2),
)
def test_a_prefix_is_the_interval_of_the_texts_that_begin_with_it(prefix, tail):
    low, high = prefix_interval(prefix)
    assert low <= (0, prefix + tail, 0) < high
    for other in (prefix[:-1], prefix[:-1] + "\0", tail):
        assert (low <= (0, other, 0) < high) == other.startswith(prefix)


def test_the_last_code_of_a_shape_before_a_cut():
    space = TextSpace("A99")
    assert space.last_code(HIGH) == "Z99"
    assert space.last_code((0, "C05", 0)) == "C04"
    assert space.last_code((0, "C00", 0)) == "B99"
    assert space.last_code((0, "C", 0)) == "B99"
    assert space.last_code((0, "A00", 0)) is None
    assert space.last_code((0, "c", 0)) == "Z99"
    assert after_prefix("\U0010ffff") == HIGH
