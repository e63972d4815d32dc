"""The condition language: what each form means, and what is said of what is no condition."""

import datetime as dt
import re
from decimal import Decimal

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from kivvet.core.words import condition_parser
from kivvet.core.words.condition_parser import ConditionError, parse_condition
from kivvet.core.words.conditions import (
    AnyOf,
    AnyValue,
    Between,
    CodeRange,
    Equals,
    IsMissing,
    IsPresent,
    Negation,
    StartsWith,
    write_condition,
)
from tests.strategies import KINDS, conditions

FIVE, NINE = Decimal(5), Decimal(9)

MEANINGS = [
    ("", "number", AnyValue()),
    ("  any ", "text", AnyValue()),
    ("missing", "date", IsMissing()),
    ("present", "text", IsPresent()),
    ("12", "number", Equals(Decimal(12))),
    ("-3", "number", Equals(Decimal(-3))),
    ("1e-3", "number", Equals(Decimal("0.001"))),
    ("-0", "number", Equals(Decimal(0))),
    ("0x4E00", "integer", Equals(Decimal(0x4E00))),
    (">= 2.5", "integer", Between(Decimal("2.5"), True, None, False)),
    ("kick net", "text", Equals("kick net")),
    ("007", "text", Equals("007")),
    ("NA", "text", Equals("NA")),
    ("2026-04-01", "date", Equals(dt.date(2026, 4, 1))),
    ("2026-04-01 13:30", "datetime", Equals(dt.datetime(2026, 4, 1, 13, 30))),
    ("2026-04-01T13:30:05.25", "datetime", Equals(dt.datetime(2026, 4, 1, 13, 30, 5, 250000))),
    ("true", "boolean", Equals(True)),
    ('"to"', "text", Equals("to")),
    ('"any"', "text", Equals("any")),
    ('"missing" | missing', "text", AnyOf((Equals("missing"), IsMissing()))),
    ('"not strip"', "text", Equals("not strip")),
    ('"Road to Ruin"', "text", Equals("Road to Ruin")),
    ('"say ""no"""', "text", Equals('say "no"')),
    ("a | b | c", "text", AnyOf((Equals("a"), Equals("b"), Equals("c")))),
    ("not strip", "text", Negation(Equals("strip"))),
    ("not a | b", "text", AnyOf((Negation(Equals("a")), Equals("b")))),
    ("not (a | b)", "text", Negation(AnyOf((Equals("a"), Equals("b"))))),
    ("not missing", "number", Negation(IsMissing())),
    ("< 5", "number", Between(None, False, FIVE, False)),
    ("<=5", "number", Between(None, False, FIVE, True)),
    ("> 5", "number", Between(FIVE, False, None, False)),
    (">= 5", "number", Between(FIVE, True, None, False)),
    ("5 to 9", "number", Between(FIVE, True, NINE, True)),
    ("5 to <9", "number", Between(FIVE, True, NINE, False)),
    (">5 to 9", "number", Between(FIVE, False, NINE, True)),
    (">5 to <9", "number", Between(FIVE, False, NINE, False)),
    ("[5, 9]", "number", Between(FIVE, True, NINE, True)),
    ("[5,9)", "number", Between(FIVE, True, NINE, False)),
    ("(5, 9]", "number", Between(FIVE, False, NINE, True)),
    ("(5, 9) | 12", "number", AnyOf((Between(FIVE, False, NINE, False), Equals(Decimal(12))))),
    ("(5 | 9)", "number", AnyOf((Equals(FIVE), Equals(NINE)))),
    ("-9 to -5", "number", Between(Decimal(-9), True, Decimal(-5), True)),
    ("C3*", "text", StartsWith("C3")),
    ('"C 3"*', "text", StartsWith("C 3")),
    ("C30* to C39*", "text", CodeRange("C30", True, "C39", True)),
    (">C30* to <C39*", "text", CodeRange("C30", False, "C39", False)),
    ('"a" to "f"', "text", Between("a", True, "f", True)),
    ('>"a" to <"f"', "text", Between("a", False, "f", False)),
    ('< "f"', "text", Between(None, False, "f", False)),
]


@pytest.mark.parametrize(("text", "kind", "meaning"), MEANINGS)
def test_a_condition_means(text, kind, meaning):
    assert parse_condition(text, kind) == meaning


# text, type of input, kind of finding, offset, words of the problem or the remedy
FAULTS = [
    ("Road to Ruin", "text", "syntax", 0, '"Road to Ruin"'),
    ("<5 mg", "text", "syntax", 1, '"<5 mg"'),
    ("a*b", "text", "syntax", 0, '"a*b"'),
    ("pond (deep)", "text", "syntax", 5, '"pond (deep)"'),
    ("1 to 12", "text", "type", 0, "would hold 10 but not 2"),
    (">= 5", "text", "type", 3, "would hold 10 but not 2"),
    ("C30* to C4*", "text", "syntax", 8, "equally long"),
    ("C30* to C39", "text", "syntax", 0, "'*' at both ends"),
    ('"a', "text", "syntax", 0, "not closed"),
    ('""', "text", "syntax", 0, "no characters is missing"),
    ("a |", "text", "syntax", 3, "a value is missing"),
    ("5-9", "number", "syntax", 0, "write 5 to 9"),
    ("5 \N{EN DASH} 9", "number", "syntax", 0, "write 5 to 9"),
    ("\N{MINUS SIGN}3", "number", "syntax", 0, "write -3"),
    ("1,000", "number", "syntax", 1, "write 1000"),
    ("1,5", "number", "syntax", 1, "follows a condition"),
    ("[0,5, 1,5)", "number", "syntax", 0, "[0.5, 1.5)"),
    ("[5, )", "number", "syntax", 4, ">= 5"),
    ("5 to 9 to 12", "number", "syntax", 7, "already complete"),
    ("(5", "number", "syntax", 2, "not closed"),
    ('"5"', "number", "type", 0, "write 5"),
    ("high", "number", "syntax", 0, "a number"),
    ("1e999", "number", "syntax", 0, "1e400"),
    ("< true", "boolean", "type", 2, "no order"),
    ("True", "boolean", "syntax", 0, "write true"),
    ("2026-02-30", "date", "syntax", 0, "calendar"),
    ("2026-04-01 13:30", "date", "syntax", 0, "a date"),
    ("01.04.2026", "date", "syntax", 0, "2026-04-01"),
    ("not " * 60 + "5", "number", "syntax", None, "nested too deeply"),
    ("(" * 60 + "5" + ")" * 60, "number", "syntax", None, "nested too deeply"),
]


@pytest.mark.parametrize(("text", "kind", "fault", "offset", "said"), FAULTS)
def test_what_is_no_condition_is_said_with_its_place_and_cure(text, kind, fault, offset, said):
    with pytest.raises(ConditionError) as caught:
        parse_condition(text, kind)
    error = caught.value
    assert error.kind == fault
    assert offset is None or error.offset == offset
    assert said in f"{error.problem} {error.expected} {error.fix}"


@given(st.sampled_from(KINDS).flatmap(lambda kind: st.tuples(st.just(kind), conditions(kind))))
def test_a_written_condition_reads_as_itself(pair):
    kind, condition = pair
    assert parse_condition(write_condition(condition), kind) == condition


@given(st.text(st.sampled_from('ab5 |()[]"*<>=,-.'), max_size=12), st.sampled_from(KINDS))
def test_any_text_is_a_condition_or_a_fault_with_a_place_in_it(text, kind):
    try:
        parse_condition(text, kind)
    except ConditionError as error:
        assert 0 <= error.offset <= len(text)


@given(st.text(st.sampled_from("0157 <>=to.-+e"), max_size=11), st.sampled_from(["number", "integer"]))
@example("> 5 to < 6", "number")
@example("<5 to 6", "number")
@example(">=05", "integer")
@example("-0 to 0.50", "number")
def test_what_is_written_most_reads_as_the_whole_language_reads_it(text, kind):
    def read():
        try:
            return parse_condition(text, kind)
        except ConditionError as error:
            return str(error), error.offset, error.expected

    quickly = read()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(condition_parser, "_PLAIN_RANGE", re.compile(r"(?!)"))
        closely = read()
    assert repr(quickly) == repr(closely)
