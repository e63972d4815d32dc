"""Rules taken over from sheets: generated formulas worked out by an office program, taken over, and held against its results row by
row; what was typed over is named; what is not understood is said with its cell.
"""

import re

import openpyxl
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.adopt.sheet_formula import parse_sheet_formula, relative
from kivvet.core.formulas.errors import FormulaError
from tests.conftest import write_book
from tests.workbooks import by_office

VALUES = [(x, y, s) for x in (None, -1, 0, 2.5, 10) for y in (None, 1, 3) for s in (None, "ab", "AB", "c")]
LISTS = [("KN", "net"), ("ab", "pair"), ("kn", "again"), ("c", "one")]
STEPS = [(0, "calm"), (2, "normal"), (5, "flood")]
COMPARED = st.sampled_from(["=", "<>", "<", "<=", ">", ">="])


@st.composite
def asked(draw, depth=2):
    """Return a condition as a sheet writes it; R stands for the number of the row."""
    kind = draw(
        st.sampled_from(
            ["number", "number", "text", "blank", "empty", "two", *(["and", "or", "not"] if depth else [])]
        )
    )
    if kind == "number":
        return f"{draw(st.sampled_from('AB'))}R{draw(COMPARED)}{draw(st.sampled_from(['0', '1', '2.5', '-1', '10']))}"
    if kind == "text":
        return "CR" + draw(st.sampled_from(["=", "<>"])) + draw(st.sampled_from(['"ab"', '"C"', '"zz"']))
    if kind == "blank":
        return f"ISBLANK({draw(st.sampled_from('ABC'))}R)"
    if kind == "empty":
        return f'{draw(st.sampled_from("AC"))}R{draw(st.sampled_from(["=", "<>"]))}""'
    if kind == "two":
        return f"AR{draw(COMPARED)}BR"
    if kind == "not":
        return f"NOT({draw(asked(depth - 1))})"
    return f"{kind.upper()}({draw(asked(depth - 1))},{draw(asked(depth - 1))})"


@st.composite
def nested(draw, depth=3):
    gives = st.sampled_from(['"p"', '"q"', '"r"'])
    if not depth or draw(st.integers(0, 3)) == 0:
        return draw(gives)
    return f"IF({draw(asked())},{draw(nested(depth - 1))},{draw(nested(depth - 1))})"


def write_sheet(path, formulas):
    """Write the values with a column for each formula, and two lists to look into."""
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.title = "R"
    sheet.append(["x", "y", "s", *(f"f{at}" for at in range(len(formulas)))])
    for row, values in enumerate(VALUES, 2):
        sheet.append([*values, *("=" + re.sub(r"\b([A-C])R\b", rf"\g<1>{row}", text) for text in formulas)])
    lists = book.create_sheet("Lists")
    for row, (one, other) in enumerate(LISTS, 2):
        lists.cell(row, 1).value, lists.cell(row, 2).value = one, other
    for row, (one, other) in enumerate(STEPS, 1):
        lists.cell(row, 4).value, lists.cell(row, 5).value = one, other
    lists["G1"] = 2.5
    book.save(path)
    return path


@pytest.fixture(scope="module")
def book(tmp_path_factory):
    gone = dict.fromkeys(("tables/ph_class.toml", "tables/station.toml", "tables/station.csv"))
    return kivvet.open_book(write_book(tmp_path_factory.mktemp("adopt") / "book", {"book.toml": "", **gone}))


@settings(
    max_examples=4,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(formulas=st.lists(nested().filter(lambda text: text.startswith("IF")), min_size=12, max_size=12))
def test_a_table_gives_what_the_formula_gave_in_an_office_program(book, tmp_path, formulas):
    path = by_office(write_sheet(tmp_path / "in.xlsx", formulas), "xlsx")
    for at, text in enumerate(formulas):
        try:
            made = book.adopt(path, column=f"f{at}")
        except kivvet.DataError as error:
            assert "can ever hold" in str(error) or "another type" in str(error), text
            continue
        for proof in made.proofs:
            assert (proof.differing, proof.odd) == (0, 0), (text, made.rules[-1].text, proof)


LOOKUPS = {
    'IFERROR(VLOOKUP(CR,Lists!$A$2:$B$5,2,FALSE),"none")': ("lookup", 'otherwise = { f0 = "none" }'),
    "INDEX(Lists!$B$2:$B$5,MATCH(CR,Lists!$A$2:$A$5,0))": ("lookup", 'lookup = "f0.csv"'),
    "VLOOKUP(AR,Lists!$D$1:$E$3,2)": ("bins", '["2 to <5", "normal"],'),
    "LOOKUP(AR,Lists!$D$1:$D$3,Lists!$E$1:$E$3)": ("bins", '[">= 5", "flood"],'),
    'IF(AR>Lists!$G$1,"high",IFERROR(VLOOKUP(CR,Lists!$A$2:$B$5,2,FALSE),"none"))': (
        "rules",
        '"= f0_lookup"',
    ),
    'IFS(AR<0,"low",AR>=0,"rest")': ("bins", '"low"],'),
    'SWITCH(CR,"ab",1,"c",2,0)': ("mapping", '"ab", "1"'),
}


@pytest.mark.parametrize("ending", ["xlsx", "ods"])
def test_lookups_and_other_choices_are_taken_over(book, tmp_path, ending):
    path = by_office(write_sheet(tmp_path / "in.xlsx", list(LOOKUPS)), ending)
    for at, (text, (_, said)) in enumerate(LOOKUPS.items()):
        made = book.adopt(path, column=f"f{at}", name="f0")
        assert re.sub(" +", " ", said) in re.sub(" +", " ", made.rules[-1].text), made.rules[-1].text
        (proof,) = made.proofs
        # A blank key is zero for some programs and none for others.
        assert all(before == "(nothing)" or now == "(nothing)" for before, now, _ in proof.pairs), (
            text,
            proof,
        )


def test_cells_that_were_typed_over_are_named(book, tmp_path, run):
    path = write_sheet(tmp_path / "in.xlsx", ['IF(AR>1,"p","q")'])
    workbook = openpyxl.load_workbook(path)
    workbook["R"]["D5"], workbook["R"]["D7"] = "by hand", '=IF(A7>2,"p","q")'
    workbook.save(path)
    made = book.adopt(by_office(path, "xlsx"), column="f0")
    assert "1 cell holds no formula: D5" in made.left
    assert "1 cell holds another formula than the others: D7" in made.left
    assert [(one.row, one.before, one.why) for one in made.proofs[0].examples] == [
        (4, "by hand", "D5, it was typed over")
    ]


def test_it_is_written_checked_and_applied(tmp_path, run):
    folder = write_book(
        tmp_path / "book",
        {
            "book.toml": '[datasets.d]\nsource = "in.xlsx"\nsheet = "R"\ncells = "A:C"\ncolumns = ["f0"]\ntarget = "o.csv"\n'
        },
    )
    by_office(
        write_sheet(
            folder / "in.xlsx",
            ['IF(AR>Lists!$G$1,"high",IFERROR(VLOOKUP(CR,Lists!$A$2:$B$5,2,FALSE),"none"))'],
        ),
        "xlsx",
    ).replace(folder / "in.xlsx")
    assert run("adopt", "in.xlsx", "--column", "f0", "--write", cwd=folder).code == 0
    written = {path.name for path in (folder / "tables").iterdir()}
    assert {"f0.toml", "f0_lookup.toml", "f0_lookup.csv"} <= written
    (folder / "book.toml").write_text(
        (folder / "book.toml").read_text().replace('["f0"]', '["f0_lookup", "f0"]')
    )
    assert run("apply", "d", cwd=folder).code == 0
    lines = [line.split(",") for line in (folder / "o.csv").read_text().splitlines()[1:]]
    assert {line[-1] for line in lines if line[0] == "10"} == {"high"}
    assert {line[-1] for line in lines if line[0] == "0" and line[2] == "AB"} == {"pair"}


@pytest.mark.parametrize(
    ("formula", "said"),
    [
        ("=NOW()>A2", "NOW gives another value each time"),
        ("=IF(A3>1,1,2)", "A3 is in another row"),
        ("=IF([other.xlsx]R!A2>1,1,2)", "another workbook"),
        ("=IF(A2>1,FOO(A2),2)", "the function FOO is not taken over"),
        ("=IF(C2>1,1,2)", "s holds texts, and is compared with the number 1"),
        ("=IF(SUMPRODUCT(A2),1,2)", "SUMPRODUCT is not taken over as a condition"),
        ("=VLOOKUP(C2,Lists!A:B,2,0)", "whole columns are named"),
        ("=VLOOKUP(C2,Gone!$A$1:$B$2,2,0)", "there is no sheet 'Gone'"),
        ("=VLOOKUP(C2,Lists!$A$2:$B$5,9,0)", "the range has no column 9"),
        ("=IF(A2>Limit,1,2)", "Limit is a name"),
        ("=IF(A2>1,1,2", "is expected"),
        ("=IF(A2>#REF!,1,2)", "what it named is gone"),
    ],
)
def test_what_is_not_understood_is_said_with_its_cell(book, tmp_path, formula, said):
    path = write_sheet(tmp_path / "in.xlsx", [])
    workbook = openpyxl.load_workbook(path)
    workbook["R"]["D1"], workbook["R"]["D2"] = "f", formula
    workbook.save(path)
    # Each writer leaves the value out, so it is put there.
    from tests.workbooks import edited_parts

    edited_parts(
        path,
        {
            "xl/worksheets/sheet1.xml": lambda text: re.sub(
                rb"(<f>[^<]*</f>)<v ?/?>(?:</v>)?", rb"\1<v>1</v>", text
            )
        },
    )
    with pytest.raises(kivvet.DataError, match=re.escape(said)) as raised:
        book.adopt(path, column="f")
    assert raised.value.place is not None


def test_formulas_that_are_copies_are_alike():
    assert relative('IF($A2>B$1,C2&"A2",D3)', 2) == 'IF($A[0]>B$1,C[0]&"A2",D[1])'
    assert relative("of:=IF([.A5]>1;[.B$1];2)", 5) == "of:=IF([.A[0]]>1;[.B$1];2)"
    deep = "1"
    for _ in range(64):
        deep = f"IF(A2>1,{deep},2)"
    assert parse_sheet_formula("=" + deep)
    with pytest.raises(FormulaError, match="nested more than"):
        parse_sheet_formula("=" + "IF(A2>1," * 300 + "1" + ",2)" * 300)
