"""Rules taken over from SQL: generated CASEs against a real SQL engine, row by row; what is not understood is said with its place."""

import shutil

import duckdb
import pandas as pd
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kivvet
from tests.conftest import budget, write_book

NUMBERS = ["0", "1", "2.5", "-1", "10", "NULL"]
TEXTS = ["'a'", "'B'", "'C35'", "'C3'", "''", "NULL", "'it''s'"]
PROBES = pd.DataFrame(
    [
        {"x": x, "y": y, "s": s}
        for x in (None, -1.0, 0.0, 0.5, 2.5, 3.0, 10.0)
        for y in (None, 1.0, 2.0)
        for s in (None, "a", "B", "C35", "C3x", "it's")
    ]
)
COMPARED = st.sampled_from(["=", "<>", "<", "<=", ">", ">=", "!="])


@st.composite
def one_column(draw):
    """Return a test of one column, as SQL."""
    kind = draw(st.sampled_from(["compare", "in", "between", "null", "like", "turned"]))
    is_text = draw(st.booleans())
    name, values = ("s", TEXTS) if is_text else (draw(st.sampled_from(["x", "Y", '"y"'])), NUMBERS)
    negated = draw(st.sampled_from(["", "NOT "]))
    one, other = draw(st.sampled_from(values)), draw(st.sampled_from(values))
    if kind == "in":
        listed = ", ".join(draw(st.lists(st.sampled_from(values), min_size=1, max_size=3)))
        return f"{name} {negated}IN ({listed})"
    if kind == "between":
        return f"{name} {negated}BETWEEN {one} AND {other}"
    if kind == "null":
        return f"{name} IS {negated}NULL"
    if kind == "like":
        return f"s {negated}LIKE {draw(st.sampled_from(['C3%', '%', 'a', '%5', 'C_5', 'C35%']).map(repr))}"
    if kind == "turned":
        return f"{one} {draw(COMPARED)} {name}"
    return f"{name} {draw(COMPARED)} {one}"


def conditions(depth=2):
    one = one_column() | st.sampled_from(["x + y > 3", "x > y", "COALESCE(y, 0) < 2"])
    return st.recursive(
        one,
        lambda inner: st.one_of(
            st.tuples(inner, st.sampled_from(["AND", "OR"]), inner).map(lambda p: f"({p[0]} {p[1]} {p[2]})"),
            inner.map(lambda part: f"NOT ({part})"),
        ),
        max_leaves=4,
    )


RESULTS = st.sampled_from(["'p'", "'q'", "'missing'", "'= r'", "NULL"])


@st.composite
def cases(draw, depth=2):
    """Return a CASE as SQL, nested in results."""
    result = RESULTS if not depth else RESULTS | cases(depth - 1)
    if draw(st.booleans()) and depth:
        branches = draw(st.lists(st.tuples(st.sampled_from(TEXTS), result), min_size=1, max_size=3))
        body = "s " + " ".join(f"WHEN {asked} THEN {gives}" for asked, gives in branches)
    else:
        branches = draw(st.lists(st.tuples(conditions(), result), min_size=1, max_size=4))
        body = " ".join(f"WHEN {asked} THEN {gives}" for asked, gives in branches)
    end = f" ELSE {draw(result)}" if draw(st.booleans()) else ""
    return f"CASE {body}{end} END"


@pytest.fixture(scope="module")
def empty(tmp_path_factory):
    changes = dict.fromkeys(("tables/ph_class.toml", "tables/station.toml", "tables/station.csv"))
    return write_book(tmp_path_factory.mktemp("adopt") / "book", {"book.toml": "", **changes})


@settings(max_examples=budget(33), suppress_health_check=[HealthCheck.too_slow])
@given(sql=cases())
def test_a_table_gives_what_the_case_gave_in_a_sql_engine(empty, sql):
    probes = PROBES
    expected = duckdb.sql(f"SELECT {sql} AS k FROM probes").df()["k"]
    try:
        (one,) = kivvet.open_book(empty).adopt(sql=sql, name="k", on=probes).rules
    except kivvet.DataError as error:  # a CASE of nothing but constants, or of no column that is compared
        assert "no CASE" in str(error) or "another type" in str(error) or "could be taken" in str(error), sql
        return
    folder = empty.parent / "applied"
    shutil.rmtree(folder, ignore_errors=True)
    shutil.copytree(empty, folder)
    (folder / "tables").mkdir(exist_ok=True)
    (folder / "tables/k.toml").write_text('severity = { gap = "note", overlap = "error" }\n' + one.text)
    got = kivvet.open_book(folder).apply(PROBES, ["k"])["k"]
    assert [None if pd.isna(a) else a for a in got] == [None if pd.isna(a) else a for a in expected], one.text


def test_every_proof_is_right(empty):
    book = kivvet.open_book(empty)
    frame = PROBES.assign(
        old=[
            "p" if x is not None and x < 1 else "q"
            for x in PROBES["x"].astype(object).where(PROBES["x"].notna(), None)
        ]
    )
    made = book.adopt(
        sql="CASE WHEN x < 1 THEN 'p' WHEN x >= 1 THEN 'q' END", name="k", on=frame, against="old"
    )
    (proof,) = made.proofs
    missing = int(PROBES["x"].isna().sum())
    assert (proof.rows, proof.differing, proof.odd, proof.unmatched) == (len(frame), 0, missing, missing)
    assert proof.pairs == (("q", "(nothing)", missing),)
    assert [one.before for one in proof.examples] == ["q"] * 5


QUERY = """\
-- what the lab works out
WITH t AS (SELECT CASE WHEN a.x < 1 THEN 1 WHEN A.X < 2 THEN 2 ELSE 3 END AS step FROM a)
SELECT [s], x * 2 AS "twice x", CASE `s` WHEN 'a' THEN 'vowel' END kind, /* a comment; */ SUM(x) OVER (PARTITION BY s) AS total
FROM t JOIN u ON t.id = u.id WHERE x > 0 AND s <> ';' GROUP BY s;
"""


def test_a_query_gives_tables_and_formulas(tmp_path, empty, run):
    folder = tmp_path / "book"
    shutil.copytree(empty, folder)
    (folder / "q.sql").write_text(QUERY)
    ran = run("adopt", "q.sql", "--write", cwd=folder)
    assert ran.code == 0
    assert (folder / "tables/step.toml").read_text().splitlines() == [
        'note = "taken over from q.sql, line 2"',
        'inputs.x = "number"',
        'outputs.step = "integer"',
        'missing   = { step = "3" }',
        'otherwise = { step = "3" }',
        "",
        "rows = [",
        '  ["< 1",     "1"],',
        '  ["1 to <2", "2"],',
        "]",
    ]
    assert '["a", "vowel"],' in (folder / "tables/kind.toml").read_text()
    formulas = (folder / "formulas.toml").read_text().splitlines()
    assert formulas == ['"twice x" = "x * 2"', 'total = "SUM(x) OVER (PARTITION BY s)"']
    assert "JOIN is not taken over" in ran.out
    assert "WHERE x > 0 AND s <> ';' is not taken over" in ran.out
    assert run("check", "--no-data", cwd=folder).code == 0
    again = run("adopt", "q.sql", "--write", cwd=folder)
    assert again.code != 0
    assert "there is a table 'step' already" in again.err


@pytest.mark.parametrize(
    ("sql", "said"),
    [
        ("CASE WHEN a == 1 THEN 2 END", r"query:1:13: == is no sign of the SQL standard[\s\S]*written ="),
        ("CASE WHEN a = 1 THEN 2", r"query:1:1: a CASE does not end"),
        ("CASE WHEN a = 1 THEN 2 WHEN a = 'x' THEN 3 END", "a is compared with number and with text"),
        (
            "CASE WHEN a = 1 THEN 2 WHEN a = 3 THEN 'x' END",
            "one branch gives 'x', and others integer|one branch gives 2, and others text",
        ),
        ("CASE WHEN a = (SELECT 1) THEN 2 END", r"1:16: a query within stands here"),
        ("CASE WHEN\n  NVL(a, 1) = 1 THEN 2 END", r"query:2:3: NVL is no function[\s\S]*COALESCE"),
        ("CASE WHEN foo(a) = 1 THEN 2 END", "no function 'foo'"),
        ("CASE WHEN a::int = 1 THEN 2 END", "a cast is written CAST"),
        ("CASE WHEN a = 'x THEN 2 END", "a text does not end"),
        ("CASE /* a WHEN a = 1 THEN 2 END", "a comment does not end"),
        ("CASE WHEN a = 1 ELSE 2 END", "ELSE stands after WHEN"),
        ("CASE WHEN THEN 2 END", "nothing stands after WHEN"),
        ("CASE WHEN a = 1 THEN ~2 END", "'~' is no sign of a query"),
        ("SELECT a, b FROM t", "no CASE and no expression"),
        (" ; ", "there is nothing to take over"),
        ("a", "no CASE and no expression"),
        (
            "CASE WHEN " + "(" * 5000 + "a = 1" + ")" * 5000 + " THEN 1 END",
            "brackets are nested more than 100 deep",
        ),
        ("CASE WHEN " * 300 + "a = 1" + " THEN 1 END" * 300, "at most 4,000 characters"),
    ],
)
def test_what_is_not_understood_is_said_with_its_place(empty, sql, said):
    with pytest.raises(kivvet.DataError, match=said):
        kivvet.open_book(empty).adopt(sql=sql)


def test_names_are_those_of_the_data(tmp_path, run):
    folder = write_book(tmp_path / "book")
    ran = run(
        "adopt",
        "--sql",
        "CASE WHEN PH < 7 AND Station LIKE '00%' THEN 'low' ELSE 'high' END",
        "--name",
        "band",
        "--on",
        "samples",
        cwd=folder,
    )
    assert ran.code == 0
    assert '["ph",  "station", "band"],' in ran.out
    assert "gives what it gave before in all of 4 rows" in ran.out
    ran = run("adopt", "--sql", "CASE WHEN phh < 7 THEN 'low' END", "--on", "samples", cwd=folder)
    assert "reads 'phh', which is no column of samples" in ran.err
    assert "did you mean 'ph'" in ran.err
    assert run("adopt", cwd=folder).code == 2
    assert "no such file" in run("adopt", "none.sql", cwd=folder).err.lower()


def test_long_and_deep_cases_are_taken_over(empty):
    book = kivvet.open_book(empty)
    long = (
        "CASE " + " ".join(f"WHEN code = 'K{n:05d}' THEN 'g{n % 7}'" for n in range(5000)) + " ELSE 'x' END"
    )
    table = book.adopt(sql=long, name="k").rules[0].table
    assert (table.n_rows, table.match) == (5000, "one")
    deep = "'z'"
    for n in range(64):
        deep = f"CASE WHEN x{n % 9} > {n} THEN {deep} ELSE 'e{n}' END"
    assert book.adopt(sql=deep, name="k").rules[0].table.match == "first"
