"""Texts are found among known ones as a dictionary finds them: however long they are, and wherever they lie in memory."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kivvet.core.columns import text_keys
from kivvet.core.columns.text_keys import TextKeys
from tests.conftest import budget

signs = st.sampled_from("abAB01 -.éß日\U0001f30a\t")
short = st.text(signs, min_size=1, max_size=3)
any_length = st.text(signs, min_size=1, max_size=12)
with_nul = st.text(st.sampled_from("a\0b"), min_size=1, max_size=4)


def found_by_a_dictionary(keys, values, of_key):
    known = {key: of_key[place] for place, key in enumerate(keys)}
    return [of_key[-2] if not value else known.get(value, of_key[-1]) for value in values]


@settings(max_examples=budget(120), deadline=None)
@given(
    keys=st.one_of(
        *(st.lists(one, min_size=1, max_size=12, unique=True) for one in (short, any_length, with_nul))
    ),
    more=st.lists(st.one_of(st.none(), st.just(""), short, any_length, with_nul), max_size=12),
    kind=st.sampled_from([pa.string(), pa.large_string()]),
    skipped=st.integers(0, 3),
    few=st.sampled_from([0, 1_000]),
)
def test_each_text_is_found_as_a_dictionary_finds_it(keys, more, kind, skipped, few):
    values = [
        *keys[::-1],
        *more,
        *keys,
        None,
        "",
        *(key + "x" for key in keys),
        *(key[:-1] for key in keys),
    ] * 2
    of_key = np.arange(100, 100 + len(keys) + 2, dtype=np.int16)
    array = pa.array(values, kind).slice(skipped)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(text_keys, "_FEW_ROWS", few)  # a few rows are found one by one
        patch.setattr("kivvet.core.columns.arrays.ROWS_FOR_THREADS", 8)
        patch.setattr(text_keys, "CHUNK", 5)
        found = TextKeys(pa.array(keys, pa.large_string())).find(array, of_key)
    assert found.dtype == of_key.dtype
    assert found.tolist() == found_by_a_dictionary(keys, values[skipped:], of_key.tolist())


@pytest.mark.parametrize("n_keys", [1, 7, 300, 5_000])
@pytest.mark.parametrize("shape", ["K{:05d}", "{:d}", "a long key, number {:06d}", "é{:03d}"])
def test_many_keys_are_found(n_keys, shape):
    keys = [shape.format(number) for number in range(n_keys)]
    drawn = np.random.default_rng(n_keys).integers(-2, n_keys + 2, 20_000)
    values = [None if place == -2 else "" if place == -1 else shape.format(place) for place in drawn.tolist()]
    of_key = np.arange(n_keys + 2)
    array = pa.array(values, pa.string())
    found = TextKeys(pa.array(keys, pa.large_string())).find(array, of_key)
    wanted = np.where(drawn < 0, n_keys, np.minimum(drawn, n_keys + 1))
    wanted[drawn >= n_keys] = n_keys + 1
    assert np.array_equal(found, wanted)


def test_texts_that_lie_anywhere_in_memory_are_read():
    keys = [f"k{number}" for number in range(50)]
    values = pa.array([keys[number % 50] for number in range(3_000)], pa.string())
    of_key = np.arange(52)
    wanted = [number % 50 for number in range(3_000)]
    finder = TextKeys(pa.array(keys, pa.large_string()))
    assert finder.find(values, of_key).tolist() == wanted
    for first in (1, 7, 8, 1_500):
        assert finder.find(values.slice(first), of_key).tolist() == wanted[first:]
    offsets, data = values.buffers()[1:]
    moved = pa.allocate_buffer(data.size + 3)
    np.frombuffer(moved, np.uint8)[3:] = np.frombuffer(data, np.uint8)
    odd = pa.StringArray.from_buffers(3_000, offsets, moved.slice(3, data.size))  # begins between two words
    assert finder.find(odd, of_key).tolist() == wanted
    assert finder.find(pa.array([], pa.string()), of_key).tolist() == []
    assert finder.find(pa.nulls(2_000, pa.string()), of_key).tolist() == [50] * 2_000
