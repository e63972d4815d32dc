"""Classes over three parts that sum to a hundred: which bed a reach has, by its gravel, sand and mud.

The parts are tied: none can rise without another's fall. The check knows it from one line, `given`, and so tells just what can
be: the first draft leaves a line of mixes without a class, and two of its rules meet. The triangle shows every mix there is.
"""

from pathlib import Path
from tempfile import TemporaryDirectory

import pandas as pd

import kivvet

parts = ["gravel", "sand", "mud"]
part = {"type": "number", "domain": "0 to 100", "required": True}
headings = [*parts, "when", "bed"]
rules = [
    [">= 80", "", "", "", "gravel"],
    ["50 to <80", "", "", "sand >= 4 * mud", "sandy gravel"],
    ["50 to <80", "", "", "sand < 4 * mud AND sand >= mud", "mixed gravel"],
    ["50 to <80", "", "", "sand < mud", "muddy gravel"],
    ["20 to <50", "", "", "sand >= 3 * mud", "gravelly sand"],
    ["20 to <50", "", "", "sand < 3 * mud AND mud <= 3 * sand", "gravelly mix"],
    ["20 to <50", "", "", "mud > 3 * sand", "gravelly mud"],
    ["< 20", ">= 80", "", "", "sand"],
    ["< 20", "50 to <80", "", "", "muddy sand"],
    ["< 20", "20 to <50", "> 40", "", "sandy mud"],
    ["< 20", "< 50", "<= 40", "", "loam"],
    ["< 20", "< 20", "> 40", "", "mud"],
]


def table(rows):
    """Return rules as a table of parts that sum to 100."""
    given = "gravel + sand + mud = 100"
    return kivvet.RuleTable(
        "bed", dict.fromkeys(parts, part), {"bed": "text"}, [headings, *rows], given=given
    )


hasty = [list(row) for row in rules]
hasty[1][3] = "sand >= 3 * mud"
hasty[7][1] = "> 80"
for found in table(hasty).check():
    print(found)
print()

bed = table(rules)
print(bed.check().summary)
print()
reaches = pd.DataFrame(
    {"reach": ["A", "B", "C"], "gravel": [62, 21.5, 5], "sand": [30, 40.0, 20], "mud": [8, 38.5, 75]}
)
print(bed.apply(reaches).to_string(index=False))
print()
print(bed.explain({"gravel": 5, "sand": 20, "mud": 75}, wanted="loam").wanted.ways[0])
with TemporaryDirectory() as folder:
    chart = bed.chart(title="The bed of a reach")
    print(chart.save(Path(folder) / "bed.png").name)
    print(chart.words)
