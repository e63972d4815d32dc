"""No crash, no hang, no cost that grows wrongly: what hostile tries found."""

from __future__ import annotations

import gzip
import io
import json
import os
import re
import subprocess
import sys
import time

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.calculate.texts import like_pattern
from kivvet.io.files import replacing
from tests.conftest import SMALL_BOOK, write_book

TABLE = kivvet.RuleTable
Y = {"y": "text"}
BOOK = SMALL_BOOK["book.toml"]
NOTHING = {
    "null": pa.nulls(3),
    "text": pa.nulls(3, pa.string()),
    "coded": pa.nulls(3, pa.dictionary(pa.int8(), pa.string())),
    "float": pa.nulls(3, pa.float64()),
    "integer": pa.nulls(3, pa.int8()),
    "none": pa.nulls(0),
}


@pytest.mark.parametrize("end", ["otherwise", "missing"])
def test_a_lookup_of_numbers_has_results_for_the_rest(end):
    table = TABLE("t", {"k": "text"}, {"n": "number"}, lookup=[{"k": "a", "n": 1.5}], **{end: {"n": 9}})
    assert table.apply(pa.table({"k": ["a", "b", None]}))["n"].to_pylist() == [
        1.5,
        *((9.0, None) if end == "otherwise" else (None, 9.0)),
    ]


@pytest.mark.parametrize("kind", NOTHING)
@pytest.mark.parametrize(
    "table",
    [
        TABLE("t", {"x": "text"}, Y, [["a", "A"]], missing={"y": "none"}),
        TABLE("t", {"x": "text"}, Y, lookup=[{"x": "a", "y": "A"}], missing={"y": "none"}),
        TABLE("t", {"x": "number"}, Y, [["< 5", "A"], [">= 5", "B"]], missing={"y": "none"}),
        TABLE(
            "t",
            {"x": {"type": "date", "from": "a"}},
            Y,
            lookup=pd.DataFrame({"a": pd.to_datetime(["2026-01-01"]).date, "y": ["A"]}),
            missing={"y": "none"},
        ),
        TABLE(
            "t",
            {"x": "text", "z": "text"},
            Y,
            [["x", "z", "when", "y"], ["a", "", "x LIKE 'b%'", "A"]],
            missing={"y": "none"},
            severity={"gap": "note"},
        ),
    ],
)
def test_a_column_without_any_value_is_missing_for_every_table(table, kind):
    array = NOTHING[kind]
    frame = pa.table({"x": array, "z": array})
    assert table.apply(frame)["y"].to_pylist() == ["none"] * len(array)


@pytest.mark.parametrize(
    "series",
    [pd.Series([None, None], dtype=object), pd.Series(pd.Categorical([None, None])), pd.Series([np.nan] * 2)],
)
@pytest.mark.parametrize(
    "text", ["UPPER(x) || 'a'", "COALESCE(x, 'q')", "x LIKE '%a'", "REPLACE(x, 'a', 'b')"]
)
def test_formulas_of_text_take_columns_without_any_value(series, text):
    made = kivvet.with_formulas(pd.DataFrame({"x": series}), {"z": text})
    assert made["z"].isna().all() or (made["z"] == "q").all()


@pytest.mark.parametrize("n_missing", [1, 70_000, 200_000])
def test_a_batch_of_nothing_but_missing_values_changes_no_type(tmp_path, n_missing):
    table = pa.table({"x": pa.concat_arrays([pa.nulls(n_missing, pa.float64()), pa.array([1.5])])})
    assert kivvet.with_formulas(table, {"z": "COALESCE(x, 1)"})["z"].type == pa.float64()
    import pyarrow.parquet as pq

    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.parquet"\ntarget = "t.parquet"\ncolumns = ["z"]\n',
            "formulas.toml": 'z = "COALESCE(x, 1)"\n',
        },
    )
    pq.write_table(table, folder / "d.parquet")
    kivvet.open_book(folder).apply_dataset("d")
    assert pq.read_table(folder / "t.parquet")["z"].to_pylist() == [1.0] * n_missing + [1.5]


@pytest.mark.parametrize(
    "text",
    [
        "s || NULL",
        "s LIKE NULL",
        "s LIKE_REGEX NULL",
        "REPLACE(s, 'a', NULL)",
        "POSITION(NULL IN s)",
        "LAG(i, NULL) OVER (ORDER BY i)",
        "SUM(v) OVER (ORDER BY i RANGE BETWEEN 1 PRECEDING AND CURRENT ROW)",
        "NTILE(NULL) OVER (ORDER BY i)",
        "NULL || NULL",
        "TRIM(NULL FROM s)",
    ],
)
@pytest.mark.parametrize("n_rows", [0, 1, 2])
def test_null_is_an_argument_like_any_other(text, n_rows):
    frame = pa.table({"s": ["a", "b"], "i": [1, 2], "v": [1.0, 2.0]}).slice(0, n_rows)
    made = kivvet.with_formulas(frame, {"z": text})["z"].to_pylist()
    wanted = [1.0, 3.0][:n_rows] if text.startswith("SUM") else [None] * n_rows
    assert made == wanted


def test_a_part_of_when_without_columns_is_told():
    for when in ("x > 1 AND 'a' LIKE 'b'", "1 = 1", "x > 1 AND 1 < 2"):
        with pytest.raises(kivvet.TableError, match="names no column"):
            TABLE("t", {"x": "number"}, Y, [["x", "when", "y"], ["", when, "a"]])


def test_large_close_numbers_are_looked_at_and_drafted():
    numbers = pa.table({"x": [1234567890123456789, 1234567890123456790]})
    assert kivvet.look(numbers)["x"].lowest == "1234567890123456789"
    assert "rows = [" in str(kivvet.draft(numbers, "x", bins=2, propose="width"))
    assert kivvet.look(pa.table({"x": [1e300, np.nextafter(1e300, 2e300)]}))["x"].distinct == 2


def test_a_lookup_from_a_frame_takes_whole_numbers_that_pandas_made_floats():
    frame = pd.DataFrame({"k": [1, None, 3], "n": [1.0, 2.0, None]})
    table = TABLE("t", {"k": "integer"}, {"n": "integer"}, lookup=frame.dropna(subset="k"))
    assert table.apply(pa.table({"k": [1, 3]}))["n"].to_pylist() == [1, None]
    with pytest.raises(kivvet.TableError, match=r"1 value of column 'n' is not whole, such as 1\.5"):
        TABLE("t", {"k": "integer"}, {"n": "integer"}, lookup=pd.DataFrame({"k": [1], "n": [1.5]}))
    with pytest.raises(kivvet.TableError, match="declare k as integer"):
        TABLE("t", {"k": "number"}, {"n": "integer"}, lookup=pa.table({"k": [2**53 + 1], "n": [1]}))


def test_letters_that_an_output_lacks_are_written_as_their_numbers_and_programs_get_utf8(small_book):
    samples = SMALL_BOOK["data/samples.csv"].replace("foam", "\N{SNOWMAN}")
    (small_book / "data/samples.csv").write_text(samples)
    done = subprocess.run(
        [sys.executable, "-m", "kivvet", "look", "samples", "remark"],
        cwd=small_book,
        capture_output=True,
        check=False,
        env={**os.environ, "PYTHONIOENCODING": "ascii", "PYTHONUTF8": "0"},
    )
    assert done.returncode == 0 and b"\\u2603, brown" in done.stdout, done.stderr
    for words in (
        ["look", "samples", "remark", "--json"],
        ["show", "samples", "--csv"],
        ["impact", "--format", "markdown"],
    ):
        done = subprocess.run(
            [sys.executable, "-m", "kivvet", *words],
            cwd=small_book,
            capture_output=True,
            check=False,
            env={**os.environ, "PYTHONIOENCODING": "ascii", "PYTHONUTF8": "0"},
        )
        assert done.returncode == 0 and b"\\u2603" not in done.stdout, (words, done.stderr)
        assert words[0] == "impact" or "\N{SNOWMAN}, brown".encode() in done.stdout


@pytest.mark.parametrize(
    "words", [["look", b"\xff.csv"], ["check", b"\xff"], ["explain", "ph_class", b"\xff"]]
)
@pytest.mark.parametrize("more", [[], ["--json"]])
def test_arguments_that_are_no_text_end_in_a_plain_error(small_book, words, more):
    done = subprocess.run(
        [os.fsencode(sys.executable), b"-m", b"kivvet", *map(os.fsencode, [*words, *more])],
        cwd=small_book,
        capture_output=True,
        check=False,
    )
    assert done.returncode in (1, 2)
    assert b"Traceback" not in done.stderr and b"should not" not in done.stderr, done.stderr


def test_a_name_longer_than_any_file_has_is_a_plain_error(small_book, run):
    for words in (
        ["compare", "ph_class", "--against", "x" * 5000],
        ["look", "y" * 5000],
        ["check", "--book", "z" * 5000],
    ):
        ran = run(*words, cwd=small_book)
        assert ran.code in (1, 2) and len(ran.all) < 7000, words


_STEERING = "\x1b[31mred\x1b]0;own\x07\x9b31m\u202eevil"
_SIGNS = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")


@pytest.mark.parametrize(
    "words",
    [
        ["list"], ["check"], ["check", "t"], ["apply", "d", "e"], ["status"], ["show", "d"], ["look", "d"],
        ["look", "d", "k"], ["summary", "d", "--by", "y"], ["summary", "d", "--by", "k"], ["explain", "t", "d", "1"],
        ["unmatched"], ["impact"], ["impact", "--format", "markdown"], ["history"], ["history", "t"], ["review", "t"],
        ["formula", "k || 'x'", "--on", "d"], ["compare", "t", "--against", "last"], ["simplify", "t"],
        ["check", "\x1b[31mno"], ["shares", "t", "--on", "d"], ["draft", "nn", "--on", "d", "h\x1b[31mred"],
        ["chart", "t\x1b[31m"], ["nothing\x1b[31m"], ["pack", "a\x1b.zip"], ["refresh", "--dry-run"],
    ],
)  # fmt: skip
def test_nothing_from_outside_steers_the_terminal(tmp_path, words, run):
    """Headings, names of files, classes, titles, notes, owners and arguments with signs that would."""
    said = json.dumps(_STEERING)
    said = re.sub("[\x80-\x9f\u202e]", lambda one: f"\\u{ord(one[0]):04x}", said)
    (tmp_path / "tables").mkdir()
    (tmp_path / "d.csv").write_text(f"k,x,h{_STEERING}\na,1,2\n{_STEERING},5,3\nbc,12,1\n", newline="")
    (tmp_path / "f\x1b[31m.csv").write_text("k\na\n")
    (tmp_path / "book.toml").write_text(
        f'title = {said}\n[datasets.d]\nsource = "d.csv"\ntarget = "o.csv"\ncolumns = ["t"]\n'
        '[datasets.e]\nsource = "f\\u001b[31m.csv"\ntarget = "e.csv"\ncolumns = ["t"]\n'
    )
    table = f'title = {said}\nowner = {said}\nnote = {said}\ninputs.k = "text"\noutputs.y = "text"\nmatch = "first"\n'
    (tmp_path / "tables/t.toml").write_text(
        f'{table}rows = [["a", {said}], ["zz", "q"], ["present", "rest"]]\nmissing = {{ y = "none" }}\n'
    )
    kivvet.open_book(tmp_path).apply_dataset("d")
    (tmp_path / "tables/bad.toml").write_text(
        f'inputs.k = "text"\noutputs.y = "text"\nrows = [[{said}, "(((x"]]\n'
    )
    ran = run(*words, cwd=tmp_path)
    assert not _SIGNS.findall(ran.all)


# Hangs


@pytest.mark.parametrize(
    "text",
    [
        "+".join(["i"] * 24),
        "+".join(["i"] * 199),
        "+".join(["1"] * 199),
        "-" * 199 + "i",
        " || ".join(["s"] * 90),
        " AND ".join(["i > 0"] * 400),
    ],
)
def test_long_chains_are_read_and_worked_out(text):
    made = kivvet.with_formulas(pa.table({"i": [1], "s": ["a"]}), {"z": text})["z"].to_pylist()
    assert made == [
        eval("True" if "AND" in text else text.replace("||", "+"), {"i": 1, "s": "a"})
        if "--" not in text
        else -1
    ]


@settings(deadline=None)
@given(st.text("ab", max_size=9), st.text("ab%_", max_size=7))
def test_like_is_what_trying_every_way_says(text, pattern):
    def holds(rest, signs):
        if not signs:
            return not rest
        if signs[0] == "%":
            return any(holds(rest[n:], signs[1:]) for n in range(len(rest) + 1))
        return bool(rest) and signs[0] in ("_", rest[0]) and holds(rest[1:], signs[1:])

    assert like_pattern(pattern, None).holds(text) is holds(text, pattern)


@pytest.mark.parametrize(
    "text", ["s LIKE '" + "%a" * 40 + "%b'", "s LIKE_REGEX '(a+)+$'", "s LIKE_REGEX '(a|aa)*c'"]
)
def test_patterns_take_a_time_in_proportion_to_the_text(text):
    frame = pa.table({"s": ["a" * 20_000 + "c"]})
    assert kivvet.with_formulas(frame, {"z": text})["z"].to_pylist() == [
        "*c" in text or None if "*c" in text else False
    ]


def test_a_regular_expression_that_cannot_be_bounded_and_a_text_that_grows_are_told():
    with pytest.raises(kivvet.TableError, match="no regular expression: invalid perl operator"):
        kivvet.with_formulas(pa.table({"s": ["a"]}), {"z": "s LIKE_REGEX '(?=a)'"})
    text = "s"
    for _ in range(20):
        text = f"REPLACE({text}, 'a', 'aa')"
    with pytest.raises(kivvet.DataError, match="would make a text of"):
        kivvet.with_formulas(pa.table({"s": ["a"]}), {"z": text})


# Costs; `python -m benchmarks growth` has the exponents


def seconds(work):
    start = time.process_time()
    work()
    return time.process_time() - start


def test_what_grew_with_the_square_no_longer_does(tmp_path):
    """Sizes at which each took a minute and more; a generous bound, since this is no measurement."""
    n = 8_000
    starts = np.arange(n, dtype=float)
    ends = starts + np.where(starts == 7, 1.5, 1.0)
    ranges = pa.table({"a": starts, "b": ends, "y": [f"{i}" for i in range(n)]})
    inputs = {"x": {"type": "number", "from": "a", "to": "b", "ends": "[)"}}
    report = TABLE("t", inputs, Y, lookup=ranges).check()
    assert [one.rows for one in report.of_kind("overlap")] == [(8, 9)]
    meeting = TABLE("t", inputs, Y, lookup=ranges, severity={"overlap": "warning"})
    assert meeting.apply(pa.table({"x": [7.5, 8.25, 8.75]}))["y"].to_pylist() == ["7", "7", "8"]
    cell = " | ".join(f"k{i}" for i in range(n))
    assert not TABLE("t", {"x": "text"}, Y, [[cell, "a"], ["z", "b"]]).check().has_errors
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "t.csv"\ncolumns = []\n',
            "d.csv": ",".join(f"c{i}" for i in range(n)) + "\n" + ",".join("1" * n) + "\n",
            "tables/keys.toml": 'inputs.k = "text"\noutputs.v = "integer"\nlookup = "keys.csv"\n',
            "tables/keys.csv": "k,v\n" + "".join(f"k{i},{i}\n" for i in range(n)),
            "tables/t.toml": 'inputs.x = { type = "text", domain = "keys.k" }\noutputs.y = "text"\notherwise = { y = "z" }\nrows = [["k1", "a"]]\n',
            "tables/deep.toml": ".".join(["a"] * 50_000) + " = 1\n",
        },
    )
    used = seconds(lambda: kivvet.open_book(folder).check())
    assert used < 30
    (deep,) = [one for one in kivvet.open_book(folder).check(data=False) if one.table == "deep"]
    assert deep.message == "a key has more than 50 parts"


# Files


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ('encoding = "base64"', "is no encoding of text"),
        ('encoding = "nowhere"', "is no encoding of text"),
        ("encoding = 8", "is no encoding of text"),
        ('delimiter = ";;"', "delimiter is one sign"),
        ("delimiter = 5", "delimiter is one sign"),
        ('delimiter = "a"', "delimiter is one sign"),
        ('missing_words = { ph = "x" }', "missing_words lists words by column"),
        ('source = "a\\u0000.csv"', "holds a sign that no path has"),
    ],
)
def test_options_of_a_dataset_of_the_wrong_kind_are_told(tmp_path, run, line, said):
    book = BOOK.replace('source  = "data/samples.csv"\n', "") if line.startswith("source") else BOOK
    folder = write_book(tmp_path, {"book.toml": book.replace("target ", line + "\ntarget ")})
    ran = run("apply", cwd=folder)
    assert ran.code == 1 and said in ran.err


@pytest.mark.parametrize(
    "options",
    [
        {"fold": 3},
        {"fold": [1]},
        {"fold": {"case": True}},
        {"tz": 5},
        {"column": 5},
        {"column": ""},
        {"domain": True},
        {"domain": {"a": 1}},
        {"domain": []},
        {"domain": ""},
    ],
)
def test_options_of_an_input_of_the_wrong_kind_are_told(options):
    with pytest.raises(kivvet.TableError):
        TABLE("t", {"x": {"type": "text", **options}}, Y, [["a", "A"]])


@pytest.mark.parametrize(
    "options",
    [
        {"order": 5},
        {"order": [1]},
        {"order": [["a"]]},
        {"meaning": {"a": 1}},
        {"column": [1]},
        {"width": True},
    ],
)
def test_options_of_an_output_of_the_wrong_kind_are_told(options):
    with pytest.raises(kivvet.TableError):
        TABLE("t", {"x": "text"}, {"y": {"type": "text", **options}}, [["a", "A"]])


def test_a_time_zone_that_is_none_is_told():
    with pytest.raises(kivvet.TableError, match="tz is the time zone"):
        TABLE("t", {"x": {"type": "datetime", "tz": "Nowhere/Far"}}, Y, [["< 2026-01-01", "A"]])


def test_strange_sources_end_in_a_message(small_book, run):
    source = small_book / "data/samples.csv"
    source.unlink()
    source.symlink_to("samples.csv")
    assert "Too many levels of symbolic links" in run("apply", cwd=small_book).err
    source.unlink()
    os.mkfifo(source)
    for command in (("apply",), ("look", "data/samples.csv"), ("formula", "1", "--on", "samples")):
        assert "is no regular file" in run(*command, cwd=small_book).err
    (small_book / "x.csv").write_text("a,b")
    assert "has headings and no rows" in run("look", "x.csv", cwd=small_book).err
    with gzip.open(small_book / "x.csv.gz", "wb", compresslevel=1) as file:
        for _ in range(40):
            file.write(b"a" * 1_000_000)
    assert "a row is longer than 16,777,216 characters" in run("look", "x.csv.gz", cwd=small_book).err


def test_a_bound_beyond_every_float_is_one():
    for step in ({}, {"step": "0.1"}):
        table = TABLE("t", {"x": {"type": "number", **step}}, Y, [["< 1e400", "a"], [">= 1e400", "b"]])
        assert not table.check().has_errors
        assert table.apply(pa.table({"x": [1.0, np.inf]}))["y"].to_pylist() == ["a", "b"]


def test_long_fields_follow_one_rule_wherever_they_stand(tmp_path, run):
    long = "b" * 5_000_000
    folder = write_book(
        tmp_path, {"book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "t.csv"\ncolumns = []\n'}
    )
    for rows in ([long, "c"], [*["a"] * 3_000_000, long, "c"]):
        (folder / "d.csv").write_text("x,y\n" + "".join(f"{one},1\n" for one in rows))
        assert run("apply", cwd=folder).code == 0
        assert (folder / "t.csv").read_bytes() == (folder / "d.csv").read_bytes()


def test_what_a_killed_run_left_beside_a_target_is_removed_by_the_next(tmp_path):
    target = tmp_path / "t.csv"
    code = "import os, sys; from pathlib import Path; from kivvet.io.files import replacing\nwith replacing(Path(sys.argv[1])) as part:\n    part.write_text('half'); os.kill(os.getpid(), 9)"
    subprocess.run([sys.executable, "-c", code, str(target)], check=False)
    assert len(list(tmp_path.glob(".t.csv.*.part"))) == 1
    with replacing(tmp_path / "other.csv") as part:
        part.write_text("x")
    with replacing(target) as outer:
        outer.write_text("new")
        assert [one.name for one in tmp_path.glob(".t.csv.*.part")] == [
            outer.name
        ]  # one that is under way stays
    assert target.read_text() == "new" and not list(tmp_path.glob(".t.csv.*.part"))


def test_the_command_line_says_what_it_can_on_a_closed_pipe(small_book):
    done = subprocess.run(
        ["bash", "-c", f"{sys.executable} -m kivvet look samples | true"],
        cwd=small_book,
        capture_output=True,
        text=True,
        check=False,
    )
    assert "Traceback" not in done.stderr


def test_records_are_counted_by_line(tmp_path):
    from kivvet.io.csv_records import records

    found = list(records(io.StringIO('a,b\n"x\ny",1\n\nz,2\n', newline=""), ","))
    assert found == [(1, ["a", "b"]), (2, ["x\ny", "1"]), (4, []), (5, ["z", "2"])]
