"""Drafts are complete from the start, exact on clean examples, and leave existing lines as they are."""

import datetime as dt
import itertools
from decimal import Decimal

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.draft.breaks import AT_VALUES, METHODS, propose_bounds
from kivvet.core.draft.typed_values import half_open
from kivvet.core.read.table_parser import parse_table
from kivvet.core.words.conditions import write_condition
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import fold_text
from kivvet.rule_table import rule_table, value_of
from tests.conftest import budget, golden
from tests.conftest import kivvet as command
from tests.strategies import odd_texts, texts


def read_again(table):
    import tomllib
    from decimal import Decimal

    parts, findings = parse_table(table.name, tomllib.loads(str(table), parse_float=Decimal))
    assert findings == []
    return rule_table(parts)


@settings(deadline=None)
@given(st.lists(st.one_of(st.none(), texts, odd_texts), min_size=1, max_size=12))
def test_a_drafted_mapping_has_a_row_for_each_value_most_frequent_first_and_prints_as_its_file(values):
    assume(any(values))
    table = kivvet.draft(pa.table({"x": pa.array(["word", *values])}), "x", name="t")
    counts = pd.Series(["word", *values]).value_counts()
    assert counts[table.rows[0].conditions[0].value] == counts.max()
    assert {row.conditions[0].value for row in table.rows} == set(counts.index)
    again = read_again(table)
    assert [row.conditions for row in again.rows] == [row.conditions for row in table.rows]
    assert len(again.check().of_kind("unfinished")) == len(counts)
    assert not again.check().has_errors


@settings(deadline=None)
@given(
    st.lists(
        st.one_of(st.integers(-50, 50).map(lambda n: n / 10), st.floats(-1e6, 1e6), st.none()),
        min_size=1,
        max_size=30,
    ),
    st.sampled_from(METHODS),
    st.integers(1, 7),
)
@example([0.0, 0.1, -0.1, 1.0, 2.0, 6.433395607110451e-206], "counts", 6)
def test_drafted_bins_leave_no_gap_and_no_overlap_and_count_every_row(values, method, n_bins):
    present = [v for v in values if v is not None]
    assume(present and (len(set(present)) >= n_bins or method not in AT_VALUES))
    table = read_again(
        kivvet.draft(pa.table({"x": pa.array(values, pa.float64())}), "x", propose=method, bins=n_bins)
    )
    assert {one.kind for one in table.check()} <= {"unfinished"}
    drafted = kivvet.draft(pa.table({"x": pa.array(values, pa.float64())}), "x", propose=method, bins=n_bins)
    rows = [int(row.note.split()[0].replace(",", "")) for row in drafted.rows]
    report = drafted.apply_with_report(pa.table({"x": pa.array(values, pa.float64())})).report.tables[0]
    assert rows == list(report.rows_by_row)
    assert sum(rows) == len(present)


@settings(deadline=None, max_examples=budget(40))
@given(st.lists(st.integers(0, 25), min_size=3, max_size=8, unique=True), st.integers(2, 4), st.randoms())
def test_natural_breaks_are_the_best_there_are(values, n_bins, random):
    import itertools

    numbers = np.array(sorted(values), float)
    weights = np.array([random.randint(1, 4) for _ in numbers])
    n_bins = min(n_bins, len(numbers))

    def spread(breaks):
        parts = np.split(np.arange(len(numbers)), np.searchsorted(numbers, breaks))
        total = 0.0
        for part in parts:
            mean = np.average(numbers[part], weights=weights[part])
            total += float((weights[part] * (numbers[part] - mean) ** 2).sum())
        return total

    best = min(spread(list(chosen)) for chosen in itertools.combinations(numbers[1:], n_bins - 1))
    assert spread(propose_bounds(numbers, weights, "natural", n_bins)) == pytest.approx(best, abs=1e-6)


def test_bounds_of_each_kind_on_numbers_one_can_check_by_hand():
    frame = pd.DataFrame({"x": [0, 1, 2, 3, 10, 11, 12, 13, 98, 99, 100] * 3})

    def ranges(**options):
        return [
            str(line).split('"')[1]
            for line in str(kivvet.draft(frame, "x", **options)).splitlines()
            if line.startswith("  [")
        ]

    assert ranges(propose="width", bins=2) == ["< 50", ">= 50"]
    assert ranges(propose="counts", bins=3) == ["< 10", "10 to <98", ">= 98"]
    assert ranges(propose="natural", bins=3) == ["< 10", "10 to <98", ">= 98"]
    assert ranges(propose="round", bins=5) == ["< 20", "20 to <40", "40 to <60", "60 to <80", ">= 80"]
    assert ranges(bounds=[5, 50.5]) == ["< 5", "5 to <50.5", ">= 50.5"]
    days = pd.DataFrame({"x": pd.date_range("2024-02-01", "2026-05-01")})
    table = kivvet.draft(days, "x", bins=3)
    assert [line.split('"')[1] for line in str(table).splitlines() if line.startswith("  [")] == [
        "< 2025-01-01",
        "2025-01-01 to <2026-01-01",
        ">= 2026-01-01",
    ]


@settings(deadline=None)
@given(
    st.lists(st.integers(-40, 40), min_size=1, max_size=4, unique=True),
    st.lists(st.integers(-60, 60), min_size=1, max_size=40),
    st.booleans(),
)
def test_a_table_applied_and_drafted_back_classifies_the_same(bounds, values, is_fine):
    scale = 10 if is_fine else 1
    edges = sorted(bound / scale for bound in bounds)
    rows = [
        [f"< {edges[0]}", "c0"],
        *([f"{a} to <{b}", f"c{n}"] for n, (a, b) in enumerate(itertools.pairwise(edges), 1)),
        [f">= {edges[-1]}", "c0"],
    ]
    table = kivvet.RuleTable("t", {"x": "number"}, {"y": "text"}, rows, missing={"y": "none"})
    data = pd.DataFrame({"x": [*(value / scale for value in values), None]})
    done = table.apply(data)
    drafted = kivvet.draft(done, "x", classes="y", output="z")
    assert drafted.drafted.reproduced == drafted.drafted.rows == len(done)
    assert not drafted.check().has_errors
    assert (read_again(drafted).apply(done)["z"].astype("str") == done["y"].astype("str")).all()


@settings(deadline=None)
@given(st.dictionaries(st.one_of(texts, odd_texts), st.sampled_from("pqr"), min_size=1, max_size=6))
def test_a_mapping_applied_and_drafted_back_classifies_the_same(classes):
    frame = pd.DataFrame({"x": [*classes, "word"], "y": [*classes.values(), "p"]})
    drafted = kivvet.draft(frame, "x", classes="y", output="z")
    assert drafted.drafted.reproduced == len(frame)
    assert read_again(drafted).apply(frame)["z"].tolist() == frame["y"].tolist()


def test_rows_that_contradict_each_other_are_listed_and_the_count_is_true():
    frame = pd.DataFrame(
        {"x": ["a", "a", "a", "b", None, None, "c"], "y": ["p", "p", "q", "r", "m", "n", None]}
    )
    report = kivvet.draft(frame, "x", classes="y").drafted
    assert (report.rows, report.reproduced) == (6, 4)
    assert report.contradictions == (
        ("a", (("p", 2, 1), ("q", 1, 3))),
        ("missing", (("m", 1, 5), ("n", 1, 6))),
    )


@pytest.mark.parametrize(
    ("data", "options", "said"),
    [
        ({"x": []}, {}, "no rows"),
        ({"x": [None, None]}, {}, "all 2 rows are missing"),
        ({"x": ["a"]}, {"propose": "width"}, "numbers or dates"),
        ({"x": [1.5]}, {"bounds": [3, 2]}, "do not rise"),
        ({"x": [1.5]}, {"bounds": ["high"]}, "not a number"),
        ({"x": [1.5]}, {"propose": "best"}, "no way"),
        ({"y": [1.5]}, {}, "no column"),
        ({"x": [f"t{n}" for n in range(100_001)]}, {}, "at most 100,000"),
        ({"x": ["a"], "y": [None]}, {"classes": "y"}, "both a value and a class"),
    ],
)
def test_what_cannot_be_drafted_is_said(data, options, said):
    with pytest.raises(DataError) as caught:
        kivvet.draft(pd.DataFrame(data), "x", **options)
    assert said in str(caught.value)


# In a book


def test_from_raw_data_to_a_complete_table_in_two_commands_and_an_editor(survey):
    ran = command("draft", "group", "--on", "samples", "--column", "method", cwd=survey)
    golden("draft_mapping.txt", ran.out)
    path = survey / "tables/group.toml"
    path.write_text(path.read_text().replace(', ""', ', "net"'))
    assert command("check", "group", "--no-data", cwd=survey).code == 0
    golden(
        "draft_bins.txt",
        command(
            "draft", "warmth", "--on", "samples", "--column", "temperature", "--bins", "4", cwd=survey
        ).out,
    )
    path = survey / "tables/warmth.toml"
    for label in ("cold", "cool", "mild", "warm", "hot"):
        path.write_text(path.read_text().replace('""', f'"{label}"', 1))
    assert command("check", "warmth", cwd=survey).out.endswith("\n0 errors, 0 warnings, 1 note in 1 table\n")
    assert "no dataset uses it" in command("check", "warmth", "--in-full", cwd=survey).out


def test_a_lookup_is_drafted_with_types_and_its_file_beside_it(survey):
    golden(
        "draft_lookup.txt",
        command(
            "draft",
            "place",
            "--on",
            "tables/station.csv",
            "--key",
            "Station no.",
            "--keep",
            "river",
            "--keep",
            "opened",
            cwd=survey,
        ).out,
    )
    table = kivvet.open_book(survey).table("place")
    assert [one.type for one in (*table.inputs, *table.outputs)] == ["text", "text", "date"]
    assert not (survey / "tables/place.csv").exists()
    again = command(
        "draft",
        "place",
        "--on",
        "tables/station.csv",
        "--key",
        "Station no.",
        "--replace",
        "--copy",
        cwd=survey,
    )
    assert "written  tables/place.csv" in again.out
    assert (survey / "tables/place.csv").read_bytes() == (survey / "tables/station.csv").read_bytes()


def test_old_work_is_turned_into_its_table(survey):
    data = (
        "ph,verdict\n"
        + "".join(f"{n / 10},{'sour' if n < 65 else 'fine' if n < 85 else 'soapy'}\n" for n in range(50, 95))
        + "7.0,sour\n"
    )
    (survey / "old.csv").write_text(data)
    ran = command("draft", "verdict", "--on", "old.csv", "--column", "ph", "--classes", "verdict", cwd=survey)
    golden("draft_examples.txt", ran.out)
    assert "step = 0.1" in (survey / "tables/verdict.toml").read_text()


BLOCKS = {
    'rows = [\n  ["a", "p"],  # the first\n  ["b", "q"]\n]\n# the end\n': 'rows = [\n  ["a", "p"],  # the first\n  ["b", "q"],\n  ["z", ""], # 2 rows\n]\n# the end\n',
    'rows = [["a", "p"], ["b", "q"]]\nmatch = "one"\n': 'rows = [["a", "p"], ["b", "q"],\n  ["z", ""], # 2 rows\n]\nmatch = "one"\n',
    'rows = [\n  ["a", "p"],\n  ["b", "q"],  # [x], y\n  ]\n': 'rows = [\n  ["a", "p"],\n  ["b", "q"],  # [x], y\n  ["z", ""], # 2 rows\n  ]\n',
}


@pytest.mark.parametrize("block", BLOCKS, ids=["comments", "one line", "indented end"])
@pytest.mark.parametrize("line_end", ["\n", "\r\n"])
def test_extending_adds_only_what_is_unknown_and_changes_no_line(tmp_path, block, line_end):
    head = '# kept\ninputs.x  =  "text"\noutputs.y = "text"\n'
    (tmp_path / "tables").mkdir()
    (tmp_path / "book.toml").write_text('title = "t"\n')
    (tmp_path / "data.csv").write_text("x\na\nz\nb\nz\n\n")
    path = tmp_path / "tables/t.toml"
    path.write_bytes((head + block).replace("\n", line_end).encode())
    assert command("draft", "t", "--extend", "--on", "data.csv", cwd=tmp_path).code == 0
    assert path.read_bytes().decode() == (head + BLOCKS[block]).replace("\n", line_end)
    again = command("draft", "t", "--extend", "--on", "data.csv", cwd=tmp_path)
    assert again.out == "t knows every value of the data; nothing to add\n"


def test_extending_rows_in_files_keeps_their_headings_and_line_ends(survey):
    path = survey / "tables/method.csv"
    path.write_bytes(path.read_bytes().rstrip(b"\n").replace(b"\n", b"\r\n"))
    before = path.read_bytes()
    assert command("draft", "method", "--extend", "--on", "samples", cwd=survey).code == 0
    assert path.read_bytes() == before + b'\r\nXR,,39 rows\r\n"""PR """,,15 rows\r\n'
    stations = (survey / "tables/station.csv").read_bytes()
    assert command("draft", "station", "--extend", "--on", "samples", cwd=survey).code == 0
    assert (survey / "tables/station.csv").read_bytes() == stations + b"0099,,,,,,\n"


def test_nothing_is_overwritten_without_being_asked(survey):
    before = {path: path.read_bytes() for path in survey.rglob("*") if path.is_file()}
    for arguments, said in [
        (["method", "--on", "samples", "--column", "method"], "there is a table 'method' already"),
        (["new", "--on", "nowhere.csv", "--column", "x"], "no such file"),
        (["new", "--on", "samples", "--column", "metod"], "did you mean 'method'"),
        (["new", "--on", "samples"], "--column COLUMN"),
        (["a/b", "--on", "samples", "--column", "method"], "no name for a table"),
        (["ph_class", "--extend", "--on", "samples"], "has ranges, not values"),
        (["nowhere", "--extend", "--on", "samples"], "no table"),
    ]:
        ran = command("draft", *arguments, cwd=survey)
        assert ran.code in (1, 2) and said in ran.err, ran.err
    assert {path: path.read_bytes() for path in survey.rglob("*") if path.is_file()} == before
    assert (
        command("draft", "method", "--replace", "--on", "samples", "--column", "method", cwd=survey).code == 0
    )
    assert kivvet.open_book(survey).table("method").n_rows == 8


def test_dates_in_examples_get_round_bounds():
    days = [dt.date(2026, 1, 5) + dt.timedelta(n) for n in range(100)]
    frame = pa.table({"d": days, "y": ["winter" if day < dt.date(2026, 3, 1) else "spring" for day in days]})
    table = kivvet.draft(frame, "d", classes="y")
    assert [str(line).split('"')[1] for line in str(table).splitlines() if line.startswith("  [")] == [
        "< 2026-03-01",
        ">= 2026-03-01",
    ]


def held(condition, value):
    low, high = condition.lower, condition.upper
    above = low is None or value > low or (condition.lower_closed and value == low)
    return above and (high is None or value < high or (condition.upper_closed and value == high))


@given(
    st.lists(st.integers(-300, 300), min_size=1, max_size=6, unique=True).map(sorted),
    st.sampled_from([Decimal("0.1"), Decimal("0.5"), Decimal(1), Decimal("0.25"), Decimal(5)]),
)
def test_bounds_that_are_written_shorter_hold_the_same_multiples_of_the_step(places, step):
    bounds = [place * step for place in places]
    plain, shorter = half_open(bounds), half_open(bounds, step)
    for place in range(places[0] - 2, places[-1] + 3):
        value = place * step
        assert [held(one, value) for one in shorter] == [held(one, value) for one in plain]
    assert sum(len(write_condition(one)) for one in shorter) <= sum(
        len(write_condition(one)) for one in plain
    ) + len(plain)


@given(
    st.lists(st.decimals(-999, 999, places=1), min_size=12, max_size=60),
    st.sampled_from(["counts", "width", "natural", "round", "deviations"]),
    st.integers(2, 6),
)
def test_drafted_bins_are_whole_however_their_bounds_are_written(values, propose, bins):
    assume(len(set(values)) >= bins + 1)
    table = kivvet.draft(
        pa.table({"x": [float(one) for one in values]}), "x", propose=propose, bins=bins, results="{range}"
    )
    assert table.check().is_clean
    noted = [int(row.note.split()[0].replace(",", "")) for row in value_of(table).rows]
    assert sum(noted) == len(values)


@pytest.mark.parametrize(
    ("results", "classes"),
    [("cold,mild,warm", ["cold", "mild", "warm"]), (["cold", "mild", "warm"], ["cold", "mild", "warm"]), ("{number}", ["1", "2", "3"])],
)  # fmt: skip
def test_classes_are_named_in_the_order_of_the_bins(results, classes):
    table = kivvet.draft(pa.table({"x": [1.5, 9.5, 20.5]}), "x", bounds=[8, 16], results=results)
    assert [row.results[0] for row in value_of(table).rows] == classes


@pytest.mark.parametrize(
    ("column", "results", "told"),
    [
        ("x", "a,b", "2 classes for 3 bins"),
        ("x", "same", "would all be the same"),
        ("x", ["a", "", "b"], "would all be the same"),
        ("t", "a,b", "a row for each value"),
    ],
)
def test_classes_that_do_not_go_with_the_bins_are_refused(column, results, told):
    frame = pa.table({"x": [1.5, 9.5, 20.5], "t": ["p", "q", "q"]})
    more = {"bounds": [8, 16]} if column == "x" else {}
    with pytest.raises(kivvet.DataError, match=told):
        kivvet.draft(frame, column, results=results, **more)


@given(
    st.lists(odd_texts, min_size=1, max_size=12),
    st.sampled_from(["case", "space", "case,space", "case,space,unicode"]),
)
def test_values_that_fold_to_one_make_one_row_and_every_value_meets_its_row(values, fold):
    assume(any(one.strip() for one in values))
    frame = pa.table({"x": values})
    try:
        table = kivvet.draft(frame, "x", name="t", fold=fold, by_value=True)
    except kivvet.DataError:
        assume(False)  # they are no texts
    assume(value_of(table).inputs[0].type == "text")
    report = table.check()
    assert (
        not report.of_kind("overlap") and not report.of_kind("conflict") and not report.of_kind("duplicate")
    )
    compared = {fold_text(one, fold.split(",")) for one in values if one}
    assert table.n_rows <= len(compared)
    filled = kivvet.RuleTable(
        "t", {"x": {"type": "text", "fold": fold.split(",")}}, {"y": "text"}, [[write_condition(row.conditions[0]), "a"] for row in value_of(table).rows]
    )  # fmt: skip
    made = filled.apply(frame)["y"].to_pylist()
    assert all(label == "a" for label, text in zip(made, values, strict=True) if text.strip())


def test_spellings_of_one_value_are_told_with_the_option_that_joins_them(tmp_path, run):
    (tmp_path / "book.toml").write_text("")
    (tmp_path / "d.csv").write_text("tree,n\n" + "Elm,1\nELM,1\nElm ,2\nOak,3\noak,3\n")
    told = run("draft", "tree", "--on", "d.csv", "--column", "tree", cwd=tmp_path).out
    assert "5 values are 2 but for case and blanks: draft it with --fold case,space" in told
    told = run(
        "draft",
        "tree",
        "--on",
        "d.csv",
        "--column",
        "tree",
        "--fold",
        "space,case",
        "--replace",
        cwd=tmp_path,
    )
    assert 'fold = ["space", "case"]' in told.out and "# 3 rows" in told.out and "values are" not in told.out
    for asked, says in (("kase", "did you mean 'case'?"), ("case", "text for fold")):
        column = "tree" if asked == "kase" else "n"
        ran = run("draft", "x", "--on", "d.csv", "--column", column, "--fold", asked, cwd=tmp_path)
        assert ran.code == 1 and says in ran.err


@settings(deadline=None)
@given(
    st.lists(st.tuples(st.sampled_from(["a", "A", "b ", "b", "cc"]), st.sampled_from("pqrs")), min_size=1),
    st.dictionaries(st.sampled_from(["a", "B", "cc", "zz"]), st.sampled_from(["one", "two", ""])),
    st.sampled_from([(), ("case",), ("case", "space")]),
)
def test_classes_given_by_value_stand_where_the_value_does_and_notes_say_what_stands_beside_it(
    data, classes, fold
):
    frame = pd.DataFrame(data, columns=["x", "y"])
    table = kivvet.draft(frame, "x", results=classes, fold=fold, noting="y")
    given = {fold_text(value, fold): label for value, label in classes.items() if label}
    for row in table.rows:
        same = fold_text(row.conditions[0].value, fold)
        assert (str(row.results[0]) if row.results[0] in ("one", "two") else None) == given.get(same)
        held = [(x, y) for x, y in data if fold_text(x, fold) == same]
        parts = row.note.split("; ")
        assert int(parts[0].split()[0]) == len(held)
        spelled = {x for x, _ in held}
        assert (len(spelled) > 1) == ("also written" in row.note)
        beside = parts[-1].partition(" and ")[0].split(", ")
        counts = pd.Series([y for _, y in held]).value_counts()
        assert counts[beside[0]] == counts.max() and len(beside) == min(3, len(counts))
    assert read_again(table)


@settings(deadline=None)
@given(st.lists(st.integers(0, 12), min_size=4, max_size=60), st.integers(2, 5))
def test_the_bounds_told_as_nearer_to_equal_counts_are(values, bins):
    assume(len(set(values)) >= bins)
    frame = pd.DataFrame({"x": values})
    table = kivvet.draft(frame, "x", propose="counts", bins=bins)
    said = value_of(table).note
    sizes = [int(row.note.split()[0]) for row in table.rows]
    if "stay together, so that" not in said:
        assert max(sizes) - min(sizes) <= 1 or len(sizes) < bins
        return
    assert f"a bin holds {min(sizes)} to {max(sizes)} rows" in said
    if "with the bounds " in said:
        told, _, range_said = said.partition("with the bounds ")[2].partition(" it would hold ")
        better = kivvet.draft(frame, "x", bounds=told.split(","))
        held = [int(row.note.split()[0]) for row in better.rows]
        assert range_said == f"{min(held)} to {max(held)}"
        assert max(held) - min(held) < max(sizes) - min(sizes) and len(held) == bins


def test_a_file_gives_the_classes_of_the_values_and_one_that_leaves_them_open_is_refused(tmp_path, run):
    files = {
        "d.csv": "x,y\na,1\nb,1\nb,2\nc,3\n",
        "good.csv": "x;cls\na;one\nzz;two\n",
        "own.csv": "x,t,u\nb,two,9\n",
        "torn.csv": "x,cls\na,one\na,two\n",
        "open.csv": "x,p,q\na,1,2\n",
        "none.csv": "x,cls\na,\n",
    }
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    run("new", "book", cwd=tmp_path)
    book = ("--book", "book", "--on", "d.csv", "--column", "x")
    said = run("draft", "t", *book, "--results", "good.csv", "--rows-file", "--noting", "y", cwd=tmp_path)
    assert "1 value of the classes given is not in the data: 'zz'" in said.out
    rows = (tmp_path / "book/tables/t.csv").read_text()
    assert rows == 'x,t,note\na,one,1 row; 1\nb,,"2 rows; 1, 2"\nc,,1 row; 3\n'
    run("draft", "t", *book, "--replace", "--results", "own.csv", cwd=tmp_path)
    assert '["b", "two"]' in (tmp_path / "book/tables/t.toml").read_text()
    for name, says in (
        ("torn.csv", "1 value two classes or more: 'a': one, two"),
        ("open.csv", "leave open where the class of each value stands"),
        ("none.csv", "has no value with a class in column 'cls'"),
        ("nosuch.csv", "there is no such file"),
    ):
        failed = run("draft", "n", *book, "--results", name, cwd=tmp_path)
        assert failed.code and says in failed.err and "Traceback" not in failed.err


@settings(deadline=None)
@given(
    st.lists(st.floats(-1e4, 1e4).map(lambda x: round(x, 1)), min_size=8, max_size=40, unique=True),
    st.integers(2, 6),
)
def test_classes_named_in_order_get_as_many_bins(values, number):
    names = [f"c{place}" for place in range(number)]
    table = kivvet.draft(pd.DataFrame({"x": [*values, 0.05]}), "x", results=names)
    assert [row.results[0] for row in table.rows] == names
    assert sum(int(row.note.split()[0]) for row in table.rows) == len(values) + 1
