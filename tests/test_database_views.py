"""Views of databases: what they give is what Kivvet gives, for generated tables and formulas and values at which databases differ; they
follow the rules, and what they cannot do the same is refused before anything is written.
"""

import datetime as dt

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.formulas.tree import columns_read, write_formula
from kivvet.core.words.conditions import write_condition
from tests.conftest import golden, write_book
from tests.databases import ENGINES, book_with
from tests.sql_referee import expressions, tables
from tests.strategies import conditions

QUIET = settings(
    max_examples=2,
    deadline=None,
    phases=(Phase.explicit, Phase.generate),  # each case is a book of many tables: nothing to make smaller
    suppress_health_check=[
        HealthCheck.too_slow,
        HealthCheck.filter_too_much,
        HealthCheck.data_too_large,
        HealthCheck.function_scoped_fixture,
    ],
)


def beside(values):
    """Return floats with those one step of rounding to either side, and within and beyond a step's tolerance."""
    found = []
    for value in values:
        found += [
            value,
            np.nextafter(value, np.inf),
            np.nextafter(value, -np.inf),
            value + 1e-9,
            value - 4e-8,
        ]
    return found


def probes(engine):
    """Return rows that hold values at which databases differ."""
    floats = [
        *beside([0.0, -6.0, -0.1, 0.5, 1.5, 2.5, 6.0, 9007199254740993.0]),
        -0.0,
        5e-324,
        1.7e308,
        float("inf"),
        -float("inf"),
        None,
    ]
    floats += [] if engine == "sqlite" else [float("nan")]
    wholes = [None, *range(-6, 7), 2**53, 2**53 + 1, 2**63 - 1, -(2**63)]
    texts = [
        None,
        "",
        "A",
        "AB",
        "AB1",
        "B",
        "B1",
        "1",
        "11",
        "é",
        "e\u0301",
        "ß",
        "it's",
        " x",
        "x ",
        "\U0001f30a",
        "NA",
        "a",
    ]
    days = [
        None,
        *(dt.date(2026, 2, 24) + dt.timedelta(n) for n in range(16)),
        dt.date(1, 1, 1),
        dt.date(9999, 12, 31),
    ]
    n = 240
    return pa.table(
        {
            "n": pa.array(range(n), pa.int64()),
            "x": pa.array([floats[at % len(floats)] for at in range(n)], pa.float64()),
            "i": pa.array([wholes[(at * 7) % len(wholes)] for at in range(n)], pa.int64()),
            "s": pa.array([texts[(at * 5 + at // 18) % len(texts)] for at in range(n)], pa.string()),
            "d": pa.array([days[(at * 3 + at // 19) % len(days)] for at in range(n)], pa.date32()),
            "b": pa.array([[True, False, None][(at // 3) % 3] for at in range(n)]),
        }
    )


ASKED = {"x": "number", "i": "integer", "s": "text", "d": "date", "b": "boolean"}
REST = ["", 'otherwise.k = "o"\n', 'missing.k = "m"\n', 'otherwise.k = "o"\nmissing.k = "m"\n']


@st.composite
def generated(draw):
    """Return the file of a table of one to three inputs under a first match."""
    names = draw(st.lists(st.sampled_from(sorted(ASKED)), min_size=1, max_size=3, unique=True))
    step = draw(st.sampled_from(["", ", step = 0.1", ", step = 0.5"]))
    rows = draw(
        st.lists(
            st.tuples(*(conditions(ASKED[name]) for name in names), st.sampled_from(["p", "q", "r"])),
            min_size=1,
            max_size=5,
        )
    )
    lines = []
    for *asked, gives in rows:
        cells = [write_condition(one) for one in asked]
        if not any("'" in one or "\\" in one for one in cells):
            lines.append("  [" + ", ".join(f"'{one}'" for one in (*cells, gives)) + "],\n")
    if not lines:
        return None
    inputs = "".join(
        f'inputs.{name} = {{ type = "{ASKED[name]}"{step if name == "x" else ""} }}\n' for name in names
    )
    heads = ", ".join(f'"{one}"' for one in (*names, "k"))
    return (
        f'{inputs}outputs.k = "text"\nmatch = "first"\n{draw(st.sampled_from(REST))}'
        f'severity = {{ gap = "note", impossible = "note" }}\nrows = [\n  [{heads}],\n{"".join(lines)}]\n'
    )


def book_of_views(held, folder, data, columns):
    """Write a book whose datasets bring data into a database, show it in a view, and write it out again."""
    pq.write_table(data, folder / "data.parquet")
    listed = "[" + ", ".join(columns) + "]"
    text = (
        f"[databases.survey]\n{held.entry}\n"
        '[datasets.there]\nsource = "data.parquet"\ntarget = { database = "survey", table = "data" }\ncolumns = []\n'
        f'[datasets.seen]\nsource = {{ database = "survey", table = "data" }}\ntarget = {{ database = "survey", view = "seen" }}\ncolumns = {listed}\n'
        f'[datasets.back]\nsource = {{ database = "survey", table = "seen" }}\ntarget = "back.parquet"\ncolumns = []\n'
        f'[datasets.plain]\nsource = "data.parquet"\ntarget = "plain.parquet"\ncolumns = {listed}\n'
    )
    (folder / "book.toml").write_text(text)
    kivvet.open_book(folder).apply_dataset("there", replace=True, replace_edited=True)


def view_gives(held, folder, data, columns):
    """Return what a view makes of data, and what Kivvet makes of it."""
    book_of_views(held, folder, data, columns)
    kivvet.open_book(folder).apply_dataset("seen", replace=True, replace_edited=True)
    for name in ("plain", "back"):
        kivvet.open_book(folder).apply_dataset(name)
    return pq.read_table(folder / "back.parquet").sort_by("n"), pq.read_table(
        folder / "plain.parquet"
    ).sort_by("n")


def same(held, folder, data, columns):
    """Assert that the view gives for each column what Kivvet gives."""
    seen, wanted = view_gives(held, folder, data, columns)
    assert seen.column_names == wanted.column_names
    for name in wanted.column_names[data.num_columns :]:
        kind = wanted.schema.field(name).type
        kind = kind.value_type if pa.types.is_dictionary(kind) else kind
        got = seen[name].cast(kind) if kind != pa.bool_() else seen[name].cast(pa.int64()).cast(kind)
        assert got.to_pylist() == wanted[name].cast(kind).to_pylist(), name


@QUIET
@given(made=st.lists(generated(), min_size=14, max_size=14))
def test_generated_tables_give_in_a_view_what_they_give(held, made):
    files = {f"t{at}": text for at, text in enumerate(made) if text}
    folder = book_with(held, "", **{f"tables/{name}.toml": text for name, text in files.items()})
    for old in (folder / "tables").glob("*.toml"):
        if old.stem not in files:
            old.unlink()
    fine = [name for name in files if not kivvet.open_book(folder).check([name], data=False).has_errors]
    columns = [
        f'{{ table = "{name}", keep = {{ k = "{name}_k" }}, status = "{name}_status", row = "{name}_row" }}'
        for name in fine
    ]
    same(held, folder, probes(held.engine), columns)


@QUIET
@given(
    data=tables(most=30),
    made=st.lists(
        st.sampled_from(["integer", "number", "text", "boolean", "date"]).flatmap(expressions),
        min_size=25,
        max_size=25,
    ),
)
def test_generated_formulas_give_in_a_view_what_they_give_or_are_refused(held, data, made):
    data = data.append_column("n", pa.array(range(len(data)), pa.int64()))
    kept = [name for name in data.column_names if name != "m"]  # SQLite has no times
    data = data.select(kept)
    texts = {f"f{at}": write_formula(one) for at, one in enumerate(made) if "m" not in columns_read(one)}
    folder = book_with(held, "")
    for old in (folder / "tables").glob("*"):
        old.unlink()
    while texts:
        lines = "".join(f"{name} = {{ formula = '''{text}''' }}\n" for name, text in texts.items())
        (folder / "formulas.toml").write_text(lines)
        book_of_views(held, folder, data, [f'"{name}"' for name in texts])
        found = kivvet.open_book(folder).check().findings
        bad = {one.table for one in found if one.severity == "error"} & set(texts)
        if not bad:
            break
        texts = {name: text for name, text in texts.items() if name not in bad}
    same(held, folder, data, [f'"{name}"' for name in texts])


PLAIN = {"id": [1, 2, 3, 4], "x": [5.5, 6.5, 7.5, None], "s": ["A", "B", "C", None]}
BAND = 'inputs = { x = "number" }\noutputs = { band = "text" }\nrows = [\n  ["< 6", "low"],\n  [">= 6", "high"],\n]\n'
AREA = (
    'inputs = { s = "text" }\noutputs = { area = "text" }\nlookup = "area.csv"\nseverity = { gap = "note" }\n'
)
SEEN = '[datasets.seen]\nsource = {{ database = "survey", {source} }}\ntarget = {{ database = "survey", view = "seen" }}\ncolumns = [{columns}]\n'


def published(held, columns='"band", "area"', source='table = "data"', **files):
    """Write a book that publishes a view of four rows."""
    values = ", ".join(
        "(" + ", ".join("NULL" if one is None else repr(one) for one in row) + ")"
        for row in zip(*PLAIN.values(), strict=True)
    )
    held.run("CREATE TABLE data (id BIGINT, x DOUBLE PRECISION, s TEXT)", f"INSERT INTO data VALUES {values}")
    given = {
        "tables/band.toml": BAND,
        "tables/area.toml": AREA,
        "tables/area.csv": "s,area\nA,upper\nB,lower\n",
    }
    return book_with(held, SEEN.format(columns=columns, source=source), **{**given, **files})


def classes(held, column):
    return dict(held.run(f"SELECT {column}, COUNT(*) FROM seen GROUP BY {column}"))


def test_a_view_follows_rules_and_rows(held, run):
    folder = published(held)
    shown = run("apply", "--show-sql", cwd=folder)
    assert "CREATE VIEW" in shown.out
    assert "seen__area" in shown.out
    with pytest.raises(Exception, match="seen"):
        held.run("SELECT * FROM seen")  # nothing was touched
    ran = run("apply", "seen", cwd=folder)
    assert "survey:seen  4 rows in the view by now" in ran.out, ran.err
    assert classes(held, "band") == {"low": 1, "high": 2, None: 1}
    assert classes(held, "area") == {"upper": 1, "lower": 1, None: 2}
    assert " current " in run("status", cwd=folder).out
    # rows come: every reader sees their classes, and the view is as current as it was
    held.run("INSERT INTO data VALUES (5, 1.0, 'B')")
    assert classes(held, "band") == {"low": 2, "high": 2, None: 1}
    assert " current " in run("status", cwd=folder).out
    assert "nothing to do" in run("refresh", cwd=folder).out
    # a rule and a mapping change: the view is stale until it is refreshed, which replaces it and the keys at once
    (folder / "tables" / "band.toml").write_text(BAND.replace("6", "7"))
    (folder / "tables" / "area.csv").write_text("s,area\nA,upper\nB,middle\nC,lower\n")
    told = run("status", cwd=folder).out
    assert " stale " in told
    assert "6 to <7: high -> low" in told
    assert classes(held, "band") == {"low": 2, "high": 2, None: 1}
    assert "values change in 3 rows of seen" in run("impact", cwd=folder).out
    assert run("refresh", cwd=folder).code == 0
    assert classes(held, "band") == {"low": 3, "high": 1, None: 1}
    assert classes(held, "area") == {"upper": 1, "middle": 2, "lower": 1, None: 1}
    assert " current " in run("status", cwd=folder).out
    # what Kivvet says of it comes out as the view has it
    counted = run("summary", "seen", "--by", "area", "--format", "csv", cwd=folder).out
    assert "middle,2" in counted
    assert "PR" not in run("unmatched", "seen", cwd=folder).out
    # tables of keys go with the table that needed them
    book_with(held, SEEN.format(columns='"band"', source='table = "data"'))
    assert run("refresh", cwd=folder).code == 0
    assert classes(held, "band") == {"low": 3, "high": 1, None: 1}
    with pytest.raises(Exception, match="seen__area"):
        held.run("SELECT * FROM seen__area")
    assert [name for (name,) in held.run("SELECT target FROM kivvet_records")] == ["seen"]


def test_what_something_else_changed_is_told_and_kept(held, run):
    folder = published(held)
    held.run("CREATE TABLE seen (mine INTEGER)", "INSERT INTO seen VALUES (7)")
    ran = run("apply", cwd=folder)
    assert ran.code == 2
    assert "was not written by Kivvet" in ran.err
    assert held.run("SELECT mine FROM seen") == [(7,)]
    assert run("apply", "--replace", cwd=folder).code == 0
    assert classes(held, "band") == {"low": 1, "high": 2, None: 1}
    # by hand, the view or the keys that it joins
    for change in (
        "DROP VIEW seen; CREATE VIEW seen AS SELECT 1 AS mine",
        "UPDATE seen__area SET result_1 = 'mine'",
    ):
        held.run(*change.split("; "))
        assert "was changed by something else" in run("status", cwd=folder).out
        ran = run("apply", cwd=folder)
        assert ran.code == 2
        assert "--replace-edited" in ran.err
        ran = run("apply", "--replace-edited", cwd=folder)
        assert ran.code == 0, ran.err
        assert classes(held, "area") == {"upper": 1, "lower": 1, None: 2}
    if held.engine == "postgresql":  # who may read it, and what reads it, stay so
        held.run("DROP ROLE IF EXISTS reader", "CREATE ROLE reader", "GRANT SELECT ON seen TO reader")
        held.run("CREATE VIEW on_it AS SELECT band FROM seen")
        (folder / "tables" / "band.toml").write_text(BAND.replace("6", "7"))
        assert run("refresh", cwd=folder).code == 0
        assert held.run("SELECT has_table_privilege('reader', 'seen', 'SELECT')") == [(True,)]
        assert held.run("SELECT COUNT(*) FROM on_it WHERE band = 'low'") == [(2,)]
        text = (folder / "book.toml").read_text()
        (folder / "book.toml").write_text(text.replace('"band", ', ""))
        ran = run("refresh", cwd=folder)
        assert "other objects depend on it" in ran.err
        assert classes(held, "band") == {"low": 2, "high": 1, None: 1}
        held.run("DROP VIEW on_it")
        assert run("refresh", cwd=folder).code == 0
        assert held.run("SELECT has_table_privilege('reader', 'seen', 'SELECT')") == [(True,)]
        (folder / "book.toml").write_text(text)
        (folder / "tables" / "band.toml").write_text(BAND)
        held.run("DROP OWNED BY reader", "DROP ROLE reader")
        assert run("refresh", cwd=folder).code == 0
    # taken away
    held.run("DROP VIEW seen")
    assert "the target does not exist yet" in run("status", cwd=folder).out
    assert run("refresh", cwd=folder).code == 0
    assert classes(held, "band") == {"low": 1, "high": 2, None: 1}


OBSTACLES = {
    "formula exp": ({"formulas.toml": 'f = "EXP(x)"\n'}, '"f"'),
    "formula power": ({"formulas.toml": 'f = "POWER(x, 2)"\n'}, '"f"'),
    "formula upper": ({"formulas.toml": 'f = "UPPER(s)"\n'}, '"f"'),
    "formula cast": ({"formulas.toml": 'f = "CAST(x AS TEXT)"\n'}, '"f"'),
    "formula round": ({"formulas.toml": 'f = "ROUND(x, 1)"\n'}, '"f"'),
    "formula mod": ({"formulas.toml": 'f = "MOD(x, 2)"\n'}, '"f"'),
    "formula sum of floats": ({"formulas.toml": 'f = "SUM(x) OVER (PARTITION BY s)"\n'}, '"f"'),
    "formula strict": ({"formulas.toml": 'f = { formula = "1 / x", strict = true }\n'}, '"f"'),
    "formula order of rows": ({"formulas.toml": 'f = "ROW_NUMBER() OVER (ORDER BY x)"\n'}, '"f"'),
    "table every": ({"tables/k.toml": BAND.replace("band", "k") + 'match = "every"\n'}, '"k"'),
    "table fold": (
        {"tables/k.toml": 'inputs.s = { type = "text", fold = "case" }\noutputs.k = "text"\notherwise.k = "o"\nrows = [["A", "p"]]\n'},
        '"k"',
    ),
    "types": ({}, '"band"]\ntypes = { s = "text" }\nkey = ["id"'),
}  # fmt: skip


def test_what_cannot_be_the_same_is_refused_before_anything_is_written(held, run):
    folder = published(held)
    told = []
    for name, (files, columns) in OBSTACLES.items():
        for old in [*(folder / "tables").glob("k.toml"), *folder.glob("formulas.toml")]:
            old.unlink()
        book_with(held, SEEN.format(columns=columns, source='table = "data"'), **files)
        ran = run("apply", "seen", cwd=folder)
        checked = run("check", cwd=folder)
        if ran.code == 0:
            told.append(f"{name}: the same\n")
            continue
        assert "nothing was written" in ran.all
        assert [name for (name,) in held.run("SELECT COUNT(*) FROM data")] == [4]
        assert "obstacle" in checked.out, name
        told.append(f"{name}\n{ran.all}\n")
    golden(f"obstacles_{held.engine}.txt", "\n".join(told))


def test_a_view_of_what_lies_elsewhere_is_refused(held, run):
    folder = published(held)
    text = (folder / "book.toml").read_text().replace('{ database = "survey", table = "data" }', '"data.csv"')
    (folder / "book.toml").write_text(text)
    (folder / "data.csv").write_text("id,x,s\n1,2,A\n")
    ran = run("apply", "seen", cwd=folder)
    assert ran.code == 1
    assert "view seen reads data.csv, which does not lie in database survey" in ran.all


def test_columns_for_each_class_are_the_same(held):
    rest = BAND.replace("rows =", 'missing = { band = "?" }\nrows =')
    folder = book_with(
        held,
        "",
        **{
            "tables/band.toml": BAND,
            "tables/every.toml": rest.replace("band =", "every =").replace("band", "every"),
        },
    )
    ways = (
        'name = "i{n}_{class}"',
        'name = "b{n}_{class}", type = "boolean"',
        'name = "r{n}_{class}", rest = "r{n}"',
        'name = "a{n}_{class}", amount = "i"',
        'name = "x{n}_{class}", amount = "x", rest = "x{n}"',
        'name = "m{n}_{class}", amount = "i", otherwise = "missing"',
        'name = "o{n}_{class}", amount = "x", otherwise = "missing", rest = "o{n}"',
    )
    columns = [
        f'{{ indicators = "{table}", {way.replace("{n}", str(number))} }}'
        for number, table in enumerate(("band", "every"))
        for way in ways
    ]
    same(held, folder, probes(held.engine), ['"band"', '"every"', *columns])


def test_what_a_view_cannot_make_stands_in_a_table_beside_it(held, run):
    formulas = 'e = "EXP(x)"\nplace = "ROW_NUMBER() OVER (ORDER BY x)"\nof_e = "CASE WHEN e > 1000 THEN \'many\' ELSE \'few\' END"\n'
    columns = '"band", "e", "place", "of_e", "area"'
    folder = published(held, columns, **{"formulas.toml": formulas})
    assert "EXP: databases round" in run("apply", cwd=folder).err
    text = (folder / "book.toml").read_text().replace('view = "seen"', 'view = "seen", beside = "table"')
    (folder / "book.toml").write_text(text)
    assert "the dataset has no key by which its rows are found" in run("apply", cwd=folder).err
    (folder / "book.toml").write_text(f'{text}key = ["id"]\n')
    ran = run("apply", cwd=folder)
    assert ran.code == 0, ran.err
    assert "e, place, of_e come from table seen__beside" in " ".join(ran.out.split())
    (folder / "book.toml").write_text(
        (folder / "book.toml").read_text()
        + '[datasets.whole]\nsource = { database = "survey", table = "data" }\ntarget = { database = "survey", table = "whole" }\n'
        + f"columns = [{columns}]\n"
    )
    asked = "SELECT id, x, s, band, e, place, of_e, area FROM {} ORDER BY id"

    def is_as_of_all():
        assert run("apply", "whole", cwd=folder).code == 0
        return held.run(asked.format("seen")) == held.run(asked.format("whole"))

    assert is_as_of_all()
    assert "cannot tell" in run("status", "seen", cwd=folder).out
    # rows that come have what the view makes, and the rest after the next refresh
    held.run("INSERT INTO data VALUES (9, 1.0, 'B')")
    assert held.run("SELECT band, e, area FROM seen WHERE id = 9") == [("low", None, "lower")]
    assert run("refresh", "seen", cwd=folder).code == 0
    assert is_as_of_all()
    version = text.replace('table = "data" }', 'table = "data", version = "id" }')
    (folder / "book.toml").write_text(f'{version}key = ["id"]\n')
    assert run("refresh", "seen", cwd=folder).code == 0
    assert " current " in run("status", "seen", cwd=folder).out
    held.run("INSERT INTO data VALUES (10, 1.0, 'B')")
    assert " stale " in run("status", "seen", cwd=folder).out
    # a key that is there twice would join rows with others
    held.run("INSERT INTO data VALUES (10, 2.0, 'B')")
    assert "repeated-key" in run("refresh", "seen", cwd=folder).err
    assert held.run("SELECT COUNT(*) FROM seen WHERE id = 10") == [(2,)]
    # without such columns the table goes
    held.run("DELETE FROM data WHERE id = 10 AND x = 2.0")
    (folder / "book.toml").write_text(f"{text}".replace(', "e", "place", "of_e"', "") + 'key = ["id"]\n')
    assert run("refresh", "seen", cwd=folder).code == 0
    with pytest.raises(Exception, match="seen__beside"):
        held.run("SELECT * FROM seen__beside")


def test_what_could_not_be_a_view_is_told_of_any_dataset(tmp_path, run):
    text = '[datasets.d]\nsource = "d.csv"\ntarget = "out.csv"\ncolumns = ["band", "f", "g"]\n'
    formulas = 'f = "EXP(x)"\ng = "ROUND(f, 1)"\n'
    folder = write_book(
        tmp_path, {"book.toml": text, "formulas.toml": formulas, "tables/band.toml": BAND, "d.csv": "x\n1\n"}
    )
    for engine in ENGINES:
        ran = run("check", "--engine", engine, cwd=folder)
        assert ran.code == 1
        assert ran.out.count("  obstacle  ") == 1, ran.out
        assert "formula f cannot be the same" in ran.out
    assert run("check", "band", "--engine", "duckdb", cwd=folder).code == 0
    assert run("check", cwd=folder).code == 0
    assert run("check", "--engine", "cloud", cwd=folder).code == 2
    with pytest.raises(kivvet.BookError, match="no engine that is known"):
        kivvet.open_book(folder).check(engine="cloud")


def test_a_lookup_that_is_called_as_the_table_beside_is_refused(held, run):
    files = {"tables/Beside.toml": AREA, "formulas.toml": 'e = "EXP(x)"\n'}
    folder = published(held, '"Beside", "e"', **files)
    text = (folder / "book.toml").read_text().replace('view = "seen"', 'view = "seen", beside = "table"')
    (folder / "book.toml").write_text(f'{text}key = ["id"]\n')
    ran = run("apply", cwd=folder)
    if held.engine == "postgresql":  # where names of another case are other names
        assert ran.code == 0, ran.err
        assert held.run("SELECT area, e IS NULL FROM seen WHERE id = 1") == [("upper", False)]
        (folder / "tables" / "Beside.toml").rename(folder / "tables" / "beside.toml")
        (folder / "book.toml").write_text((folder / "book.toml").read_text().replace('"Beside"', '"beside"'))
        ran = run("apply", cwd=folder)
    assert ran.code == 1
    assert "would both be called seen__beside" in ran.all
