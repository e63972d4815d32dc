"""Ordered thresholds: oxygen into four classes, from worst to best, that sort and count in this order.

The first version has bounds as people write them, "4 to 6" and "7 to 9", and a hole between: the check shows the reading
that falls through.
"""

from pathlib import Path

import pandas as pd

import kivvet

samples = pd.read_csv(Path(__file__).parent / "field_book/data/samples.csv", dtype={"station": str})
about = {"inputs": {"oxygen": {"type": "number", "domain": ">= 0"}}, "outputs": {"status": "text"}}

hasty = kivvet.RuleTable(
    "status", **about, rows=[["< 4", "bad"], ["4 to 6", "poor"], ["7 to 9", "fair"], ["> 9", "good"]]
)
for found in hasty.check():
    print(found)
print()

status = kivvet.RuleTable(
    "status", **about, rows=[["< 4", "bad"], ["4 to <7", "poor"], ["7 to <9", "fair"], [">= 9", "good"]]
)
assert status.check().is_clean
made = status.apply(samples)
print(made["status"].value_counts(sort=False, dropna=False).to_string())
print()
print("worst reading that is fair or better:", made.loc[made["status"] >= "fair", "oxygen"].min())
