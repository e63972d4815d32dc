"""Columns as codes into their different values: in threads, as words or as they are, always what a plain loop gives."""

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kivvet.core.columns import encoding, text_words
from kivvet.core.columns.encoding import encoded
from kivvet.core.columns.text_words import texts_of, words_of

TEXTS = st.one_of(
    st.none(),
    st.sampled_from(
        [
            "",
            "a",
            "aa",
            "12345678",
            "123456789",
            "é",
            "日本",
            "a\0",
            "\0",
            "ß" * 4,
            "ß" * 5,
            "\U0001f41f\U0001f41f",
        ]
    ),
    st.text(max_size=9),
)


@pytest.fixture(autouse=True)
def many_rows(monkeypatch):
    """Four rows are many, so that shares and words are taken."""
    for module in (encoding, text_words):
        for name, value in (("ROWS_FOR_THREADS", 4), ("CHUNK", 3), ("THREADS", 3)):
            if hasattr(module, name):
                monkeypatch.setattr(module, name, value)
    monkeypatch.setattr("kivvet.core.columns.arrays.ROWS_FOR_THREADS", 4)


def told(values, codes, distinct):
    return [None if one is None else distinct[code].as_py() for one, code in zip(values, codes, strict=True)]


@given(st.lists(TEXTS, max_size=14), st.integers(0, 3), st.booleans())
def test_texts_are_encoded_as_a_loop_would(values, skipped, is_large):
    type_ = pa.large_string() if is_large else pa.string()
    array = pa.array(["skipped"] * skipped + values, type_).slice(skipped)
    codes, distinct = encoded(array)
    assert told(values, codes, distinct) == values
    texts = distinct.to_pylist()
    assert len(set(texts)) == len(texts)
    met = list(dict.fromkeys(one for one in values if one))
    assert [one for one in texts if one] == met  # where no characters stand is nothing that counts


@given(st.lists(st.one_of(st.none(), st.integers(-(2**63), 2**63 - 1), st.integers(0, 3)), max_size=14))
def test_whole_numbers_are_encoded_as_a_loop_would(values):
    codes, distinct = encoded(pa.array(values, pa.int64()))
    if any(one is not None for one in values):
        assert told(values, codes, distinct) == values
        assert distinct.to_pylist() == list(dict.fromkeys(one for one in values if one is not None))


@given(
    st.lists(st.text(max_size=4).filter(lambda one: "\0" not in one and len(one.encode()) <= 8), min_size=1)
)
def test_words_and_back(texts):
    array = pa.array([*texts, "room so that words can be read"], pa.large_string()).slice(0, len(texts))
    words = words_of(array)
    assert words is not None and texts_of(words).to_pylist() == texts
    assert texts_of(np.zeros(0, np.uint64)).to_pylist() == []


def test_text_in_several_chunks_is_encoded_too():
    chunks = pa.chunked_array([pa.array(["a", "b", None]), pa.array(["b", "c", "a"])])
    codes, distinct = encoded(chunks)
    assert told(["a", "b", None, "b", "c", "a"], codes, distinct) == ["a", "b", None, "b", "c", "a"]
