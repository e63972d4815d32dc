"""Equal-count bins and the top one: nitrate in four bins of equally many samples, and who is in the highest.

The bounds are drawn from the data once and then stay: the table is a file that can be shared, and next month's samples
fall where they fall.
"""

from pathlib import Path

import pandas as pd

import kivvet

samples = pd.read_csv(Path(__file__).parent / "field_book/data/samples.csv", dtype={"station": str})

quarter = kivvet.draft(
    samples,
    "nitrate",
    name="nitrate_quarter",
    output="quarter",
    propose="counts",
    bins=4,
    results="quarter {number}",
)
print(quarter)
assert quarter.check().is_clean
made = quarter.apply(samples)
print(made["quarter"].value_counts(sort=False).to_string())
print()
print("in the highest:", ", ".join(made.loc[made["quarter"] == "quarter 4", "sample"]))

next_month = pd.DataFrame({"nitrate": [3.0, 48.0, 52.0, 90.0]})
print("next month:    ", ", ".join(quarter.apply(next_month)["quarter"]))
