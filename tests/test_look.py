"""A look shows what is there: the planted dirt without being told where, exact counts, bounded memory."""

import datetime as dt
import json
from collections import Counter

import pandas as pd
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pyarrow import parquet

import kivvet
from kivvet.book import look_at
from kivvet.core.columns.counting import ValueCounter
from kivvet.core.draft.look import LookBuilder
from kivvet.demo.survey_data import survey_samples
from tests.conftest import budget, golden
from tests.conftest import kivvet as command


@settings(deadline=None)
@given(st.lists(st.lists(st.one_of(st.none(), st.integers(-3, 3)), max_size=6), max_size=5))
def test_counts_are_those_of_a_loop_however_the_rows_come(batches):
    builder = LookBuilder(["x"])
    for batch in batches:
        builder.see(pa.record_batch({"x": pa.array(batch, pa.int64())}))
    (one,) = builder.look().columns
    counted = Counter(str(v) for batch in batches for v in batch if v is not None)
    assert dict(one.values) == counted
    assert one.missing == sum(v is None for batch in batches for v in batch)
    assert [n for _, n in one.values] == sorted(counted.values(), reverse=True)


@pytest.mark.parametrize(
    ("fields", "kind", "said"),
    [
        (["1", "2", ""], "integer", "whole numbers"),
        (["1", "2.50", " 3"], "number", "numbers"),
        (["007", "12"], "text", "leading zeros, such as 007"),
        (["2026-01-31", "2026-02-28"], "date", "dates"),
        (["2026-01-31", "2026-02-30"], "text", "words"),
        (["2026-01-31 10:00"], "datetime", "times"),
        (["true", "false"], "boolean", "true or false"),
        (["1", "2", "3", "n/a"], "text", "not all fields are numbers"),
        (["", None], "text", "no row has a value"),
        (
            ["12345678901234567890", "1"],
            "text",
            "more digits than 64 bits hold, such as 12345678901234567890",
        ),
        (["100000000000000000000", "0.5"], "number", "numbers"),
    ],
)
def test_the_type_is_the_one_kivvet_reads_and_the_reason_is_told(fields, kind, said):
    one = kivvet.look(pa.table({"x": pa.array(fields, pa.string())}))["x"]
    assert one.type == kind
    assert said in one.reason


@pytest.mark.parametrize(
    ("values", "step"),
    [
        ([1, 2, 3], "1"),
        ([0.1, 0.3], "0.1"),
        ([5.0, 20.0], "5"),
        ([0.25, 0.5], "0.25"),
        ([0.1, 1 / 3], ""),
        ([1e17, 3.0], ""),
    ],
)
def test_how_fine_the_values_are(values, step):
    assert kivvet.look(pd.DataFrame({"x": values}))["x"].step == step


def test_range_quantiles_and_bars_account_for_every_row():
    one = kivvet.look(pd.DataFrame({"x": [*range(1, 101), None]}))["x"]
    assert (one.lowest, one.highest, one.missing) == ("1", "100", 1)
    assert one.quantiles == {"5 %": "5", "25 %": "25", "50 %": "50", "75 %": "75", "95 %": "95"}
    assert sum(rows for *_, rows in one.bars) == 100
    days = kivvet.look(pa.table({"d": pa.array([dt.date(2026, 1, 1), dt.date(2026, 3, 1)])}))["d"]
    assert (days.lowest, days.highest) == ("2026-01-01", "2026-03-01")


def hints(*values, kind=None):
    return " | ".join(kivvet.look(pa.table({"x": pa.array(values, kind)}))["x"].hints)


def test_what_deserves_another_look_is_pointed_out():
    assert "'North' (2) and 'north ' (1) differ only" in hints("North", "North", "north ", "South")
    assert "differ only by their Unicode form" in hints("é", "e\u0301")
    assert "'N/A' (1 row) looks like missing" in hints("N/A", "x")
    assert "-99 (1 row) lies apart" in hints(-99, 0, 1, 2, 3)
    assert "9999 (1 row) lies apart" in hints(9999, 0, 1, 2, 3)
    assert hints(-99, -5, 3, 4) == ""
    assert "likely a category" in hints(*[1, 2, 3] * 20)
    assert "2 fields are numbers, 1 is not, such as 'x'" in hints("1", "2", "x")


def test_many_distinct_values_are_not_all_kept_and_the_range_is_still_exact():
    builder = LookBuilder(["n", "t"], most_distinct=100)
    builder.counters = {"n": ValueCounter(100), "t": ValueCounter(100)}
    import kivvet.core.columns.counting as counting

    before = counting._COMPACT_AT
    counting._COMPACT_AT = 50
    try:
        for start in range(0, 1000, 100):
            builder.see(
                pa.record_batch(
                    {
                        "n": [str(n / 2) for n in range(start, start + 100)],
                        "t": [f"t{n}" for n in range(start, start + 100)],
                    }
                )
            )
    finally:
        counting._COMPACT_AT = before
    n, t = builder.look().columns
    assert (n.is_counted, n.distinct, n.lowest, n.highest, n.step, n.type) == (
        False,
        100,
        "0",
        "499.5",
        "0.5",
        "number",
    )
    assert abs(float(n.quantiles["50 %"].removeprefix("about ")) - 250) < 10
    assert sum(rows for *_, rows in n.bars) == 1000
    assert (t.is_counted, t.longest) == (False, 4)


def test_the_planted_dirt_of_the_survey_shows():
    look = kivvet.look(survey_samples())
    assert look["station"].reason.startswith("leading zeros")
    said = {one.name: " ".join(one.hints) for one in look.columns}
    assert "'PR ' (15)" in said["method"] and "'NA'" in said["method"]
    assert "-9 (57 rows)" in said["oxygen"]
    assert list(look.to_frame()["name"]) == survey_samples().column_names


def test_the_command_shows_all_columns_or_one_in_full(survey):
    golden("survey_look.txt", command("look", "data/samples.csv", cwd=survey).out)
    golden("survey_look_column.txt", command("look", "samples", "oxygen", "method", cwd=survey).out)
    everything = command("look", "samples", "habitat", "--all", cwd=survey).out
    assert everything.count(" %") == 301
    assert '"version": 1' in command("look", "samples", "--json", cwd=survey).out


def test_what_cannot_be_looked_at_is_said(survey):
    (survey / "data/none.csv").write_text("a,b\n")
    for arguments, code, said in [
        (["data/nowhere.csv"], 2, "no such file"),
        (["data/none.csv"], 1, "no rows"),
        (["samples", "oxigen"], 1, "did you mean 'oxygen'"),
        (["samples.doc"], 2, "of a kind"),
    ]:
        ran = command("look", *arguments, cwd=survey)
        assert (ran.code, ran.out) == (code, "")
        assert said in ran.err


def test_of_thousands_of_columns_the_first_are_looked_at_and_the_rest_is_counted(tmp_path, run):
    names = [f"c{number}" for number in range(1_003)]
    (tmp_path / "wide.csv").write_text(f"{','.join(names)}\n{','.join('1' * 1_003)}\n")
    made = look_at(None, tmp_path / "wide.csv")
    assert isinstance(made, kivvet.Look)  # which lets notebooks show it
    assert len(made.columns) == 1_000 and made.n_more == made.as_dict()["columns_left_out"] == 3
    assert "3 more columns" in made._repr_html_() and "1,003" in made._repr_html_()
    out = run("look", "wide.csv", cwd=tmp_path).out
    assert "1,003 columns" in out and "... and 3 more columns" in out
    assert [one.name for one in look_at(None, tmp_path / "wide.csv", ["c1002"]).columns] == ["c1002"]


def test_texts_of_files_with_types_are_recognised_and_added_as_look_says(tmp_path, run):
    days = [f"{day:02}.03.2026" for day in range(1, 29)]
    table = pa.table(
        {"day": days, "at": [f"2026-03-{day:02}T10:00" for day in range(1, 29)], "code": ["007"] * 28}
    )
    with (tmp_path / "a.jsonl").open("w") as file:
        file.writelines(json.dumps(row) + "\n" for row in table.to_pylist())
    parquet.write_table(table, tmp_path / "a.parquet")
    (tmp_path / "book.toml").write_text("")
    (tmp_path / "tables").mkdir()
    for name in ("a.jsonl", "a.parquet"):
        dataset = name.replace(".", "_")
        assert run("add", dataset, name, cwd=tmp_path).code == 0
        bare, added = look_at(None, tmp_path / name), kivvet.open_book(tmp_path).look(dataset)
        kinds = {"day": "date", "at": "datetime", "code": "text"}
        assert {one.name: one.type for one in bare.columns} == kinds
        assert [(one.type, one.lowest, one.values) for one in bare.columns] == [
            (one.type, one.lowest, one.values) for one in added.columns
        ]
        expression = "EXTRACT(DAY FROM day) + EXTRACT(HOUR FROM at)"
        assert run("formula", expression, "--on", dataset, cwd=tmp_path).code == 0


STRAY_COLUMNS = {
    "date": lambda n: f"{dt.date(2024, 1, 1) + dt.timedelta(days=n % 300)}",
    "datetime": lambda n: f"2024-03-01 {n % 24:02}:30",
    "integer": lambda n: str(n % 70),
    "number": lambda n: f"{n % 70}.5",
}


@settings(deadline=None)
@given(
    st.sampled_from(sorted(STRAY_COLUMNS)),
    st.integers(40, 200),
    st.sampled_from(["Sum", "n/a", "it's", "?", 'a "b"', "-"]),
    st.data(),
)
def test_a_stray_value_is_named_with_its_row_and_each_proposal_taken_literally_works(
    tmp_path_factory, kind, n_rows, stray, data
):
    path = tmp_path_factory.mktemp("stray") / "d.csv"
    fields = [STRAY_COLUMNS[kind](n) for n in range(n_rows)]
    row = data.draw(st.integers(1, n_rows - 2))
    fields[row] = stray
    pd.DataFrame({"the day": fields, "other": "x"}).to_csv(path, index=False)
    seen = look_at(None, path)["the day"]
    assert seen.type == kind and seen.strays == ((stray, 1),)
    (hint,) = [one for one in seen.hints if "leave_out" in one]
    assert hint.startswith(f"{stray!r} in row {row + 1} is not a")
    for begins, rows in (("missing_words = ", n_rows), ("leave_out = ", n_rows - 1)):
        said = begins + hint.partition(begins)[2].partition("; or that")[0]
        made = look_at(None, path, read_as=said)
        assert (made.rows, made["the day"].type) == (rows, kind), said


FOREIGN_COLUMNS = {
    "date": lambda n: f"{dt.date(2024, 1, 1) + dt.timedelta(days=n % 300):%d.%m.%Y}",
    "number": lambda n: f"{n % 70},5",
}


@settings(deadline=None, max_examples=budget(40))
@given(
    st.sampled_from(sorted(FOREIGN_COLUMNS)),
    st.lists(st.sampled_from(["Summe", "k.A.", "?"]), min_size=1, max_size=3, unique=True),
    st.integers(70, 120),
)
def test_what_look_says_of_a_column_with_strays_add_writes_and_draft_uses(
    tmp_path_factory, kind, odd, n_rows
):
    folder = tmp_path_factory.mktemp("strays")
    fields = [FOREIGN_COLUMNS[kind](n) for n in range(n_rows)]
    for place, text in enumerate(odd, 1):
        fields[20 * place] = text
    pd.DataFrame({"day": fields, "n": range(n_rows)}).to_csv(folder / "d.csv", sep=";", index=False)
    seen = look_at(None, folder / "d.csv")["day"]
    assert seen.type == kind and {text for text, _ in seen.strays} == set(odd)
    kivvet.new_book(folder)
    added = kivvet.open_book(folder).add("d", folder / "d.csv")
    assert all(any(f"column day: {text!r} is not a" in one for one in added.remarks) for text in odd)
    drafted = kivvet.open_book(folder).draft("band", "d", column="day", bins=3)
    assert len(drafted.strays) == len(odd) and drafted.table.inputs[0].type == kind
    assert sum(int(row.note.split()[0]) for row in drafted.table.rows) == n_rows - len(odd)
    (folder / "book.toml").write_text(
        (folder / "book.toml").read_text() + f"missing_words = {json.dumps(odd, ensure_ascii=False)}\n"
    )
    made = kivvet.open_book(folder).look("d")["day"]
    assert (made.type, made.missing, made.strays) == (kind, len(odd), ())
