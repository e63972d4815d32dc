"""A pipeline in Python: from a raw file to classes, a summary, a chart and a page, with a stop where data breaks a rule.

What a nightly job does. Frames of pandas, Arrow and others go in and come back as they were given.
"""

import sys
from pathlib import Path
from tempfile import TemporaryDirectory

import pandas as pd

import kivvet

folder = Path(__file__).parent / "field_book"
book = kivvet.open_book(folder)

# 1. Rules first: an error in a table stops the job before any data is read.
faults = book.check(["status", "station", "method"], data=False)
if faults.has_errors:
    sys.exit(str(faults))

# 2. Data in, classes out.
samples = pd.read_csv(
    folder / "data/samples.csv", dtype={"station": str}, keep_default_na=False, na_values={"oxygen": ""}
)
applied = book.apply_with_report(samples, ["load", "status", {"table": "station", "keep": ["river"]}])
for report in applied.report.tables:
    assert report.matched + report.missing + report.unmatched == report.rows
    if report.unmatched > report.rows / 4:
        sys.exit(f"too many values that {report.table} does not know: {report.unmatched_values}")

# 3. Figures, straight from the frame, in class order.
print(applied.frame.groupby(["river", "status"], observed=False)["load"].sum().unstack().round(0).to_string())
print()

# 4. What people look at.
with TemporaryDirectory() as scratch:
    chart = book.chart("samples", by=["river"], across="status", value="SUM(load) AS load")
    picture = chart.save(Path(scratch) / "loads.png")
    page = book.report(["samples"]).save(Path(scratch) / "report.html")
    print(f"{picture.name}: {chart.title}")
    is_whole = page.read_text(encoding="utf-8").endswith("</html>\n")
    print(f"{page.name}: {'whole' if is_whole else 'cut short'}")
