"""What bad input gets: a message with place, expected, found and cure; the exit code; nothing half-written.

The messages are in tests/cases/bad_input, to be read as prose.
"""

import pytest

from tests.conftest import SMALL_BOOK, golden, kivvet, write_book

BOOK, PH, STATION = (
    SMALL_BOOK["book.toml"],
    SMALL_BOOK["tables/ph_class.toml"],
    SMALL_BOOK["tables/station.toml"],
)
SAMPLES = SMALL_BOOK["data/samples.csv"]


def rules(*rows, head='"ph", "remark", "when", "ph_class"', more=""):
    lines = "".join(f"  [{row}],\n" for row in (head, *rows))
    return (
        PH.split("rows")[0].replace("outputs", 'inputs.remark = "text"\noutputs', 1)
        + f"{more}rows = [\n{lines}]\n"
    )


# name: (exit code, command, changed files)
CASES = {
    "source_is_not_there": (2, "apply", {"data/samples.csv": None, "data/sample.csv": SAMPLES}),
    "source_is_of_an_unknown_kind": (
        1,
        "apply",
        {"book.toml": BOOK.replace("samples.csv", "samples.doc", 1)},
    ),
    "headings_stand_further_down": (
        1,
        "check",
        {
            "tables/station.csv": "Stations,,,\nof 2026,,,\nkeeper,Station no.,opened,river\nIda,007,,Elm\n",
            "data/samples.csv": "Samples\n\n" + SAMPLES,
        },
    ),
    "headings_on_line_is_no_number": (
        1,
        "check",
        {
            "tables/station.toml": STATION + "headings_on_line = 0\n",
            "book.toml": BOOK + 'headings_on_line = "first"\n',
        },
    ),
    "table_is_not_there": (1, "apply", {"book.toml": BOOK.replace('"ph_class"', '"ph_clas"')}),
    "column_is_not_there": (1, "apply", {"data/samples.csv": SAMPLES.replace("ph,", "pH,")}),
    "column_of_types_is_not_there": (1, "apply", {"book.toml": BOOK.replace("{ station =", "{ staton =")}),
    "output_of_keep_is_not_there": (1, "apply", {"book.toml": BOOK.replace('["river"]', '["rivers"]')}),
    "two_tables_make_one_column": (
        1,
        "apply",
        {"book.toml": BOOK.replace('keep = ["river"]', 'keep = { river = "ph_class" }')},
    ),
    "made_column_is_in_the_source": (
        1,
        "apply",
        {"book.toml": BOOK.replace('keep = ["river"]', 'keep = { river = "remark" }')},
    ),
    "columns_in_a_cycle": (
        1,
        "apply",
        {
            "book.toml": BOOK.replace('["ph_class", {', '["a", "b", {'),
            "tables/a.toml": 'inputs.b = "text"\noutputs.a = "text"\nrows = [["x", "y"]]\n',
            "tables/b.toml": 'inputs.a = "text"\noutputs.b = "text"\nrows = [["x", "y"]]\n',
        },
    ),
    "csv_row_is_ragged": (1, "apply", {"data/samples.csv": SAMPLES + "5,007,6\n6,007,6,,,\n"}),
    "csv_is_not_utf8": (
        1,
        "apply",
        {"data/samples.csv": SAMPLES.replace("brown", "br\xfcn").encode("latin-1")},
    ),
    "csv_is_empty": (1, "apply", {"data/samples.csv": ""}),
    "field_is_no_number": (1, "apply", {"data/samples.csv": SAMPLES.replace("8.5", "8,5".join('""'))}),
    "target_cannot_be_written": (
        2,
        "apply",
        {"book.toml": BOOK.replace("out/samples.csv", "book.toml/samples.csv")},
    ),
    "target_is_a_folder": (2, "apply", {"out/samples.csv/x": "x"}),
    "target_is_the_source": (1, "apply", {"book.toml": BOOK.replace("out/", "data/")}),
    "result_is_of_another_type": (
        1,
        "check",
        {"tables/ph_class.toml": PH.replace('"text", width = 12', '"integer"')},
    ),
    "result_is_too_wide": (1, "check", {"tables/ph_class.toml": PH.replace("width = 12", "width = 7")}),
    "lookup_field_is_no_date": (
        1,
        "check",
        {"tables/station.csv": SMALL_BOOK["tables/station.csv"].replace("2001-02-03", "03.02.2001")},
    ),
    "lookup_column_is_not_there": (
        1,
        "check",
        {"tables/station.csv": SMALL_BOOK["tables/station.csv"].replace("river", "River")},
    ),
    "lookup_file_is_not_there": (1, "check", {"tables/station.csv": None}),
    "rows_file_is_ragged": (
        1,
        "check",
        {
            "tables/ph_class.toml": PH.split("rows")[0] + 'rows = "ph.csv"\n',
            "tables/ph.csv": "ph,ph_class\n< 6.5,acidic,x\n>= 6.5,other\n",
        },
    ),
    "rows_file_has_other_headings": (
        1,
        "check",
        {
            "tables/ph_class.toml": PH.split("rows")[0] + 'rows = "ph.csv"\n',
            "tables/ph.csv": "ph,class\n< 6.5,acidic\n",
        },
    ),
    "cells_are_no_conditions": (
        1,
        "check",
        {"tables/ph_class.toml": PH.replace("6.5 to <8.5", "6.5 - 8.5").replace(">= 8.5", "over 8,5")},
    ),
    "toml_is_broken": (1, "check", {"tables/ph_class.toml": PH.replace('"acidic"],', '"acidic"]')}),
    "keywords_are_unknown": (
        1,
        "check",
        {"tables/ph_class.toml": PH.replace("missing", "mising").replace("width", "widht")},
    ),
    "rows_stand_under_a_heading": (
        1,
        "check",
        {"tables/ph_class.toml": PH.replace("outputs.ph_class =", "[outputs]\nph_class =")},
    ),
    "rules_have_too_few_and_too_many_cells": (
        1,
        "check",
        {"tables/ph_class.toml": rules('"< 6.5", "", "acidic"', '">= 6.5", "", "", "other", "x"')},
    ),
    "rules_lack_the_row_of_headings": (
        1,
        "check",
        {"tables/ph_class.toml": rules('"< 6.5", "", "", "acidic"', head='"< 5", "", "", "x"')},
    ),
    "rules_name_a_column_twice": (
        1,
        "check",
        {
            "tables/ph_class.toml": rules(
                '"< 6.5", "", "", "", "acidic"', head='"ph", "ph", "remark", "when", "ph_class"'
            )
        },
    ),
    "rules_read_a_column_the_data_lacks": (
        1,
        "apply",
        {
            "tables/ph_class.toml": rules(
                '"", "", "flow > 5", "x"', '"", "", "", "y"', more='match = "first"\n'
            )
        },
    ),
    "whens_are_no_conditions": (
        1,
        "check",
        {
            "tables/ph_class.toml": rules(
                '"", "", "ph >", "a"',
                '"", "", "ph == 3", "b"',
                '"", "", "remark > 5", "c"',
                '"", "", "id > 5 AND id = \'x\'", "d"',
                '"", "", "(ph > 3", "e"',
                '"", "", "seen > 2026-04-01", "f"',
                '"", "", "1 < 2", "g"',
                '"5-9", "", "ph + \'x\' = 2", "h"',
            )
        },
    ),
    "rules_overlap_in_data_only": (
        1,
        "apply",
        {
            "tables/ph_class.toml": rules(
                '"present", "", "id > 1 OR id = 9", "a"',
                '"", "missing", "id < 2 OR id = 4", "b"',
                '"< 6.5", "present", "", "c"',
                '"", "present", "", "d"',
                more='otherwise = { ph_class = "none" }\n[severity]\noverlap = "warning"\n',
            ).replace('[severity]\noverlap = "warning"\n', "")
        },
    ),
    "a_given_is_broken": (
        0,
        "check",
        {"tables/ph_class.toml": rules('"", "", "", "x"', more='given = ["ph < id + 5"]\nmatch = "first"\n')},
    ),
    "combine_without_every": (
        1,
        "check",
        {"tables/ph_class.toml": PH.replace("width = 12", 'combine = "join"')},
    ),
    "where_that_is_no_condition_and_unknown_names": (
        1,
        "check",
        {
            "book.toml": BOOK.replace("columns = [", 'where = "ph + 1"\ncolumns = [{ formula = "x" }, '),
            "tables/ph_class.toml": PH.replace('"number", step', '"number", from = "low", step'),
        },
    ),
    "domain_points_at_another_table": (
        1,
        "check",
        {
            "tables/ph_class.toml": PH.replace('"number", step = 0.1', '"text", domain = "station.station"')
            .replace("< 6.5", "a")
            .replace("6.5 to <8.5", "b")
            .replace(">= 8.5", "c")
        },
    ),
    "many_faults_at_once": (
        1,
        "check",
        {
            "book.toml": BOOK.replace("types ", "tpyes "),
            "tables/ph_class.toml": PH.replace("< 6.5", "9 to 5").replace("neutral", ""),
            "tables/station.csv": SMALL_BOOK["tables/station.csv"]
            + "Wim,008,2001-01-01,Oak\nWim,,2001-01-01,Oak\n",
        },
    ),
}


@pytest.mark.parametrize("name", CASES)
def test_bad_input_is_explained_and_nothing_is_written(name, tmp_path):
    code, command, changes = CASES[name]
    folder = write_book(tmp_path, changes)
    before = files_of(folder)
    ran = kivvet(command, cwd=folder)
    golden(f"bad_input/{name}.txt", ran.all)
    assert ran.code == code
    assert files_of(folder) == before


def files_of(folder):
    return {
        path: path.read_bytes()
        for path in folder.rglob("*")
        if path.is_file() and ".kivvet" not in path.parts
    }


def test_what_is_no_book_is_said(tmp_path):
    ran = kivvet("check", cwd=tmp_path)
    assert (ran.code, ran.out) == (2, "")
    assert "is not a book" in ran.err and "kivvet new" in ran.err
    assert "no such folder" in kivvet("check", "--book", "nowhere", cwd=tmp_path).err
    write_book(tmp_path / "below")
    assert "there is one in: below" in kivvet("check", cwd=tmp_path).err


def test_unknown_names_on_the_command_line_get_the_near_one(small_book):
    for arguments in (["check", "ph_clas"], ["apply", "sample"], ["status", "sample"]):
        ran = kivvet(*arguments, cwd=small_book)
        assert ran.code == 2
        assert "did you mean" in ran.err
    assert kivvet("check", "--jsn", cwd=small_book).code == 2
    assert kivvet("aply", cwd=small_book).code == 2


LARGE = {
    "number": ('note = "n"\nx = ' + "9" * 5_000 + "\n", "a number of more than 4,300 digits stands here: 9999"),
    "text": ('note = "' + "x" * 2_000_000 + '"\n', "a text or a word that is very long stands here"),
    "word": ("k" * 500_000 + " = 1\n", "a text or a word that is very long stands here: kkkk"),
    "words": ("".join(f"k{n} = 1\n" for n in range(20_000)), "20,000 words are no keywords of a table, such as 'k0', 'k1'"),
    "lists": ("x = " + "[" * 5_000 + "]" * 5_000 + "\n", "lists are nested too deeply"),
}  # fmt: skip


@pytest.mark.parametrize("kind", LARGE)
def test_what_is_too_large_in_a_table_is_said_where_it_stands(tmp_path, kind):
    text, problem = LARGE[kind]
    folder = write_book(tmp_path, {"tables/ph_class.toml": text + SMALL_BOOK["tables/ph_class.toml"]})
    ran = kivvet("check", cwd=folder)
    assert ran.code == 1 and problem in ran.out and "tables/ph_class.toml" in ran.out
    assert len(ran.out) < 20_000
