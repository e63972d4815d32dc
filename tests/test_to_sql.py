"""Tables as SQL: a real engine gives with the query what Kivvet gives with the table, for every table of the survey and generated ones."""

import duckdb
import pandas as pd
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.adopt.to_sql import sql_of_tables
from kivvet.rule_table import value_of
from tests.conftest import budget, write_book
from tests.strategies import conditions


def engine_gives(sql, data, column):
    """Return the values of a column that a query makes of data, in the order of its rows."""
    frame = data.assign(row_number=range(len(data)))
    connection = duckdb.connect()
    connection.register("data", frame)
    made = connection.sql(sql).df().sort_values("row_number")
    return plain(made[column])


def plain(values):
    """Return values as texts, whole numbers alike in all types."""
    return [
        None
        if pd.isna(one)
        else f"{one:g}"
        if isinstance(one, float)
        else str(one)[:10]
        if hasattr(one, "year")
        else str(one)
        for one in values
    ]


@pytest.mark.parametrize(
    "name",
    [
        "ph_class",
        "nitrate_band",
        "oxygen_status",
        "flow_class",
        "habitat_group",
        "method",
        "quality",
        "station",
        "nitrate_limit",
        "month",
    ],
)
def test_a_table_of_the_survey_means_the_same_in_a_sql_engine(river, name):
    book = kivvet.open_book(river)
    table = value_of(book.table(name))
    data = pd.read_csv(
        river / "data/samples.csv",
        dtype={"station": str, "upstream": str, "method": str},
        keep_default_na=False,
        na_values=[""],
    )
    data["sampled_on"] = pd.to_datetime(data["sampled_on"]).dt.date
    data["water_type"] = ["river" if number % 3 else "stream" for number in range(len(data))]
    data["water_month"] = [number % 12 + 1 for number in range(len(data))]
    data["sampled_on"] = pd.Series(data["sampled_on"], dtype="object")
    data.loc[::7, "water_type"] = None
    data = data.drop(columns=[output.name for output in table.outputs if output.name in data])
    expected = book.apply(data, [name])
    for output in table.outputs:
        assert engine_gives(sql_of_tables([table]), data, output.name) == plain(expected[output.name]), (
            output.name
        )


X = [None, -2, 0, 1, 2.5, 7, 10, 99]
S = [None, "a", "A", "b", "ab", "abc", "B07", "B08x", "C1", "it's"]
PROBES = pd.DataFrame([{"x": x, "s": s} for x in X for s in S])


@settings(
    max_examples=budget(44),
    deadline=None,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.filter_too_much],
)
@given(
    rows=st.lists(
        st.tuples(conditions("number"), conditions("text"), st.sampled_from(["p", "q"])),
        min_size=1,
        max_size=4,
    ),
    rest=st.sampled_from(
        [
            "",
            'otherwise = { k = "o" }\n',
            'missing = { k = "m" }\n',
            'otherwise = { k = "o" }\nmissing = { k = "m" }\n',
        ]
    ),
)
def test_generated_tables_mean_the_same_in_a_sql_engine(tmp_path_factory, rows, rest):
    from kivvet.core.words.conditions import write_condition

    lines = "".join(
        f"  {[write_condition(x), write_condition(s), gives]!r},\n".replace("'", '"')
        for x, s, gives in rows
        if "'" not in write_condition(s) and '"' not in write_condition(s) and "\\" not in write_condition(s)
    )
    if not lines:
        return
    toml = f'inputs.x = "number"\ninputs.s = "text"\noutputs.k = "text"\nmatch = "first"\nseverity = {{ gap = "note", impossible = "note" }}\n{rest}rows = [\n  ["x", "s", "k"],\n{lines}]\n'
    gone = dict.fromkeys(("tables/ph_class.toml", "tables/station.toml", "tables/station.csv"))
    folder = write_book(tmp_path_factory.mktemp("sql"), {"book.toml": "", **gone, "tables/k.toml": toml})
    book = kivvet.open_book(folder)
    try:
        expected = book.apply(PROBES, ["k"])["k"]
    except kivvet.KivvetError:
        return
    assert engine_gives(sql_of_tables([value_of(book.table("k"))]), PROBES, "k") == plain(expected), toml


def test_the_command_writes_a_query(river, tmp_path, run):
    ran = run("export", tmp_path / "q.sql", "oxygen_status", "visit", cwd=river)
    assert ran.code == 0
    assert "when it comes back" not in ran.out
    text = (tmp_path / "q.sql").read_text()
    assert text.startswith("-- written by Kivvet\n-- oxygen_status: Oxygen status, mg/l\n")
    assert "WITH step_1 AS (" in text
    assert run("export", tmp_path / "q.sql", "quality", cwd=river).code == 0
    (tmp_path / "q.sql").write_text("SELECT 1")
    assert run("export", tmp_path / "q.sql", "quality", cwd=river).code != 0
    assert run("export", tmp_path / "q.sql", cwd=river).code == 2


@pytest.mark.parametrize(
    ("toml", "said"),
    [
        (
            'inputs.x = "number"\noutputs.k = "text"\nmatch = "every"\nrows = [["> 1", "a"], ["> 2", "b"]]\n',
            "several rows give their results together",
        ),
        (
            'inputs.x = { type = "text", fold = ["space"] }\noutputs.k = "text"\nrows = [["a", "a"]]\n',
            "differences of blanks or accents",
        ),
        ('inputs.x = "number"\noutputs.k = "text"\nrows = [["> 1", ""]]\n', "a row has no class yet"),
    ],
)
def test_what_cannot_be_said_is_refused(tmp_path, toml, said):
    folder = write_book(tmp_path / "book", {"tables/k.toml": toml})
    with pytest.raises(kivvet.DataError, match=said):
        sql_of_tables([value_of(kivvet.open_book(folder).table("k"))])
