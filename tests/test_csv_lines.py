"""Lines of CSV, made for several shares of a batch at once, are those that the standard library writes one by one."""

from __future__ import annotations

import csv
import io

import pyarrow as pa
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from kivvet.core.words.values import write_plain
from kivvet.io import csv_target
from kivvet.io.csv_target import CsvTarget
from kivvet.io.source_and_target import WriteOptions

TEXTS = (
    st.sampled_from(["a", "b,c", 'say "x"', "two\nlines", "", "é", " ", ";", "\x01\x02", "tab\t", "'"])
    | st.none()
)
FLOATS = st.sampled_from([0.1, 1e-7, 2.5e9, -0.0, 1e22, float("nan"), 12.0]) | st.none()
ROW = st.tuples(TEXTS, FLOATS, st.integers(-5, 5) | st.none(), TEXTS)


@given(
    st.lists(st.lists(ROW, max_size=12), max_size=4), st.sampled_from([",", ";", "\t"]), st.integers(1, 20)
)
@example([[("b,c", 0.1, 1, "a")] * 8], ",", 1)
def test_they_are_what_the_standard_library_writes(tmp_path_factory, batches, delimiter, many):
    path = tmp_path_factory.mktemp("csv") / "t.csv"
    target = CsvTarget(path, path, ["t", "x", "n", "c"], delimiter, WriteOptions())
    wanted = io.StringIO()
    writer = csv.writer(wanted, delimiter=delimiter, lineterminator="\n")
    writer.writerow(["t", "x", "n", "c"])
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(csv_target, "_ROWS_FOR_THREADS", many)
        for rows in batches:
            texts, floats, wholes, classes = zip(*rows, strict=True) if rows else ((), (), (), ())
            # The first row is cut off, so that arrays begin within their buffers.
            arrays = [
                pa.array(["?", *texts], pa.string()),
                pa.array([0.5, *floats], pa.float64()),
                pa.array([1, *wholes], pa.int64()),
                pa.array(["?", *classes], pa.string()).dictionary_encode(),
            ]
            target.write([one.slice(1) for one in arrays])
            for text, number, whole, class_ in rows:
                shown = "" if number is None or number != number else write_plain(number)
                writer.writerow([text, shown, whole, class_])
    target.close()
    assert path.read_bytes().decode() == wanted.getvalue()
