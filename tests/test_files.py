"""From file to file: every row, every field as it was, types kept, targets replaced whole or not at all."""

import gzip
import json
import signal
import subprocess
import sys

import pandas as pd
import pyarrow as pa
import pyarrow.csv as arrow_csv
import pyarrow.parquet as pq
import pytest
import xxhash
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.books.runs.record import read_record
from kivvet.io import csv_source, hashed_file
from kivvet.io.csv_source import CsvSource
from kivvet.io.csv_target import CsvTarget, record_file
from kivvet.io.files import hash_bytes_of
from kivvet.io.parquet_footer import (
    KEY_VALUES,
    footer_bytes,
    footer_start,
    listed_in,
    read_footer,
    structures,
)
from kivvet.io.source_and_target import ReadOptions
from tests.conftest import SMALL_BOOK, write_book
from tests.conftest import kivvet as run

BOOK = SMALL_BOOK["book.toml"]
TO_PARQUET = {"book.toml": BOOK.replace("out/samples.csv", "out/samples.parquet")}


def applied(folder, changes=None):
    report = kivvet.open_book(write_book(folder, changes)).apply_dataset("samples")
    return report, folder / "out"


def test_csv_to_csv_keeps_the_fields_as_they_were_read(tmp_path):
    report, out = applied(tmp_path)
    assert (out / "samples.csv").read_text() == (
        "id,station,ph,remark,ph_class,river,how,by\n"
        '1,007,6.40,"foam, brown",acidic,Elm,matched,1\n'
        "2,008,,NA,not measured,Ash,matched,2\n"
        "3,9,8.5,,alkaline,unknown,unmatched,\n"
        "4,007,7,,neutral,Elm,matched,1\n"
    )
    assert [(one.matched, one.missing, one.unmatched) for one in report.tables] == [(3, 1, 0), (3, 0, 1)]


def test_csv_to_parquet_has_types_ordered_classes_and_text_that_stays_text(tmp_path):
    _, out = applied(tmp_path, TO_PARQUET)
    table = pq.read_table(out / "samples.parquet")
    assert table.schema.field("id").type == pa.int64()
    assert table["station"].to_pylist() == ["007", "008", "9", "007"]
    assert table["remark"].to_pylist() == ["foam, brown", "NA", None, None]
    assert table["ph"].to_pylist() == [6.4, None, 8.5, 7.0]
    frame = table.to_pandas()
    assert frame["ph_class"].dtype == pd.CategoricalDtype(
        ["acidic", "neutral", "alkaline", "not measured"], ordered=True
    )
    assert frame["by"].dropna().tolist() == [1, 2, 1]


def test_leading_zeros_anywhere_in_a_column_make_it_text(tmp_path):
    data = "id,station,ph,code,day,flag\n" + "".join(
        f"{n},007,7,{n},2026-01-0{n},true\n" for n in range(1, 6)
    )
    _, out = applied(tmp_path, {**TO_PARQUET, "data/samples.csv": data + "6,007,7,010,2026-02-30,false\n"})
    schema = pq.read_schema(out / "samples.parquet")
    assert [str(schema.field(name).type) for name in ("id", "code", "day", "flag")] == [
        "int64",
        "string",
        "string",
        "bool",
    ]


def test_parquet_to_parquet_keeps_the_source_columns_and_their_types(tmp_path):
    source = pa.table(
        {
            "id": pa.array([1, 2], pa.int16()),
            "station": ["007", None],
            "ph": pa.array(["6.4", None]).cast(pa.decimal128(5, 2)),
            "when": pa.array([0, 1], pa.timestamp("ms", "UTC")),
        }
    )
    (tmp_path / "data").mkdir()
    pq.write_table(source, tmp_path / "data/samples.parquet")
    _, out = applied(
        tmp_path, {"book.toml": TO_PARQUET["book.toml"].replace("data/samples.csv", "data/samples.parquet")}
    )
    made = pq.read_table(out / "samples.parquet")
    assert made.select(source.column_names).equals(source)
    assert made["ph_class"].to_pylist() == ["acidic", "not measured"]


@pytest.mark.parametrize(
    "content",
    [
        b"\xef\xbb\xbf" + SMALL_BOOK["data/samples.csv"].encode(),
        SMALL_BOOK["data/samples.csv"].replace("\n", "\r\n").encode(),
        SMALL_BOOK["data/samples.csv"].rstrip("\n").encode(),
        SMALL_BOOK["data/samples.csv"].replace("\n4", "\n\n4").encode(),
    ],
    ids=["byte-order mark", "CRLF", "no last line end", "an empty line"],
)
def test_marks_and_line_ends_change_nothing(tmp_path, content):
    _, plain = applied(tmp_path / "plain")
    _, out = applied(tmp_path / "other", {"data/samples.csv": content})
    assert (out / "samples.csv").read_text() == (plain / "samples.csv").read_text()


def test_other_encodings_delimiters_and_compression_are_read(tmp_path):
    book = BOOK.replace("types", 'encoding = "cp1252"\ndelimiter = ";"\ntypes')
    text = SMALL_BOOK["data/samples.csv"].replace('"foam, brown"', "bräun").replace(",", ";")
    _, out = applied(tmp_path / "a", {"book.toml": book, "data/samples.csv": text.encode("cp1252")})
    assert "bräun" in (out / "samples.csv").read_text()
    zipped = gzip.compress(SMALL_BOOK["data/samples.csv"].encode())
    _, out = applied(
        tmp_path / "b",
        {"book.toml": BOOK.replace("data/samples.csv", "data/s.csv.gz"), "data/s.csv.gz": zipped},
    )
    assert (out / "samples.csv").read_text().count("\n") == 5


@pytest.mark.parametrize("ending", ["csv", "parquet"])
def test_a_header_alone_gives_a_target_without_rows(tmp_path, ending):
    changes = {
        "book.toml": BOOK.replace("out/samples.csv", f"out/samples.{ending}"),
        "data/samples.csv": "id,station,ph,remark\n",
    }
    report, out = applied(tmp_path, changes)
    assert report.rows == 0
    if ending == "csv":
        assert (out / "samples.csv").read_text() == "id,station,ph,remark,ph_class,river,how,by\n"
    else:
        assert pq.read_table(out / "samples.parquet").num_rows == 0


def test_missing_words_mean_missing_everywhere_or_in_one_column(tmp_path):
    book = BOOK.replace("types", 'missing_words = { ph = ["-9"], station = ["none"] }\ntypes')
    data = SMALL_BOOK["data/samples.csv"].replace("8.5", "-9").replace("008", "none")
    report, out = applied(tmp_path, {"book.toml": book, "data/samples.csv": data})
    assert [one.missing for one in report.tables] == [2, 1]
    assert "3,9,-9,,not measured" in (out / "samples.csv").read_text()


def test_small_blocks_give_what_one_gives(tmp_path, monkeypatch):
    rows = "".join(f'{n},007,{n % 14},"line {n}\nand, more ""{n}"""\n' for n in range(3000))
    changes = {"data/samples.csv": "id,station,ph,remark\n" + rows}
    _, whole = applied(tmp_path / "whole", changes)
    monkeypatch.setattr(csv_source, "_BLOCK_BYTES", 1000)
    _, parts = applied(tmp_path / "parts", changes)
    assert (whole / "samples.csv").read_bytes() == (parts / "samples.csv").read_bytes()
    assert pd.read_csv(parts / "samples.csv")["remark"][2999] == 'line 2999\nand, more "2999"'


fields = st.text(st.sampled_from('a,"\n\r; é0'), max_size=5)


@settings(deadline=None)
@given(st.lists(st.tuples(fields, fields), min_size=1, max_size=6), st.sampled_from([",", "\t"]))
def test_written_csv_reads_as_it_was(tmp_path_factory, rows, delimiter):
    path = tmp_path_factory.mktemp("csv") / "x.csv"
    target = CsvTarget(path, path, ["a", "b"], delimiter)
    target.write([pa.array([one for one, _ in rows]), pa.array([two for _, two in rows])])
    target.close()
    table = pa.Table.from_batches(list(CsvSource(path, ReadOptions(delimiter=delimiter)).batches()))
    assert list(zip(*table.to_pydict().values(), strict=True)) == rows
    if not any("\r" in one or "\n" in one for row in rows for one in row):
        other = arrow_csv.read_csv(
            path,
            parse_options=arrow_csv.ParseOptions(delimiter=delimiter),
            convert_options=arrow_csv.ConvertOptions(column_types={"a": pa.string(), "b": pa.string()}),
        )
        assert other.num_rows == len(rows)


signs = [*map(chr, range(32)), *'a,";é0\x7f']
odd_fields = st.none() | st.text(st.sampled_from(signs), max_size=8)


@settings(deadline=None)
@given(
    st.lists(st.tuples(odd_fields, odd_fields, st.none() | st.floats()), min_size=1, max_size=30),
    st.sampled_from([",", "\t", ";"]),
    st.integers(0, 3),
)
def test_written_csv_is_byte_for_byte_what_a_row_at_a_time_gives(tmp_path_factory, rows, delimiter, begin):
    path = tmp_path_factory.mktemp("csv") / "x.csv"
    columns = [
        pa.array(each, kind)
        for each, kind in zip(zip(*rows, strict=True), ("string", "string", "double"), strict=True)
    ]
    for chosen, names in (([0, 1, 2], ["a", "b", "c"]), ([0], ["a"])):
        target = CsvTarget(path, path, names, delimiter)
        target.write([columns[number].slice(begin) for number in chosen])
        target.close()
        lines = [delimiter.join(names)]
        for row in rows[begin:]:
            line = delimiter.join(written_field(row[number], delimiter) for number in chosen)
            lines.append(line or '""')
        assert path.read_bytes().decode() == "\n".join([*lines, ""])


def written_field(value, delimiter):
    if value is None or value != value:
        return ""
    text = value if isinstance(value, str) else repr(value).removesuffix(".0")
    return '"' + text.replace('"', '""') + '"' if set(text) & {delimiter, '"', "\r", "\n"} else text


# Records, and what a crash leaves


@pytest.mark.parametrize("changes", [{}, TO_PARQUET], ids=["csv", "parquet"])
def test_the_record_fits_the_bytes_of_the_target_and_no_others(tmp_path, changes):
    applied(tmp_path, changes)
    (target,) = [path for path in (tmp_path / "out").iterdir() if path.suffix in (".csv", ".parquet")]
    held = read_record(target)
    assert held.is_true
    assert held.record.source_hash == hash_bytes_of(tmp_path / "data/samples.csv")
    content = bytearray(target.read_bytes())
    content[20] ^= 1
    target.write_bytes(bytes(content))
    assert read_record(target).is_true is False


@pytest.mark.parametrize("advice", ["taken", "refused", "not known"])
def test_a_file_knows_the_hash_of_its_bytes_whatever_the_system_makes_of_the_advice(
    tmp_path, monkeypatch, advice
):
    def refused(*_):
        raise OSError(22, "Invalid argument")

    monkeypatch.setattr(hashed_file, "_BYTES_TO_SEND", 7)
    if advice == "refused":
        monkeypatch.setattr(hashed_file.os, "posix_fadvise", refused, raising=False)
    elif advice == "not known":
        monkeypatch.delattr(hashed_file.os, "posix_fadvise", raising=False)
    pieces = [b"", b"a", memoryview(b"bc" * 9), pa.py_buffer(b"d" * 20_000), b"e"]
    with hashed_file.HashedFile(tmp_path / "x") as file:
        for piece in pieces:
            file.write(piece)
        held = b"".join(map(bytes, pieces))
        assert (file.at, file.digest.hexdigest()) == (len(held), xxhash.xxh3_128_hexdigest(held))
    assert (tmp_path / "x").read_bytes() == held


def test_the_parquet_hash_covers_all_but_the_record(tmp_path):
    _, out = applied(tmp_path, TO_PARQUET)
    target = out / "samples.parquet"
    metadata = pq.read_metadata(target)
    last = max(
        chunk.data_page_offset + chunk.total_compressed_size
        for g in range(metadata.num_row_groups)
        for c in range(metadata.num_columns)
        for chunk in [metadata.row_group(g).column(c)]
    )
    assert footer_start(target) >= last - 100
    plain = {number: one for number, one in read_footer(target).items() if number != KEY_VALUES}
    said = [one for one in listed_in(read_footer(target), KEY_VALUES) if one[1][1] != b"kivvet"]
    end = footer_bytes({**plain, KEY_VALUES: structures(said)})
    held = target.read_bytes()[: footer_start(target)]
    assert read_record(target).record.target_hash == xxhash.xxh3_128_hexdigest(held + end)


def test_a_crash_between_record_and_target_leaves_the_old_record_true(tmp_path):
    applied(tmp_path)
    target = tmp_path / "out/samples.csv"
    old = target.read_bytes()
    (tmp_path / "data/samples.csv").write_text(SMALL_BOOK["data/samples.csv"] + "5,007,7,\n")
    kivvet.open_book(tmp_path).apply_dataset("samples")
    assert len(json.loads(record_file(target).read_text())["records"]) == 2
    target.write_bytes(old)  # as if the process had ended before the target was replaced
    held = read_record(target)
    assert held.is_true and held.record.rows == 4


KILLED = """
import importlib, os, signal, sys
module, name, left = sys.argv[1], sys.argv[2].split("."), [int(sys.argv[3])]
owner = importlib.import_module(module)
for part in name[:-1]:
    owner = getattr(owner, part)
real = getattr(owner, name[-1])
def deadly(*given, **more):
    left[0] -= 1
    if not left[0]:
        os.kill(os.getpid(), signal.SIGKILL)
    return real(*given, **more)
setattr(owner, name[-1], deadly)
from kivvet.cli.main import main
main(["apply"])
"""


@pytest.mark.parametrize(
    ("ending", "module", "name", "call"),
    [
        ("csv", "io.csv_target", "CsvTarget.write", 2),
        ("csv", "io.csv_target", "hash_bytes_of", 1),  # whole, and its record not written
        ("csv", "io.files", "_to_disk", 1),  # the record written, and not in its place
        ("csv", "io.files", "_to_disk", 3),  # the record in its place, the target not
        ("csv", "books.runs.journal", "Journal.remember", 1),  # the target in its place
        ("parquet", "io.parquet_target", "ParquetTarget.write", 2),
        ("parquet", "io.parquet_files", "digest_of", 1),  # whole, with a footer that has no record
        ("parquet", "io.files", "_to_disk", 2),  # the target in its place
    ],
)
def test_a_kill_at_a_point_leaves_the_old_target_or_the_new(tmp_path, ending, module, name, call):
    rows = f"1,007,7,{'x' * 60}\n" * 90_000  # two batches
    folder = write_book(
        tmp_path,
        {
            "book.toml": BOOK.replace("out/samples.csv", f"out/samples.{ending}"),
            "data/samples.csv": "id,station,ph,remark\n" + rows,
        },
    )
    kivvet.open_book(folder).apply_dataset("samples")
    target = folder / f"out/samples.{ending}"
    old = target.read_bytes()
    changed = SMALL_BOOK["tables/ph_class.toml"].replace("neutral", "even")
    (folder / "tables/ph_class.toml").write_text(changed)
    arguments = [sys.executable, "-c", KILLED, f"kivvet.{module}", name, str(call)]
    ran = subprocess.run(arguments, cwd=folder, capture_output=True, check=False)
    assert ran.returncode == -signal.SIGKILL, ran.stderr
    content = target.read_bytes()
    if content != old:
        made = pd.read_parquet(target) if ending == "parquet" else pd.read_csv(target)
        assert len(made) == 90_000 and set(made["ph_class"]) == {"even"}
    held = read_record(target)
    assert held.is_true and held.record.rows == 90_000
    assert kivvet.open_book(folder).apply_dataset("samples").rows == 90_000
    assert not list((folder / "out").glob(".*"))


def test_two_processes_at_once_leave_one_whole_target(tmp_path):
    folder = write_book(tmp_path, {"data/samples.csv": "id,station,ph,remark\n" + "1,007,7,x\n" * 100_000})
    processes = [
        subprocess.Popen([sys.executable, "-m", "kivvet", "apply"], cwd=folder, stdout=subprocess.DEVNULL)
        for _ in range(3)
    ]
    assert [process.wait() for process in processes] == [0, 0, 0]
    assert kivvet.open_book(folder).status()[0].state == "current"
    assert not list((folder / "out").glob(".*"))


# Files that are broken in ways a reader might pass over


def test_a_quote_that_is_not_closed_swallows_nothing(tmp_path):
    broken = SMALL_BOOK["data/samples.csv"].replace('brown"', "brown")
    with pytest.raises(kivvet.DataError) as caught:
        applied(tmp_path, {"data/samples.csv": broken})
    assert "a quote is not closed" in str(caught.value) and caught.value.place.line == 2
    assert not (tmp_path / "out/samples.csv").exists()


def test_a_quote_within_a_field_is_just_a_sign(tmp_path):
    inches = SMALL_BOOK["data/samples.csv"].replace("NA", 'pipe of 5" width')
    _, out = applied(tmp_path, {"data/samples.csv": inches})
    assert '"pipe of 5"" width"' in (out / "samples.csv").read_text()


@pytest.mark.parametrize(
    ("cut", "said"), [(0.5, "cut short"), (0.01, "cut short"), (None, "not a gzipped file")]
)
def test_compressed_files_that_are_cut_short_or_none_are_told(tmp_path, cut, said):
    whole = gzip.compress(SMALL_BOOK["data/samples.csv"].encode() * 2000)
    content = b"id,ph\n1,7\n" if cut is None else whole[: max(9, int(len(whole) * cut))]
    changes = {"book.toml": BOOK.replace("data/samples.csv", "data/s.csv.gz"), "data/s.csv.gz": content}
    with pytest.raises(kivvet.DataError) as caught:
        applied(tmp_path, changes)
    assert said in str(caught.value).lower()


def test_columns_that_no_table_reads_pass_through_parquet_and_are_refused_in_csv(tmp_path):
    (tmp_path / "data").mkdir()
    source = pa.table({"ph": [7.0], "station": ["007"], "list": [[1, 2]], "remark": ["x"]})
    pq.write_table(source, tmp_path / "data/samples.parquet")
    book = BOOK.replace("data/samples.csv", "data/samples.parquet")
    _, out = applied(tmp_path, {"book.toml": book.replace("out/samples.csv", "out/samples.parquet")})
    assert pq.read_table(out / "samples.parquet")["list"].to_pylist() == [[1, 2]]
    with pytest.raises(kivvet.DataError, match="cannot be written as CSV"):
        applied(tmp_path, {"book.toml": book})
    assert kivvet.look(source)["list"].type == "other"


def test_lines_above_the_headings_are_left_out_and_lines_still_count_from_the_top(tmp_path):
    folder = write_book(
        tmp_path,
        {
            "book.toml": SMALL_BOOK["book.toml"].replace("types", "headings_on_line = 3\ntypes"),
            "data/samples.csv": 'A survey, "begun\n2026\n' + SMALL_BOOK["data/samples.csv"] + "5,007,x,\n",
            "tables/station.toml": SMALL_BOOK["tables/station.toml"] + "headings_on_line = 2\n",
            "tables/station.csv": "Stations\n" + SMALL_BOOK["tables/station.csv"] + "Eve,,,Oak\n",
        },
    )
    said = run("check", cwd=folder).out
    assert "at data/samples.csv:8" in said and "at tables/station.csv:5" in said
    (folder / "data/samples.csv").write_text("Survey\n\n" + SMALL_BOOK["data/samples.csv"])
    (folder / "tables/station.csv").write_text("Stations\n" + SMALL_BOOK["tables/station.csv"])
    assert run("draft", "station", "--extend", "--on", "samples", cwd=folder).code == 0
    assert (folder / "tables/station.csv").read_text() == "Stations\n" + SMALL_BOOK[
        "tables/station.csv"
    ] + ",9,,\n"
    assert run("apply", cwd=folder).code == 0
    assert [line.split(",")[-3] for line in (folder / "out/samples.csv").read_text().splitlines()[1:]] == [
        "Elm",
        "Ash",
        "unknown",
        "Elm",
    ]
