"""Amounts split by class: the load of each sample in the column of its oxygen status, none lost on the way.

The columns come from the classes of the table, never from what this month's data happens to hold; what has no class has a
column of its own, so the parts add up to the whole.
"""

from pathlib import Path

import pandas as pd

import kivvet

folder = Path(__file__).parent / "field_book"
book = kivvet.open_book(folder)
samples = pd.read_csv(folder / "data/samples.csv", dtype={"station": str})

split = book.apply(
    samples,
    [
        "load",
        "status",
        {"indicators": "status", "amount": "load", "name": "load_{class}", "rest": "load_unknown"},
    ],
)
parts = ["load_poor", "load_fair", "load_good", "load_unknown"]
print(split[["sample", "status", "load", *parts]].round(0).to_string(index=False, na_rep=""))
print()
print(split[parts].sum().round(1).to_string())
print("all parts:", round(split[parts].to_numpy().sum(), 1), " all loads:", round(split["load"].sum(), 1))
