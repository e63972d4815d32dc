"""Long mappings take a shorter way: they say, mean and give just what the long way does."""

import random

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.check.check import check_table
from kivvet.core.check.one_input import LineCheck
from kivvet.core.compare.compare import compare_tables
from kivvet.core.read.meaning import definition_of, fingerprint, meaning_of, table_fingerprint, table_of
from kivvet.core.read.table_parser import parse_table
from tests.conftest import budget

WORDS = ["a", "A", "b c", '"', "ü", "u\u0308", "x\ny", "\\", 'é"q', "missing", "not", "to", "7", "007", "  s", "any", "ﬁ", "FI", "a*", "Ⅷ", "0", "true", "rows"]  # fmt: skip
RESULTS = ["p", '"q r"', "missing", '"x""y"', '"= k"', "1", "é", "", " p ", '""']
FOLDS = [[], ["case"], ["space"], ["case", "unicode"], ["unicode"]]


@st.composite
def mappings(draw):
    texts = draw(st.lists(st.sampled_from(WORDS), unique=draw(st.integers(0, 4)) > 0, max_size=8))
    rows = [['"' + text.replace('"', '""') + '"' if draw(st.booleans()) or not text.isalnum() else text, draw(st.sampled_from(RESULTS))] for text in texts]  # fmt: skip
    if draw(st.integers(0, 2)) == 0:
        rows.insert(draw(st.integers(0, len(rows))), ["missing", "m"])
    definition = {
        "inputs": {
            "k": {
                "type": "text",
                "fold": draw(st.sampled_from(FOLDS)),
                "required": draw(st.integers(0, 5)) == 0,
            }
        },
        "outputs": {"o": "text"},
        "rows": rows,
        "match": draw(st.sampled_from(["one", "first", "every"])),
        "title": '"rows":[]',
    }
    for word in ("otherwise", "missing"):
        if draw(st.integers(0, 2)) == 0:
            definition[word] = {"o": '"rows":[]'}
    table, _ = parse_table("t", definition)
    return table


@settings(max_examples=budget(165))
@given(mappings())
def test_what_is_found_and_meant_is_the_same(table):
    if table.is_complete:
        whole = [one for one in LineCheck(table).findings() if one.kind != "possible"]
        assert [one.as_dict() for one in check_table(table)] == [one.as_dict() for one in whole]
    assert table_fingerprint(table) == fingerprint(meaning_of(table))
    again = table_of("t", definition_of(table))
    assert table_fingerprint(again) == table_fingerprint(table)


@settings(max_examples=budget(165))
@given(mappings(), mappings(), st.randoms(use_true_random=False))
def test_two_that_are_compared_differ_just_where_results_do(one, other, drawn):
    if drawn.random() < 0.7:  # an edited first one
        rows = [row for row in one.rows if drawn.random() < 0.8]
        drawn.shuffle(rows)
        named = {**definition_of(one), "rows": [["k", "o"], *(_cells(row, drawn) for row in rows)]}
        other, _ = parse_table("t", named)
    if one.match == "every" or other.match == "every" or not (one.is_complete and other.is_complete):
        return
    found = [found for table in (one, other) for found in check_table(table)]
    if (
        any(one.severity == "error" or one.kind == "unfinished" for one in found)
        or one.inputs != other.inputs
    ):
        return
    if any(None in row.results for table in (one, other) for row in table.rows):
        return  # a row that gives missing is told apart from none, which data does not show
    made = compare_tables(one, other)
    values = [*WORDS, "elsewhere", None, ""]
    frame = pa.table({"k": pa.array(values, pa.string())})
    given = [result_of(table, frame) for table in (one, other)]
    assert made.is_same == (given[0] == given[1])


def _cells(row, drawn):
    from kivvet.core.words.conditions import quote_text, write_condition

    (result,) = row.results
    text = drawn.choice(["new", "missing"]) if drawn.random() < 0.2 else result
    return [write_condition(row.conditions[0]), "missing" if text is None else quote_text(str(text))]


def result_of(table, frame):
    from kivvet.core.run.frames import apply_tables

    return apply_tables(frame, [table]).frame["o"].to_pylist()


def test_very_many_rows_are_classified_as_a_dict_does():
    drawn = random.Random(5)
    words = {f"{'w' * drawn.randint(1, 9)}{number}": f"c{drawn.randint(0, 40)}" for number in range(3_000)}
    table = kivvet.RuleTable(
        "t", {"k": "text"}, {"o": "text"}, [list(pair) for pair in words.items()], otherwise={"o": "none"}
    )
    asked = [drawn.choice([*words, "", "w", "zz", None]) for _ in range(20_000)]
    made = table.apply(pa.table({"k": pa.array(asked, pa.string())}))["o"].to_pylist()
    assert made == [words.get(one, None if one in (None, "") else "none") for one in asked]
