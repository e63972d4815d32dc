"""What is said is so, is complete, and can be followed: findings, views, JSON."""

from __future__ import annotations

import json
import re

import pandas as pd
import pyarrow as pa
import pytest

import kivvet
from tests.conftest import SMALL_BOOK, write_book

TABLE = kivvet.RuleTable
Y = {"y": "text"}
BOOK = SMALL_BOOK["book.toml"]


def test_json_lists_every_gap_of_one_input_and_what_it_leaves_out_is_counted():
    rows = [[f"{2 * n} to <{2 * n + 1}", "a"] for n in range(6_164)]
    gaps = TABLE("t", {"x": "number"}, Y, rows).check().of_kind("gap")
    assert len(gaps) == 6_165
    frame = pd.DataFrame({"a": range(0, 30_000, 2), "b": range(1, 30_001, 2), "y": "c"})
    inputs = {"x": {"type": "integer", "from": "a", "to": "b", "ends": "[)"}}
    gaps = TABLE("t", inputs, Y, lookup=frame).check().of_kind("gap")
    assert len(gaps) == 10_001 and gaps[-1].message == "4,999 more gaps between ranges of one key"
    assert gaps[0].witness == {"x": "1"}


def test_what_says_that_more_remain_is_always_shown(tmp_path, run):
    rows = "".join(f'  ["{n}", "{m}", "a"],\n' for n in range(0, 12, 2) for m in range(0, 12, 2))
    folder = write_book(
        tmp_path,
        {
            "tables/t.toml": 'inputs.a = { type = "integer", domain = "0 to 20" }\ninputs.b = { type = "integer", domain = "0 to 20" }\noutputs.y = "text"\n'
            f'rows = [\n  ["a", "b", "y"],\n{rows}]\n'
        },
    )
    out = run("check", "t", "--no-data", cwd=folder).out
    assert out.count("is covered by no row") == 10 and "more gaps remain beyond the 10 listed" in out


def test_unused_rows_of_a_lookup_without_a_key_are_named_by_their_ranges(tmp_path):
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ncolumns = ["t"]\n',
            "d.csv": "x\n1\n",
            "tables/t.csv": "a,b,y\n0,5,p\n5,9,q\n",
            "tables/t.toml": 'inputs.x = { type = "number", from = "a", to = "b", ends = "[)" }\noutputs.y = "text"\nlookup = "t.csv"\n',
        },
    )
    (unused,) = [one for one in kivvet.open_book(folder).check() if one.kind == "unused"]
    assert unused.message == "no data of d meets 1 of 2 rows: x 5 to <9"


def test_a_value_beyond_the_ranges_of_a_known_key_is_said_by_what_the_range_is(tmp_path):
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ncolumns = ["t"]\n',
            "d.csv": "k,x\nz,30\n",
            "tables/t.csv": "k,a,b,y\nz,0,5,p\n",
            "tables/t.toml": 'inputs.k = "text"\ninputs.x = { type = "number", from = "a", to = "b" }\noutputs.y = "text"\nlookup = "t.csv"\n',
        },
    )
    (one,) = [one for one in kivvet.open_book(folder).check() if one.kind == "unmatched"]
    assert "a key that is known, but not at that value: (k = z, x = 30)" in one.message


def test_a_finding_is_told_once():
    rows = [["< 9", "a"], ["< 5", "b"], [">= 9", "a"]]
    kinds = [one.kind for one in TABLE("t", {"x": "number"}, Y, rows, match="first").check()]
    assert kinds == ["shadowed"]


def test_notes_stand_once_at_the_end_unless_asked_for(survey, run):
    out = run("check", cwd=survey).out
    notes = out[out.index("notes  in full with --in-full") :]
    assert "open           values that no row lists are seen only in data: method" in notes
    assert "\n  note " not in out and "\n  note     open" in run("check", "--in-full", cwd=survey).out


def test_the_dataset_is_named_where_several_use_a_table(tmp_path, run):
    other = BOOK.split("\n", 2)[2].replace("samples]", "others]").replace("out/samples", "out/others")
    folder = write_book(
        tmp_path,
        {
            "book.toml": BOOK + other,
            "tables/station.toml": SMALL_BOOK["tables/station.toml"].replace("otherwise", "# otherwise"),
        },
    )
    out = run("check", cwd=folder).out
    assert "that no row lists: '9' (1); in samples" in out and "that no row lists: '9' (1); in others" in out
    twice = BOOK.replace(
        '["ph_class",', '["ph_class", { table = "ph_class", keep = { ph_class = "again" } },'
    )
    folder = write_book(
        tmp_path,
        {
            "book.toml": twice,
            "tables/ph_class.toml": SMALL_BOOK["tables/ph_class.toml"].replace("6.5 to", "6 to"),
        },
    )
    assert "of samples fall" in (out := run("check", cwd=folder).out) and "samples, samples" not in out


@pytest.mark.parametrize(
    ("given", "meant"),
    [
        ("50+", ">= 50"),
        ("\N{GREATER-THAN OR EQUAL TO} 5", ">= 5"),
        (">=40 and <50", "40 to <50"),
        ("40 and over", ">= 40"),
        ("1,5", "1.5"),
        ("< 1,5", "< 1.5"),
        ("5-9", "5 to 9"),
        ("1,000", "1000"),
        ("between 3 and 4", "3 to 4"),
        ("= 5", "5"),
        ("!= 5", "not 5"),
        ("under 5", "< 5"),
        (">= 5, < 7", "5 to <7"),
    ],
)
def test_the_right_form_of_a_cell_is_shown(given, meant):
    with pytest.raises(kivvet.TableError) as error:
        TABLE("t", {"x": "number"}, Y, [[given, "a"]])
    assert error.value.findings[0].remedy == f"write {meant}"
    assert TABLE("t", {"x": "number"}, Y, [[meant, "a"]]).n_rows == 1


@pytest.mark.parametrize(
    ("formula", "said"),
    [
        ('CASE WHEN carrier = "UA" THEN 1 END', "a text stands in single quotes: 'UA'"),
        ("MEDIAN(v)", "MEDIAN(...) OVER (PARTITION BY ...)"),
        ("STDEV(v) OVER ()", "write STDDEV_SAMP(x)"),
        ("MEDIAN(v) OVER (ORDER BY v)", "leave ORDER BY out of OVER"),
        ("SUM(DISTINCT v) OVER ()", "only COUNT(DISTINCT x) does"),
        ("PERCENTILE_CONT(90) WITHIN GROUP (ORDER BY v) OVER ()", "a share from 0 to 1"),
        ("PERCENTILE_CONT(0.9) OVER ()", "PERCENTILE_CONT(0.9) WITHIN GROUP (ORDER BY x)"),
        ("RANK() FILTER (WHERE v > 1) OVER (ORDER BY v)", "RANK takes no FILTER"),
        ("CAST(v AS CHAR(3))", "write VARCHAR(n)"),
        ("CAST(v AS DECIMAL(3, 5))", "DECIMAL(10, 2) has 10 digits"),
        ("CAST(v AS DECIMAL)", "write DECIMAL(10, 2)"),
    ],
)
def test_what_a_formula_lacks_is_told_with_what_there_is(formula, said):
    with pytest.raises(kivvet.TableError, match=re.escape(said)):
        kivvet.with_formulas(pa.table({"carrier": ["UA"], "v": [1.5]}), {"z": formula})


def test_whole_numbers_by_form_may_be_declared_integers(tmp_path):
    texts = ["FLOOR(ph)", "ROUND(ph * 10)", "CEILING(ph) + 1", "CASE WHEN ph > 7 THEN FLOOR(ph) ELSE 0 END"]
    formulas = "".join(f'f{n} = {{ formula = "{text}", type = "integer" }}\n' for n, text in enumerate(texts))
    folder = write_book(
        tmp_path,
        {
            "formulas.toml": formulas,
            "book.toml": BOOK.replace('["ph_class",', '["f0", "f1", "f2", "f3", "ph_class",'),
        },
    )
    kivvet.open_book(folder).apply_dataset("samples")
    assert (folder / "out/samples.csv").read_text().splitlines()[1].split(",")[-8:-4] == ["6", "64", "8", "0"]


def test_codes_that_differ_by_leading_zeros_and_groups_spelled_two_ways_are_near_misses(tmp_path):
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ntypes = { k = "text" }\ncolumns = ["t", "share"]\n',
            "d.csv": "k,g,v\n12,North,1\n0013,north ,2\n012,North,3\n",
            "tables/t.toml": 'inputs.k = "text"\noutputs.y = "text"\nrows = [["012", "a"], ["13", "b"]]\n',
            "formulas.toml": 'share = "v / SUM(v) OVER (PARTITION BY g)"\n',
        },
    )
    codes, groups = [one for one in kivvet.open_book(folder).check() if one.kind == "near-miss"][::-1]
    assert (
        "would match but for leading zeros: '0013' (1) and '13', '12' (1) and '012'" in codes.message
        and codes.count == 2
    )
    assert (
        "groups of PARTITION BY differ only by case, blanks or Unicode form: 'North' and 'north '"
        in groups.message
        and groups.count == 1
    )


@pytest.mark.parametrize(
    "command",
    [
        ("check",),
        ("apply",),
        ("refresh",),
        ("status",),
        ("unmatched",),
        ("explain", "samples", "--row", "1"),
        ("look", "samples"),
        ("formula", "ph * 2", "--on", "samples"),
    ],
)
def test_the_json_of_every_command_has_a_version_and_so_have_its_errors(small_book, run, command):
    ran = run(*command, "--json", cwd=small_book)
    assert ran.code == 0 and json.loads(ran.out)["version"] == 1
    for wrong in ("--nowhere", "--book"):
        ran = run(*command, "--json", wrong, cwd=small_book)
        made = json.loads(ran.out)
        assert ran.code == 2 and made["version"] == 1 and made["error"]["problem"]
    (small_book / "data/samples.csv").unlink()
    made = json.loads(run(*command, "--json", cwd=small_book).out)
    assert made["version"] == 1 and ("error" in made or command[0] in ("check", "status"))


def test_status_ends_with_a_code_on_request_and_an_empty_book_says_so(small_book, run, tmp_path):
    assert run("status", cwd=small_book).code == 0
    assert run("status", "--fail-if", "stale", cwd=small_book).code == 1
    run("apply", cwd=small_book)
    assert run("status", "--fail-if", "stale", cwd=small_book).code == 0
    run("new", "rules", cwd=tmp_path)
    assert "the book has no datasets" in run("status", "--book", "rules", cwd=tmp_path).out
    assert ".kivvet/" in (tmp_path / "rules/.gitignore").read_text()


def test_commands_that_write_nothing_do_not_say_that_nothing_was_written(small_book, run):
    (small_book / "tables/ph_class.toml").write_text("inputs = 1\n")
    assert "nothing was written" in run("apply", cwd=small_book).err
    for command in (("explain", "samples", "--row", "1"), ("unmatched",)):
        ran = run(*command, cwd=small_book)
        assert ran.code == 1 and "nothing was written" not in ran.err


def test_a_mistyped_option_is_answered_with_a_near_one_only(small_book, run):
    assert "--table" in run("explain", "samples", "--tabel", "x", cwd=small_book).err
    said = run("look", "--tabel", "x", cwd=small_book).err
    assert "No such option '--tabel'" in said and "Did you mean" not in said


def test_names_with_blanks_are_suggested_as_a_shell_takes_them(tmp_path, run):
    folder = write_book(tmp_path)
    out = run("draft", "my table", "--on", "samples", "--column", "remark", cwd=folder).out
    assert 'kivvet check "my table"' in out


def test_classes_of_a_lookup_stand_by_their_rows_and_those_without_are_counted(tmp_path, run):
    keys = "k,y\n" + "".join(f"k{n},c{n:02}\n" for n in range(40))
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "t.csv"\ncolumns = ["l"]\n',
            "d.csv": "k\nk30\nk7\nk30\n",
            "tables/l.toml": 'inputs.k = "text"\noutputs.y = "text"\nlookup = "l.csv"\n',
            "tables/l.csv": keys,
        },
    )
    out = run("apply", cwd=folder).out
    assert out.index("c30") < out.index("c07") and "38 classes without rows" in out and "c00" not in out


def test_an_error_about_a_frame_speaks_of_the_call():
    with pytest.raises(kivvet.TableError) as error:
        TABLE("t", {"x": "text"}, Y, [["a", "A"]]).apply(pd.DataFrame({"z": ["a"]}))
    assert "{'table': 't', 'input': {'x': 'COLUMN'}}" in str(error.value) and "book.toml" not in str(
        error.value
    )


@pytest.mark.parametrize(
    ("call", "problem", "cure"),
    [
        (lambda book, series: book.apply(series, ["ph_class"]), "a Series is no frame", "to_frame()"),
        (lambda book, series: book.table("ph_class").apply(series), "a Series is no frame", "to_frame()"),
        (lambda book, series: book.look("sampels"), "there is no dataset and no file 'sampels'", "did you mean 'samples'?"),
        (lambda book, series: book.summary("sampels"), "there is no dataset and no file 'sampels'", "did you mean 'samples'?"),
    ],
)  # fmt: skip
def test_what_is_given_in_python_and_is_no_data_is_said(small_book, call, problem, cure):
    with pytest.raises(kivvet.DataError) as caught:
        call(kivvet.open_book(small_book), pd.Series([7.1], name="ph"))
    assert problem in str(caught.value) and cure in str(caught.value)


def test_a_single_name_stands_for_itself(small_book):
    book = kivvet.open_book(small_book)
    assert book.summary("samples", by="ph_class").equals(book.summary("samples", by=["ph_class"]))
    assert list(book.look("samples", "ph").columns) == list(book.look("samples", ["ph"]).columns)
    assert book.rows("samples", columns="ph", sort="ph").as_dict() == book.rows("samples", columns=["ph"], sort=["ph"]).as_dict()  # fmt: skip


@pytest.mark.parametrize("encoding", ["utf-16", "utf-8"])
def test_a_file_that_is_cut_within_a_character_is_said_to_be(tmp_path, run, encoding):
    (tmp_path / "cut.csv").write_bytes("a,b\n1,ü".encode(encoding)[:-1])
    ran = run("look", "cut.csv", cwd=tmp_path)
    assert ran.code == 1 and "cut.csv: ends within a character: it seems to be cut off" in ran.err + ran.out


@pytest.mark.parametrize(
    ("cell", "meant"),
    [("a | *cat*", 'a | "*cat*"'), ("not b*c", 'not "b*c"'), ("*cat*", '"*cat*"'), ("<x", '"<x"')],
)
def test_the_cure_of_a_sign_within_a_text_is_a_condition_that_means_it(cell, meant):
    with pytest.raises(kivvet.TableError) as error:
        TABLE("t", {"x": "text"}, Y, [[cell, "1"]])
    assert meant in error.value.findings[0].remedy
    assert TABLE("t", {"x": "text"}, Y, [[meant, "1"]]).check() is not None


def test_the_target_that_is_named_instead_of_one_in_use_is_free(tmp_path):
    entry = '[datasets.{}]\nsource = "d.csv"\ntarget = "{}"\n'
    targets = {"a": "out/b.parquet", "b": "out/b.parquet", "c": "out/b_2.parquet"}
    (tmp_path / "d.csv").write_text("x\n1\n")

    def faults():
        (tmp_path / "book.toml").write_text("".join(entry.format(*one) for one in targets.items()))
        return [one for one in kivvet.open_book(tmp_path).check() if one.severity == "error"]

    (fault,) = faults()
    targets["b"] = fault.remedy.partition('target = "')[2].strip('"')
    assert faults() == []
