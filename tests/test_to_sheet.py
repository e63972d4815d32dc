"""Tables as formulas of a sheet: an office program gives with them what Kivvet gives with the table, for tables of the survey and
generated ones; what has no formula is refused.
"""

import openpyxl
import pandas as pd
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.words.conditions import write_condition
from tests.conftest import write_book
from tests.strategies import conditions
from tests.workbooks import by_office

SURVEY = ["quality", "ph_class", "method", "station", "oxygen_status"]
TEXTS = [None, "a", "A", "b", "ab", "abc", "0042", "42", "it's", 'x"y', "PR", "pr", "no such"]
NUMBERS = [None, -2, 0, 1, 2.5, 4, 6.5, 7, 8.5, 10, 20, 25, 26, 99]


def as_shown(value):
    if pd.isna(value) or value == "":
        return None
    if isinstance(value, bool) or type(value).__name__ == "bool_":
        return str(bool(value))
    if hasattr(value, "year"):
        return str(value)[:10]
    return f"{value:.12g}" if not isinstance(value, str) else value


def held_against_an_office_program(book, names, path, rows_of):
    """Fill the cells for the inputs of each table, and compare what the formulas give with what the book gives."""
    book.export(names, data=False).save(path, formulas=True)
    made = openpyxl.load_workbook(path)
    rows = {name: rows_of(book.table(name)) for name in names}
    for name in names:
        for at, row in enumerate(rows[name], 4):
            for column, value in enumerate(row, 1):
                made[name].cell(at, column).value = value
                if value == "":
                    made[name].cell(at, column).value = None
    made.save(path)
    worked_out = openpyxl.load_workbook(by_office(path, "xlsx"), data_only=True)
    for name in names:
        inputs = [one.name for one in book.table(name).inputs]
        frame = pd.DataFrame(rows[name], columns=inputs, dtype=object)
        for one in book.table(name).inputs:
            if one.type in ("integer", "number"):
                frame[one.name] = pd.to_numeric(frame[one.name])
        expected = book.apply(frame, [name])
        outputs = [one.name for one in book.table(name).outputs]
        for column, output in enumerate(outputs, len(inputs) + 1):
            got = [as_shown(worked_out[name].cell(at, column).value) for at in range(4, 4 + len(frame))]
            wanted = [
                None if all(value is None for value in row) else as_shown(one)
                for row, one in zip(rows[name], expected[output], strict=True)
            ]
            assert got == wanted, (name, output)


def rows_of_survey(table):
    """Return rows that try each input of a table, the others at some values of theirs."""
    kinds = [
        TEXTS
        if one.type == "text"
        else [n for n in NUMBERS if one.type != "integer" or n is None or n == int(n)]
        for one in table.inputs
    ]
    if table.name == "station":
        kinds = [[*TEXTS, "0007", "0012", "0061"]]
    return [
        tuple(values[(at * step + at // 7) % len(values)] for step, values in enumerate(kinds, 1))
        for at in range(120)
    ]


def test_tables_of_the_survey_mean_the_same_in_a_sheet(river, tmp_path):
    book = kivvet.open_book(river)
    held_against_an_office_program(book, SURVEY, tmp_path / "calc.xlsx", rows_of_survey)


def is_sayable(condition):
    """Whether a condition on a text asks for no order of texts."""
    text = write_condition(condition)
    return not any(word in text for word in ("<", ">", " to ", "-", "\\"))


ROW = st.tuples(conditions("number"), conditions("text").filter(is_sayable), st.sampled_from(["p", "q"]))
REST = [
    "",
    'otherwise = { k = "o" }\n',
    'missing = { k = "m" }\n',
    'otherwise = { k = "o" }\nmissing = { k = "m" }\n',
]


@settings(
    max_examples=3,
    deadline=None,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.filter_too_much, HealthCheck.data_too_large],
)
@given(
    tables=st.lists(
        st.tuples(st.lists(ROW, min_size=1, max_size=4), st.sampled_from(REST)), min_size=12, max_size=12
    )
)
def test_generated_tables_mean_the_same_in_a_sheet(tmp_path_factory, tables):
    files = dict.fromkeys(("tables/ph_class.toml", "tables/station.toml", "tables/station.csv"))
    for number, (rows, rest) in enumerate(tables):
        lines = "".join(
            f"  ['{write_condition(x)}', '{write_condition(s)}', '{gives}'],\n"
            for x, s, gives in rows
            if "'" not in write_condition(s)
        )
        if lines:
            files[f"tables/t{number}.toml"] = (
                'inputs.x = "number"\ninputs.s = "text"\noutputs.k = "text"\nmatch = "first"\n'
                f'severity = {{ gap = "note", impossible = "note" }}\n{rest}rows = [\n  ["x", "s", "k"],\n{lines}]\n'
            )
    folder = write_book(tmp_path_factory.mktemp("sheet"), {"book.toml": "", **files})
    book = kivvet.open_book(folder)
    probes = [(x, s) for x in NUMBERS for s in TEXTS]
    names = sorted(book.tables)
    if names:
        held_against_an_office_program(book, names, folder / "calc.xlsx", lambda _: probes)


REFUSED = {
    "ranges": ("nitrate_limit", "it looks up in ranges"),
    "order of texts": ("habitat_group", "it asks for the order of texts"),
    "times": ("t", "fractions of a day"),
    "every": ("e", "several rows give their results together"),
    "worked out": ("w", "results of it are worked out"),
    "when": ("c", "compares what is worked out of several columns"),
    "many": ("n", "it has 61 rows"),
    "errors": ("f", "it has errors"),
}
ODD = {
    "t": 'inputs.x = "datetime"\noutputs.k = "text"\nrows = [["x", "k"], ["< 2024-01-01T10:00", "p"]]\n',
    "e": 'inputs.x = "number"\noutputs.k = "text"\nmatch = "every"\nrows = [["x", "k"], ["< 1", "p"]]\n',
    "w": 'inputs.x = "number"\noutputs.k = "number"\nrows = [["x", "k"], ["< 1", "= x * 2"]]\n',
    "c": 'inputs.x = "number"\ninputs.y = "number"\noutputs.k = "text"\nrows = [["x", "y", "when", "k"], ["any", "any", "x < y", "p"]]\n',
    "f": 'inputs.x = "number"\noutputs.k = "text"\nrows = [["x", "k"], ["< < 1", "p"]]\n',
    "n": 'inputs.x = "number"\noutputs.k = "text"\nrows = [["x", "k"], '
    + ", ".join(f'["{n}", "p"]' for n in range(61))
    + "]\n",
}


@pytest.mark.parametrize("case", REFUSED)
def test_what_has_no_formula_is_refused_by_name(river, tmp_path, case, run):
    name, said = REFUSED[case]
    folder = river
    if name in ODD:
        folder = write_book(tmp_path / "book", {f"tables/{name}.toml": ODD[name]})
    ran = run("export", tmp_path / "calc.xlsx", name, "--formulas", "--book", folder, cwd=tmp_path)
    assert ran.code == 1, ran.out
    assert f"table {name} cannot be said {'otherwise' if case == 'errors' else 'as a formula'}: " in ran.err
    assert said in ran.err
    assert not (tmp_path / "calc.xlsx").exists()


def test_the_command_writes_over_nothing(river, tmp_path, run):
    first = run("export", "calc.xlsx", "quality", "--formulas", "--book", river, cwd=tmp_path)
    assert first.code == 0, first.err
    assert "written  calc.xlsx  1 table" in first.out
    assert run("export", "calc.xlsx", "quality", "--formulas", "--book", river, cwd=tmp_path).code == 2
    assert run("export", "calc.xlsx", "--formulas", "--book", river, cwd=tmp_path).code == 2
    assert run("export", "calc.csv", "quality", "--formulas", "--book", river, cwd=tmp_path).code == 2
    assert openpyxl.load_workbook(tmp_path / "calc.xlsx")["quality"]["A3"].value == "oxygen"
