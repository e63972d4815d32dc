"""A whole dataset, file to file, against a plain loop over the records of the same file."""

import csv
import io

import pyarrow.parquet as pq
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.books.runs.record import read_record
from tests.conftest import budget

BOOK = """\
[datasets.d]
source = "d.csv"
target = "out.{ending}"
types = {{ key = "text", note = "text" }}
missing_words = {{ x = ["-9"], key = ["none"] }}
columns = [
  {{ table = "size", status = "how", row = "by" }},
  "place",
  {{ table = "zone", keep = {{ zone = "area" }} }},
]
"""
SIZE = """\
inputs.x = { type = "number", step = 0.5 }
outputs.size = "text"
match = "first"
missing = { size = "unknown" }
rows = [["10", "ten"], ["< 0", "minus"], ["0 to <5", "small"], ["5 to 20", "large"]]
otherwise = { size = "huge" }
"""
PLACE = 'inputs.key = "text"\noutputs.river = "text"\noutputs.height = "integer"\nlookup = "place.csv"\n'
PLACES = 'key,height,river\n007,12,Elm\nNA,,Ash\n"a,b",-3,"El""m"\n'
ZONE = 'inputs.river = "text"\noutputs.zone = "text"\nrows = [["Elm", "north"], ["As*", "south"]]\notherwise = { zone = "other" }\n'

numbers = st.sampled_from(
    ["-9", "", " ", "0", "-0.5", "4.5", "5", "4.9999999999", "10", "10.0", " 20", "20.5", "1e3", "NaN", "inf"]
)
keys = st.sampled_from(["007", "7", "NA", "none", "", "a,b", "A,B", "007 "])
notes = st.text(st.sampled_from('a,"\n é'), max_size=4)
rows = st.lists(st.tuples(numbers, keys, notes), max_size=12)


def by_hand(x, key):
    """Return size, how, by, river, height and area as the tables say them, read by a person."""
    value = None if x.strip() in ("", "-9") or x.strip() == "NaN" else float(x)
    if value is None:
        size = ("unknown", "missing", "")
    else:
        nearest = round(value / 0.5) * 0.5 if value not in (float("inf"),) else value
        value = nearest if abs(value - nearest) <= 0.5e-6 else value
        found = (
            1 if value == 10 else 2 if value < 0 else 3 if 0 <= value < 5 else 4 if 5 <= value <= 20 else 0
        )
        size = (
            ["huge", "ten", "minus", "small", "large"][found],
            "matched" if found else "unmatched",
            str(found or ""),
        )
    known = {"007": ("Elm", "12"), "NA": ("Ash", ""), "a,b": ('El"m', "-3")}
    river, height = known.get(key, ("", "")) if key not in ("", "none") else ("", "")
    area = {"": "", "Elm": "north", "Ash": "south"}.get(river, "other")
    return [*size, river, height, area]


def write(folder, records, line_end, quoting, ending):
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator=line_end, quoting=quoting)
    writer.writerow(["id", "x", "note", "key"])
    writer.writerows([str(number), x, note, key] for number, (x, key, note) in enumerate(records))
    (folder / "tables").mkdir(exist_ok=True)
    for name, text in {
        "book.toml": BOOK.format(ending=ending),
        "tables/size.toml": SIZE,
        "tables/place.toml": PLACE,
        "tables/place.csv": PLACES,
        "tables/zone.toml": ZONE,
    }.items():
        (folder / name).write_text(text, encoding="utf-8")
    (folder / "d.csv").write_text(buffer.getvalue(), encoding="utf-8", newline="")


@settings(max_examples=budget(33), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(rows, st.sampled_from(["\n", "\r\n"]), st.sampled_from([csv.QUOTE_MINIMAL, csv.QUOTE_ALL]))
def test_a_csv_target_holds_the_fields_as_read_and_what_a_loop_would_add(
    tmp_path, records, line_end, quoting
):
    write(tmp_path, records, line_end, quoting, "csv")
    report = kivvet.open_book(tmp_path).apply_dataset("d")
    with (tmp_path / "out.csv").open(encoding="utf-8", newline="") as file:
        heading, *made = csv.reader(file)
    assert heading == ["id", "x", "note", "key", "size", "how", "by", "river", "height", "area"]
    assert made == [
        [str(number), x, note, key, *by_hand(x, key)] for number, (x, key, note) in enumerate(records)
    ]
    expected = [by_hand(x, key) for x, key, _ in records]
    size = next(one for one in report.tables if one.table == "size")
    for status, n in (("matched", size.matched), ("missing", size.missing), ("unmatched", size.unmatched)):
        assert n == sum(row[1] == status for row in expected)
    assert all(one.matched + one.missing + one.unmatched == one.rows == len(records) for one in report.tables)


@settings(max_examples=budget(22), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(rows)
def test_a_parquet_target_holds_the_same_typed(tmp_path, records):
    write(tmp_path, records, "\n", csv.QUOTE_MINIMAL, "parquet")
    kivvet.open_book(tmp_path).apply_dataset("d")
    made = pq.read_table(tmp_path / "out.parquet")
    names = ("size", "how", "by", "river", "height", "area")
    found = [["" if row[name] is None else str(row[name]) for name in names] for row in made.to_pylist()]
    assert found == [by_hand(x, key) for x, key, _ in records]
    assert made["note"].to_pylist() == [note or None for *_, note in records]
    assert made["key"].to_pylist() == [None if key in ("", "none") else key for _, key, _ in records]
    assert read_record(tmp_path / "out.parquet").is_true


@settings(max_examples=budget(20), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(rows)
def test_a_frame_in_memory_gets_what_the_file_gets(tmp_path, records):
    import pandas as pd

    write(tmp_path, records, "\n", csv.QUOTE_MINIMAL, "parquet")
    book = kivvet.open_book(tmp_path)
    numbers = [None if x.strip() in ("", "-9") else float(x) for x, *_ in records]
    frame = pd.DataFrame(
        {
            "x": pd.array(numbers, dtype="float64"),
            "key": pd.Series([None if key == "none" else key for _, key, _ in records], dtype="str"),
        }
    )
    made = book.apply(frame, ["size", "place", "zone"])
    for name, place in (("size", 0), ("river", 3), ("zone", 5)):
        found = ["" if value is None or value != value else value for value in made[name].astype(object)]
        assert found == [by_hand(x, key)[place] for x, key, _ in records]


@pytest.mark.parametrize("ending", ["csv", "parquet"])
def test_applying_twice_gives_the_same_bytes_but_for_the_time_in_the_record(tmp_path, ending):
    write(tmp_path, [("5", "007", "x"), ("", "NA", "")] * 50, "\n", csv.QUOTE_MINIMAL, ending)
    book = kivvet.open_book(tmp_path)
    hashes = set()
    for _ in range(2):
        book.apply_dataset("d")
        hashes.add(read_record(tmp_path / f"out.{ending}").record.target_hash)
    assert len(hashes) == 1
