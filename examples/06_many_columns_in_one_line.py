"""Many mappings in one line: one table of answers over all questions of a field sheet.

The dataset says `{ table = "seen", over = "saw_*" }`: next year's questions come in by themselves. An answer that the table
does not know is told for each question.
"""

from pathlib import Path

import pandas as pd

import kivvet

folder = Path(__file__).parent / "field_book"
book = kivvet.open_book(folder)
sheets = pd.read_csv(folder / "data/sheets.csv", dtype=str)

applied = book.apply_with_report(
    sheets, [{"table": "seen", "over": "saw_*", "keep": {"seen": "{input}_label"}}]
)

print(applied.frame.to_string(index=False, na_rep=""))
print()
for one in applied.report.tables:
    told = ", ".join(f"{value!r} ({rows})" for value, rows in one.unmatched_values)
    print(
        f"{one.column}: matched {one.matched}, missing {one.missing}, unmatched {one.unmatched} {told}".rstrip()
    )
