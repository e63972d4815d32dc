"""Damaged Parquet: a law over footers with bytes that were exchanged, and what was found wrong by name.

A damaged source never replaces a target, and nothing that changes in a target is called current.
"""

from __future__ import annotations

import random
import subprocess
import sys

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import kivvet
from kivvet.io import parquet_footer as footers

_TABLE = """\
inputs.k = "text"
outputs.y = "text"
match = "first"
rows = [["a", "A"], ["present", "rest"]]
missing = { y = "none" }
"""


def _book(folder, data, *, where="", **options):
    (folder / "tables").mkdir(parents=True, exist_ok=True)
    (folder / "tables/t.toml").write_text(_TABLE)
    (folder / "book.toml").write_text(
        f'[datasets.d]\nsource = "d.parquet"\ntarget = "o.parquet"\n{where}columns = ["t"]\n'
    )
    pq.write_table(data, folder / "d.parquet", **options)
    return folder


def _with_footer(path, change):
    """Write a file again with a footer in which something was changed."""
    held = path.read_bytes()
    start = footers.footer_start(path)
    fields = footers.read_footer(path)
    change(fields)
    path.write_bytes(held[:start] + footers.footer_bytes(fields))


def _chunks(fields, column):
    for group in fields[footers.ROW_GROUPS][1].values:
        yield group[1][1].values[column][3][1]


def _other_statistics(fields):
    for meta in _chunks(fields, 1):
        for number in (1, 2, 5, 6):
            if number in meta[12][1]:
                meta[12][1][number] = (8, (500).to_bytes(8, "little"))


def _rows_dropped(fields):
    groups = fields[footers.ROW_GROUPS][1].values[:1]
    fields[footers.ROW_GROUPS] = footers.structures(groups)
    fields[footers.N_ROWS] = (6, groups[0][3][1])


def _places_exchanged(fields):
    for one, other in zip(_chunks(fields, 1), _chunks(fields, 2), strict=True):
        for number in (9, 11, 7, 6):
            if number in one and number in other:
                one[number], other[number] = other[number], one[number]


def _names_exchanged(fields):
    for element in fields[footers.SCHEMA][1].values:
        if element[4][1] in (b"n", b"w"):
            element[4] = (8, b"w" if element[4][1] == b"n" else b"n")


@pytest.mark.parametrize(
    "change",
    [_other_statistics, _rows_dropped, _places_exchanged, _names_exchanged],
    ids=lambda f: f.__name__,
)
def test_a_target_whose_footer_was_changed_is_not_current_and_not_sealed_by_a_refresh(tmp_path, change):
    data = pa.table({"k": ["a", "b"] * 50, "n": range(100), "w": range(100, 200)})
    folder = _book(tmp_path, data, row_group_size=50)
    kivvet.open_book(folder).apply_dataset("d")
    _with_footer(folder / "o.parquet", change)
    (status,) = kivvet.open_book(folder).status()
    assert status.state == "stale"
    assert "changed by something else" in status.reasons[0].message
    (folder / "tables/t.toml").write_text(_TABLE.replace('"A"', '"AA"'))
    with pytest.raises(kivvet.KivvetError, match="changed by something else"):
        kivvet.open_book(folder).refresh()


@pytest.mark.parametrize("where", ["", 'where = "n >= 0"\n'])
def test_a_damaged_column_that_no_rule_reads_leaves_the_old_target(tmp_path, where):
    data = pa.table({"k": ["a", "b"] * 500, "n": range(1000), "s": [f"text {n}" for n in range(1000)]})
    folder = _book(tmp_path, data, where=where)
    kivvet.open_book(folder).apply_dataset("d")
    old = (folder / "o.parquet").read_bytes()
    meta = pq.read_metadata(folder / "d.parquet").row_group(0).column(2)
    held = bytearray((folder / "d.parquet").read_bytes())
    begin = (meta.dictionary_page_offset or meta.data_page_offset) + 30
    held[begin : begin + 8] = bytes(255 - one for one in held[begin : begin + 8])
    (folder / "d.parquet").write_bytes(bytes(held))
    with pytest.raises(kivvet.KivvetError, match="is damaged"):
        kivvet.open_book(folder).apply_dataset("d")
    assert (folder / "o.parquet").read_bytes() == old


def test_texts_without_characters_are_missing_however_they_are_held_and_whatever_statistics_say(tmp_path):
    texts = pa.array(["", "a", None])
    data = pa.table({"k": texts, "codes": texts.dictionary_encode(), "large": texts.cast(pa.large_string())})
    folder = _book(tmp_path, data)
    for column in (0, 1, 2):

        def says_none_is_empty(fields, column=column):
            for meta in _chunks(fields, column):
                for number in (2, 6):
                    if number in meta[12][1]:
                        meta[12][1][number] = (8, b"a")

        _with_footer(folder / "d.parquet", says_none_is_empty)
    for where in ("", 'where = "y IS NOT NULL"\n'):
        text = (folder / "book.toml").read_text()
        (folder / "book.toml").write_text(text.replace("columns", f"{where}columns"))
        kivvet.open_book(folder).apply_dataset("d")
        held = pq.read_table(folder / "o.parquet").to_pydict()
        assert [held[name] for name in ("k", "codes", "large")] == [[None, "a", None]] * 3
        assert held["y"] == ["none", "A", "none"]


def test_a_column_that_must_not_lack_values_may_lack_them_once_a_text_is_empty(tmp_path):
    schema = pa.schema([pa.field("k", pa.string(), nullable=False)])
    folder = _book(tmp_path, pa.table({"k": ["", "a"]}, schema=schema))
    kivvet.open_book(folder).apply_dataset("d")
    assert pq.read_table(folder / "o.parquet")["k"].to_pylist() == [None, "a"]


def test_metadata_need_not_be_text(tmp_path):
    data = pa.table({"k": ["a", "b"], "n": [1, 2]}).replace_schema_metadata({b"\xff\xfe": b"\xff"})
    folder = _book(tmp_path, data)
    kivvet.open_book(folder).apply_dataset("d")
    assert pq.read_schema(folder / "o.parquet").metadata[b"\xff\xfe"] == b"\xff"
    assert kivvet.open_book(folder).status()[0].state == "current"


def test_codes_into_texts_are_read_as_the_type_that_the_book_says(tmp_path):
    folder = _book(tmp_path, pa.table({"k": ["a", "b"], "n": pa.array(["1", "-"]).dictionary_encode()}))
    (folder / "tables/u.toml").write_text('inputs.n = "integer"\noutputs.z = "text"\nrows = [["1", "one"]]\n')
    text = (folder / "book.toml").read_text().replace('["t"]', '["t", "u"]\nmissing_words = ["-"]')
    (folder / "book.toml").write_text('[severity]\ngap = "note"\n' + text)
    kivvet.open_book(folder).apply_dataset("d")
    assert pq.read_table(folder / "o.parquet").select(["n", "z"]).to_pydict() == {
        "n": [1, None],
        "z": ["one", None],
    }


_TRY_ALL = """
import random, sys
from pathlib import Path
import pyarrow.parquet as pq
import kivvet
folder, seed, number = Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3])
whole = (folder / "whole.parquet").read_bytes()
length = int.from_bytes(whole[-8:-4], "little")
kivvet.open_book(folder).apply_dataset("d")
for case in range(number):
    choose = random.Random(seed * 100_000 + case)
    held = bytearray(whole)
    for _ in range(choose.choice((1, 1, 1, 2, 3))):
        at = choose.randrange(len(whole) - 8 - length, len(whole) - 8)
        held[at] = choose.randrange(256)
    (folder / "d.parquet").write_bytes(bytes(held))
    print("case", case, flush=True)
    old = (folder / "o.parquet").read_bytes()
    try:
        kivvet.open_book(folder).apply_dataset("d")
        pq.read_table(folder / "o.parquet")
    except kivvet.KivvetError:
        assert (folder / "o.parquet").read_bytes() == old
print("ended")
"""


def test_a_damaged_footer_of_a_source_ends_in_a_plain_error_or_in_a_target_that_can_be_read(tmp_path):
    """Run in a process of its own: some damage made a library end the process."""
    data = pa.table(
        {
            "k": ["a", "b", None, ""] * 5,
            "n": [1, 2, 3, 4] * 5,
            "s": ["u", "v", "", "x"] * 5,
            "d": pa.array(["p", "q", "", None] * 5).dictionary_encode(),
            "l": [[1, 2]] * 20,
        }
    )
    folder = _book(tmp_path, data)
    (folder / "whole.parquet").write_bytes((folder / "d.parquet").read_bytes())
    done = subprocess.run(
        [sys.executable, "-c", _TRY_ALL, str(folder), str(random.Random(7).randrange(100)), "250"],
        capture_output=True,
        text=True,
        timeout=120,
        check=False,
    )
    assert done.stdout.endswith("ended\n"), (done.stdout[-20:], done.stderr[-2000:])
