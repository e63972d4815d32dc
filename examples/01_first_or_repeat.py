"""First or repeat: which exceedance of a limit is the first at its place, and which repeats one.

A formula numbers the exceedances of each place by day; a table of two rows names them. Days without a reading, and those
below the limit, are no exceedance.
"""

from pathlib import Path

import pandas as pd

import kivvet

visits = pd.read_csv(
    Path(__file__).parent / "field_book/data/visits.csv", dtype={"place": str}, parse_dates=["day"]
)

numbered = kivvet.with_formulas(
    visits,
    {
        "exceeds": "CASE WHEN nitrate > 50 THEN 1 ELSE 0 END",
        "number": "CASE WHEN exceeds = 1 THEN SUM(exceeds) OVER (PARTITION BY place ORDER BY day) END",
    },
)
exceedance = kivvet.RuleTable(
    "exceedance",
    inputs={"number": {"type": "integer", "domain": ">= 1"}},
    outputs={"exceedance": "text"},
    rows=[["1", "first"], ["> 1", "repeat"]],
    missing={"exceedance": "none"},
)
assert exceedance.check().is_clean
applied = exceedance.apply_with_report(numbered)

print(
    applied.frame.sort_values(["place", "day"])[["place", "day", "nitrate", "exceedance"]].to_string(
        index=False
    )
)
print()
print(applied.report)
