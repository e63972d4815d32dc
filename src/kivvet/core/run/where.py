"""The condition of the rows that are kept, decided after the columns are made."""

from __future__ import annotations

from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.parser import parse_formula
from kivvet.core.read.options import Options
from kivvet.core.read.when import formula_fault
from kivvet.core.run.plan import Plan
from kivvet.core.words.findings import Finding, finding

#: The name of the column that tells which rows are kept: one that no column of data has.
WHERE = "\0where"


def where_misfit(plan: Plan, where: Formula | None) -> Finding | None:
    """Return what is wrong with the condition of a typed plan, where it is none."""
    kind = None if plan.where is None else plan.types[plan.where]
    if where is None or kind in (None, "boolean"):
        return None
    return finding(
        "type",
        f"where is a condition; {where.text} is {kind}",
        table="where",
        is_of_formula=True,
        places=(where.place,) if where.place else (),
        remedy=f"compare it with something, for example {where.text} > 0",
    )


def parse_where(options: Options) -> Formula | None:
    """Return the condition of the rows that are kept."""
    example = 'for example where = "load_tenth = 10"'
    text = options.text("where", "where is a condition of the rows that are kept", fix=example)
    if text is None:
        return None
    try:
        return Formula(
            "where", text, parse_formula(text), place=options.faults.locate((*options.faults.root, "where"))
        )
    except FormulaError as error:
        formula_fault(options.faults, error, text, ("where",), "in where")
        return None
