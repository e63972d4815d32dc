"""A column that grows part by part is what its parts are when they are put behind one another, of whatever type, from whatever place they begin."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kivvet.core.columns import gathered
from kivvet.core.columns.gathered import Gathered

#: By type the values that arrays of it hold here.
VALUES = {
    pa.float64(): st.sampled_from([0.5, -0.0, float("nan"), 7.0]),
    pa.int16(): st.integers(-9, 9),
    pa.int64(): st.integers(-(2**63), 2**63 - 1),
    pa.bool_(): st.booleans(),
    pa.date32(): st.dates(),
    pa.timestamp("us", "UTC"): st.datetimes().map(lambda at: at.replace(tzinfo=dt.UTC)),
    pa.decimal128(12, 2): st.sampled_from([Decimal("1.25"), Decimal("-3.00")]),
    pa.string(): st.text("ab", max_size=2),
    pa.dictionary(pa.int8(), pa.string()): st.text("abc", max_size=2),
    pa.dictionary(pa.int32(), pa.string(), ordered=True): st.sampled_from(["low", "high"]),
    pa.null(): st.none(),
}


@pytest.mark.parametrize("kind", VALUES, ids=str)
@given(data=st.data())
def test_it_is_its_parts_one_behind_the_other(kind, data):
    parts = data.draw(st.lists(st.lists(st.none() | VALUES[kind], max_size=12), min_size=1, max_size=6))
    whole = Gathered()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(gathered, "_FIRST_ROOM", data.draw(st.integers(1, 9)))
        patch.setattr(gathered, "_LARGEST_DICTIONARY", data.draw(st.integers(1, 6)))
        for values in parts:
            begin = data.draw(st.integers(0, len(values)))
            if pa.types.is_dictionary(kind):
                array = pa.array(values, kind.value_type).dictionary_encode().cast(kind)
            else:
                array = pa.array(values, kind)
            whole.add(pa.concat_arrays([array, array]).slice(begin, len(values)))
            values[:] = [*values, *values][begin : begin + len(values)]
        made = whole.whole()
    held = [value for values in parts for value in values]
    plain = kind.value_type if pa.types.is_dictionary(kind) else kind
    assert repr(made.to_pylist()) == repr(pa.array(held, plain).to_pylist())
    assert made.null_count == held.count(None)
    if pa.types.is_dictionary(kind):
        assert made.type.ordered == kind.ordered and made.type.value_type in (pa.string(), pa.large_string())
        assert len(set(made.dictionary.to_pylist())) == len(made.dictionary)
    elif kind != pa.string():
        assert made.type == kind
