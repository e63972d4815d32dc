"""One sum, one mean, one spread, one number of unmatched rows: whoever asks, and in whatever order and form the rows stand."""

import json
import math
from fractions import Fraction

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.calculate.tally import _TALLIES
from kivvet.core.formulas.functions import AGGREGATES
from tests.conftest import budget, write_book
from tests.conftest import kivvet as run

ASKED = {
    "total": "SUM(x)",
    "mean": "AVG(x)",
    "spread": "VAR_SAMP(x)",
    "off": "STDDEV_POP(x)",
}
OVER = {"total": "SUM(x)", "mean": "AVG(x)"}
BOOK = """\
[datasets.d]
source  = "{source}"
types   = {{ g = "text" }}
target  = "out/d.parquet"
columns = [{columns}]

[summaries.s]
from   = "d"
by     = ["g"]
values = {{ total = "SUM(x)", mean = "AVG(x)", spread = "VAR_SAMP(x)", off = "STDDEV_POP(x)" }}
target = "out/s.parquet"
"""
KINDS = {
    "money": lambda rng, n: np.round(rng.lognormal(4, 1.5, n), 2),
    "both": lambda rng, n: np.round(rng.normal(0, 1000, n), 2),
    "wide": lambda rng, n: rng.choice([-1.0, 1.0], n) * 10 ** rng.uniform(-20, 20, n),
    "far": lambda rng, n: 1e9 + np.round(rng.normal(0, 1, n), 3),
}


def exact(values):
    """What arithmetic without rounding gives, rounded once where the standard's value is a sum."""
    total, n = sum(map(Fraction, values), Fraction(0)), len(values)
    off = sum(((Fraction(one) - total / n) ** 2 for one in values), Fraction(0))
    return {
        "total": float(total),
        "mean": float(total) / n,
        "spread": float(off / (n - 1)),
        "off": math.sqrt(off / n),
    }


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("form", ["d.csv", "d.parquet", "d/*.csv"])
def test_totals_are_the_same_for_all_who_ask_and_for_every_order_and_form(tmp_path, kind, form):
    rng = np.random.default_rng(len(kind) + len(form))
    n = 3_000
    frame = pd.DataFrame({"g": rng.choice(list("abcde"), n), "x": KINDS[kind](rng, n)})
    wanted = {group: exact(part.x.tolist()) for group, part in frame.groupby("g")}
    frame = frame.sample(frac=1, random_state=2).reset_index(drop=True)
    formulas = {name: f"{text} OVER (PARTITION BY g)" for name, text in ASKED.items()}
    # All of the group, in order: forwards, backwards, and in frames that end where it ends.
    formulas |= {f"{name}_up": f"{text} OVER (PARTITION BY g ORDER BY x)" for name, text in OVER.items()}
    formulas |= {
        f"{name}_rest": f"{text} OVER (PARTITION BY g ORDER BY x DESC ROWS BETWEEN CURRENT ROW AND UNBOUNDED FOLLOWING)"
        for name, text in OVER.items()
    }
    columns = ", ".join(json.dumps(name) for name in formulas)
    text = "".join(f"{name} = {json.dumps(one)}\n" for name, one in formulas.items())
    folder = write_book(
        tmp_path / "b",
        {
            "book.toml": BOOK.format(source=form, columns=columns),
            "formulas.toml": text,
            "tables/ph_class.toml": None,
            "tables/station.toml": None,
            "tables/station.csv": None,
        },
    )
    if form == "d.parquet":
        pq.write_table(pa.Table.from_pandas(frame), folder / form, row_group_size=700)
    elif form == "d.csv":
        frame.to_csv(folder / form, index=False)
    else:
        (folder / "d").mkdir()
        for number, part in enumerate(np.array_split(np.arange(n), 4)):
            frame.iloc[part].to_csv(folder / f"d/{number}.csv", index=False)
    book = kivvet.open_book(folder)
    made = book.cross_table("d", by=["g"], value=ASKED)
    told = {
        str(line[0].value): made.cell(line).values for line in made.lines if line and line[0].kind == "value"
    }
    told["all"] = made.cell(made.lines[-1]).values
    wanted["all"] = exact(frame.x.tolist())
    assert told.keys() == wanted.keys()
    for group, values in told.items():
        for name, value in zip(ASKED, values, strict=True):
            best = wanted[group][name]
            assert value == best or (name in ("spread", "off") and abs(value - best) <= math.ulp(best)), (
                group,
                name,
            )
            wanted[group][name] = value  # of spreads the last bit may be another, but it is one for all
    del wanted["all"]
    for name in ("d", "s"):
        book.apply_dataset(name)
    kept = pq.read_table(folder / "out/s.parquet").to_pandas()
    assert {row.g: {name: getattr(row, name) for name in ASKED} for row in kept.itertuples()} == wanted
    done = pq.read_table(folder / "out/d.parquet").to_pandas()
    for group, part in done.groupby("g", observed=True):
        for name in ASKED:
            assert set(part[name]) == {wanted[group][name]}, (group, name)
        for name in OVER:
            ordered = part.sort_values("x")
            assert ordered[f"{name}_up"].iloc[-1] == wanted[group][name]
            assert ordered[f"{name}_rest"].iloc[-1] == wanted[group][name]


def test_every_aggregate_is_tallied_by_name():
    assert set(_TALLIES) == AGGREGATES


ROWS = st.lists(
    st.tuples(st.sampled_from(["a", "a ", "b", "c", "x1", "x2", ""]), st.sampled_from(["", "1", "2.5", "7"])),
    min_size=1,
    max_size=30,
)


@settings(max_examples=budget(25), deadline=None)
@given(rows=ROWS, listed=st.sets(st.sampled_from(["a", "b", "c", "x1"]), min_size=1, max_size=3))
def test_unmatched_rows_are_the_same_number_for_all_who_ask(tmp_path_factory, rows, listed):
    """A mapping of texts, and bins with a hole: what check, apply, unmatched, a cross-table and the report say, against a
    count by hand.
    """
    data = "k,n\n" + "".join(f'"{k}",{n}\n' if k else f",{n}\n" for k, n in rows)
    mapping = "".join(f'  ["{one}", "is {one}"],\n' for one in sorted(listed))
    folder = write_book(
        tmp_path_factory.mktemp("b"),
        {
            "book.toml": 'severity.gap = "warning"\n[datasets.d]\nsource = "d.csv"\ntypes = { k = "text", n = "number" }\ntarget = "out/d.csv"\ncolumns = ["what", "size"]\n',
            "tables/what.toml": f'inputs.k = "text"\noutputs.what = "text"\nrows = [\n{mapping}]\n',
            "tables/size.toml": 'inputs.n = "number"\noutputs.size = "text"\nrows = [["< 2", "small"], [">= 5", "big"]]\n',
            "d.csv": data,
            "tables/ph_class.toml": None,
            "tables/station.toml": None,
            "tables/station.csv": None,
        },
    )
    by_hand = {
        "what": [k for k, _ in rows if k and k not in listed],
        "size": [n for _, n in rows if n == "2.5"],
    }
    book = kivvet.open_book(folder)
    report = book.apply_dataset("d")
    for table in report.tables:
        wanted = by_hand[table.table]
        assert table.unmatched == len(wanted)
        assert sum(count for _, count in table.unmatched_values) + table.unmatched_beyond == len(wanted)
        assert dict(table.unmatched_values) == {one: wanted.count(one) for one in wanted}
        lines = table.lines_of(table.table)
        assert sum(n for _, kind, n in lines if kind == "unmatched") == len(wanted)
        assert sum(n for _, _, n in lines) == len(rows)
        crossed = book.cross_table("d", by=[table.table])
        told = {line[0].kind: crossed.cell(line).rows for line in crossed.lines if line}
        assert told.get("unmatched", 0) == len(wanted)
        told = sum(one.rows for one in book.unmatched() if one.table == table.table)
        assert told == len(wanted)
    found = book.check().findings
    counted = [one.count or 0 for one in found if one.kind in ("gap", "unmatched")]
    assert sum(counted) == sum(map(len, by_hand.values())), [
        (one.kind, one.count, one.message) for one in found
    ]
    page = json.loads(run("report", "--json", cwd=folder).out)
    for table in page["tables"]:
        assert [one["unmatched"] for one in table["counted"]] == [len(by_hand[table["name"]])]
