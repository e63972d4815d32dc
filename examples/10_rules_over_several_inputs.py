"""Rules over several inputs, with an exact check: which samples call for another visit.

The check is a proof: it finds the corner that no rule holds, with values to try and the row to add, and the two rules that
contradict each other. Mended, it says that there is nothing left.
"""

from pathlib import Path

import pandas as pd

import kivvet

samples = pd.read_csv(Path(__file__).parent / "field_book/data/samples.csv", dtype={"station": str})
about = {
    "inputs": {
        "oxygen": {"type": "number", "domain": ">= 0"},
        "nitrate": {"type": "number", "domain": ">= 0"},
    },
    "outputs": {"visit": {"type": "text", "order": ["this week", "this month", "next season"]}},
    "missing": {"visit": "this month"},
}

hasty = kivvet.RuleTable(
    "visit",
    **about,
    rows=[
        ["oxygen", "nitrate", "visit"],
        ["< 4", "", "this week"],
        ["4 to 7", "> 40", "this week"],
        ["4 to 7", "<= 40", "this month"],
        [">= 7", "< 40", "next season"],
    ],
)
for found in hasty.check():
    print(found)
print()

visit = kivvet.RuleTable(
    "visit",
    **about,
    rows=[
        ["oxygen", "nitrate", "visit"],
        ["< 4", "", "this week"],
        ["4 to <7", "> 40", "this week"],
        ["4 to <7", "<= 40", "this month"],
        [">= 7", "< 40", "next season"],
        [">= 7", ">= 40", "this month"],
    ],
)
print(visit.check().summary)
print()
made = visit.apply(samples)
print(made.sort_values("visit")[["sample", "oxygen", "nitrate", "visit"]].to_string(index=False))
print()
print(visit.explain({"oxygen": 6.9, "nitrate": 39.5}))
