"""Columns by key: river and district from a list of stations, by a code with leading zeros.

The code is text on both sides, so 0007 stays 0007; a station that was typed as 7 is not silently taken for it, and not
silently dropped either: it is told.
"""

from pathlib import Path

import pandas as pd

import kivvet

book = Path(__file__).parent / "field_book"
samples = pd.read_csv(book / "data/samples.csv", dtype={"station": str})
stations = pd.read_csv(book / "tables/station.csv", dtype={"station": str})

station = kivvet.RuleTable(
    "station",
    inputs={"station": "text"},
    outputs={"river": "text", "district": "text", "altitude_m": "integer"},
    lookup=stations,
    otherwise={"river": "unknown"},
)
assert not station.check().has_errors
applied = station.apply_with_report(samples)

print(applied.frame[["sample", "station", "river", "district", "altitude_m"]].to_string(index=False))
(report,) = applied.report.tables
print()
print(f"matched {report.matched} + unmatched {report.unmatched} = {report.rows}")
for value, rows in report.unmatched_values:
    print(f"no station {value!r}: {rows} row, the first is row {report.first_rows[value]}")
