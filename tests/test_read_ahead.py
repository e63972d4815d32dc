"""What is read while the batch before is used: fields as numbers from the start, and what windows need of all rows.

A source in many batches gives what the same rows give at once, whatever its fields hold and wherever they stand.
"""

from __future__ import annotations

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

import kivvet
from kivvet.core.columns.convert import blank_to_null, convert_text
from kivvet.io import csv_source
from kivvet.io.parquet_encoding import _different_values
from tests.conftest import write_book

USUAL = ["0", "7", "-12", "6.5", "", "1e3", "0.1", "123456789012", "-0"]
ODD = ["+5", " 8 ", "12.0", "1.2e1", "0x1F", "inf", "nan", "NaN", "1e400", "\t3", "   ", "007", "-"]
ODD += ["9223372036854775807", "9223372036854775808", "1_000", "five", "1,5", "²", "3 4"]
BOOK = """
[datasets.d]
source = "d.csv"
target = "out.parquet"
types = { x = "KIND" }
columns = ["share", "size"]
"""
FORMULAS = 'double = "x * 2"\nshare = "double / SUM(double) OVER (PARTITION BY g)"\n'
SIZE = 'inputs.x = "KIND"\noutputs.size = "text"\nrows = [["< 5", "small"], [">= 5", "large"]]\n'


@pytest.fixture(scope="module")
def small_blocks():
    patch = pytest.MonkeyPatch()
    patch.setattr(csv_source, "_BLOCK_BYTES", 200)
    yield
    patch.undo()


def quoted(number, field):
    return f'"{field}"' if number % 2 or "," in field else field


@given(
    st.lists(st.sampled_from(USUAL), min_size=1, max_size=300),
    st.lists(st.tuples(st.integers(0, 300), st.sampled_from(ODD)), max_size=2),
    st.sampled_from(["number", "integer"]),
)
def test_fields_read_as_numbers_are_those_of_a_column_read_whole(
    tmp_path_factory, small_blocks, fields, odd, kind
):
    fields = [one for one in fields if kind == "number" or ("." not in one and "e" not in one)] or ["1"]
    for place, field in odd:
        fields.insert(min(place, len(fields)), field)
    folder = write_book(
        tmp_path_factory.mktemp("book"),
        {
            "book.toml": BOOK.replace("KIND", kind),
            "formulas.toml": FORMULAS,
            "tables/size.toml": SIZE.replace("KIND", kind),
            "d.csv": "g,x\n"
            + "".join(f"g{number % 3},{quoted(number, field)}\n" for number, field in enumerate(fields)),
        },
    )
    texts = pa.array(fields)
    wanted = convert_text(texts, kind)
    book = kivvet.open_book(folder)
    if wanted.bad is not None:
        with pytest.raises(kivvet.TableError) as raised:
            book.apply_dataset("d")
        first = int(wanted.bad.argmax())
        said = str(raised.value)
        assert f"the first is in row {first + 1:,}" in said and f"d.csv:{first + 2}" in said
        assert f"{wanted.bad.sum()} field" in said and not (folder / "out.parquet").exists()
        return
    book.apply_dataset("d")
    made = pq.read_table(folder / "out.parquet")
    assert repr(made["x"].to_pylist()) == repr(wanted.array.to_pylist())
    at_once = book.apply(pa.table({"g": made["g"], "x": wanted.array}), ["share", "size"])
    for name in ("share", "size"):
        assert repr(made[name].to_pylist()) == repr(at_once[name].to_pylist())


@given(
    st.lists(
        st.tuples(
            st.sampled_from("abc "), st.integers(-50, 50) | st.none(), st.sampled_from(["p", "q", "r", ""])
        ),
        max_size=200,
    )
)
@example([])
def test_windows_over_what_tables_and_formulas_make_see_all_batches(tmp_path_factory, small_blocks, rows):
    files = {
        "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "out.parquet"\ntypes = { x = "integer" }\n'
        'columns = ["kind", "later", "share", "best", "place", "over_best"]\n',
        "formulas.toml": 'half = "x / 2"\nwhole = "x * 3"\nname = "UPPER(g)"\nbelow = "x < 0"\n'
        'share = "half / SUM(half) OVER (PARTITION BY kind)"\n'
        'best = "MAX(whole) OVER (PARTITION BY name)"\n'
        'later = "CASE WHEN best > 30 THEN 1 ELSE 2 END"\n'
        'place = "ROW_NUMBER() OVER (PARTITION BY later, below ORDER BY x, half)"\n'
        'over_best = "SUM(later) OVER (PARTITION BY kind)"\n',
        "tables/kind.toml": 'inputs.c = "text"\noutputs.kind = "text"\nrows = [["p", "first"], ["q", "second"]]\n',
        "d.csv": "g,x,c\n" + "".join(f"{g},{'' if x is None else x},{c}\n" for g, x, c in rows),
    }
    folder = write_book(tmp_path_factory.mktemp("book"), files)
    book = kivvet.open_book(folder)
    report = book.apply_dataset("d")
    made = pq.read_table(folder / "out.parquet")
    table = pa.table(
        {
            "g": pa.array([g if g.strip() or len(g) else None for g, _, _ in rows]),
            "x": pa.array([x for _, x, _ in rows], pa.int64()),
            "c": pa.array([c or None for _, _, c in rows], pa.string()),
        }
    )
    names = ["kind", "later", "share", "best", "place", "over_best"]
    at_once = book.apply(table, names)
    assert report.rows == len(rows)
    for name in names:
        assert made[name].to_pylist() == at_once[name].to_pylist(), name
    # One of them by a loop of its own.
    best = {}
    for g, x, _ in rows:
        if x is not None:
            best[g.upper()] = max(best.get(g.upper(), -1000), 3 * x)
    assert made["best"].to_pylist() == [best.get(g.upper()) for g, _, _ in rows]


@given(
    st.lists(st.sampled_from(["", "a", "ä", " ", "x" * 40]), max_size=70), st.integers(0, 9), st.booleans()
)
def test_fields_without_characters_are_missing_and_no_other(texts, start, is_large):
    array = pa.array([*["?"] * start, *texts], pa.large_string() if is_large else pa.string())[start:]
    made = blank_to_null(array)
    made.validate(full=True)
    assert made.to_pylist() == [text or None for text in texts]
    assert made.type == array.type and made.null_count == texts.count("")


@pytest.mark.parametrize(
    ("values", "least", "most"),
    [
        (range(200_000), 180_000, 200_000),
        ([number // 4 for number in range(200_000)], 40_000, 60_000),
        ([number % 10 for number in range(200_000)], 10, 10),
        ([number * 7_919 % 60_000 for number in range(200_000)], 50_000, 200_000),
        ([number if number % 2 else 0 for number in range(200_000)], 90_000, 110_000),
        ([None] * 200_000, 1, 20),
    ],
)
def test_the_different_values_of_a_column_are_guessed_by_pieces(values, least, most):
    assert least <= _different_values(pa.chunked_array([pa.array(values, pa.int64())])) <= most
