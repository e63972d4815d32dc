"""What a start must not cost: tables worked out again, modules that a command does not use."""

from __future__ import annotations

import json
import subprocess
import sys
from importlib import resources

import pytest

from kivvet.core.formulas.grammar import built_parser, formula_parser, made_of

FORMULAS = (
    "flow * nitrate * 86.4",
    "load / SUM(load) OVER (PARTITION BY river ORDER BY day DESC NULLS LAST ROWS BETWEEN 3 PRECEDING AND CURRENT ROW)",
    "CASE WHEN a IS NOT NULL AND NOT b IN (1, 2) THEN 'x''y' ELSE TRIM(BOTH ' ' FROM \"odd name\") END",
    "EXTRACT(YEAR FROM sampled_on) BETWEEN 2_0 AND 3",
    "CAST(x AS DECIMAL(5, 2)) || SUBSTRING(code FROM 1 FOR 2)",
    "a = = b",
    "(a",
)


def test_the_tables_that_are_shipped_are_those_of_the_grammar():
    kept = json.loads((resources.files("kivvet.core.formulas") / "grammar_tables.json").read_text("utf-8"))
    assert kept["made_of"][1] == made_of()[1], "run python -m kivvet.core.formulas.grammar"


@pytest.mark.parametrize("text", FORMULAS)
def test_shipped_tables_read_formulas_as_the_grammar_does(text):
    from lark.exceptions import UnexpectedInput

    def outcome(parser):
        try:
            return parser.parse(text)
        except UnexpectedInput as error:
            return type(error), error.pos_in_stream

    assert outcome(formula_parser()) == outcome(built_parser())


def loaded_by(*arguments, cwd=None):
    """Return the modules that a command loads."""
    ran = subprocess.run(
        [sys.executable, "-X", "importtime", "-m", "kivvet", *arguments],
        capture_output=True,
        text=True,
        cwd=cwd,
        check=False,
    )
    return {line.rsplit("|", 1)[1].strip() for line in ran.stderr.splitlines() if "|" in line}


def test_commands_load_no_more_than_they_use(small_book):
    assert not {"numpy", "pyarrow", "rich"} & loaded_by("--help")
    loaded = loaded_by("apply", cwd=small_book)
    assert "kivvet.books.runs.apply" in loaded
    assert not {"pandas._libs", "polars", "lark", "kivvet.core.draft.draft"} & loaded


@pytest.mark.parametrize(
    ("more", "code", "said"),
    [
        ("", 0, ""),
        (">&-", 0, ""),
        ("2>&-", 0, ""),
        (">/dev/full", 1, "cannot be written"),
        ("| head -c 1", 0, ""),
        ("--no-such-option", 2, "No such option"),
    ],
)
def test_a_command_ends_with_its_code_whatever_its_output_goes_to(small_book, more, code, said):
    command = f'"{sys.executable}" -m kivvet list {more}'
    ran = subprocess.run(command, shell=True, cwd=small_book, capture_output=True, text=True, check=False)
    assert ran.returncode == code
    assert said in ran.stderr and "Traceback" not in ran.stderr and "ignored" not in ran.stderr
