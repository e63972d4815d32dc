"""Keys of two parts, with traps: a site code with leading zeros and a year, looked up together.

The check finds the key that stands twice with two quotas before anything is applied; after mending, what does not meet is
told value by value: a lost zero, a trailing blank, a year that nobody agreed on. A site called NA is a site.
"""

from pathlib import Path

import pandas as pd

import kivvet

folder = Path(__file__).parent / "field_book"
book = kivvet.open_book(folder)
for found in book.check(["quota"], data=False).of_severity("error"):
    print(found)

quotas = pd.read_csv(folder / "tables/quota.csv", dtype={"site": str}, keep_default_na=False)
readings = pd.read_csv(folder / "data/readings.csv", dtype={"site": str}, keep_default_na=False)
quota = kivvet.RuleTable(
    "quota",
    inputs={"site": "text", "year": "integer"},
    outputs={"quota": "integer", "team": "text"},
    lookup=quotas.drop_duplicates(["site", "year"], keep="last"),
)
assert not quota.check().has_errors
applied = quota.apply_with_report(readings)
print()
print(applied.frame.to_string(index=False, na_rep="-"))
print()
for value, rows in applied.report.tables[0].unmatched_values:
    print(f"no quota for {value}: {rows} row")
