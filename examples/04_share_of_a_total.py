"""Share of a total: what each sample carries of its river's load, and which sample carries most.

Loads are worked out from flow and nitrate, shares within each river; the shares of a river add up to one.
"""

from pathlib import Path

import pandas as pd

import kivvet

book = Path(__file__).parent / "field_book"
samples = pd.read_csv(book / "data/samples.csv", dtype={"station": str})
stations = pd.read_csv(book / "tables/station.csv", dtype={"station": str})
station = kivvet.RuleTable(
    "station", {"station": "text"}, {"river": "text"}, lookup=stations, otherwise={"river": "unknown"}
)

loads = kivvet.with_formulas(
    station.apply(samples),
    {
        "load": "flow * nitrate * 86.4",
        "share": "load / SUM(load) OVER (PARTITION BY river)",
        "rank": "RANK() OVER (PARTITION BY river ORDER BY load DESC)",
    },
)
shown = loads.sort_values(["river", "rank"])[["river", "rank", "sample", "load", "share"]]
print(shown.to_string(index=False, formatters={"load": "{:,.0f}".format, "share": "{:.1%}".format}))
print()
sums = loads.groupby("river", observed=True)["share"].sum()
print("shares add up to", ", ".join(f"{value:.6f} ({river})" for river, value in sums.items()))
