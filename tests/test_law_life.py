"""The life of a book: rules and data change in any order, and whatever is asked between says what a loop over the rows says.

The book has a table of each shape, a formula, and a window, and a dataset that reads what another writes. A model beside it holds
the same rules as lists and dictionaries, and works every row out by itself.
"""

from __future__ import annotations

import csv
import itertools
import shutil
import tempfile
from collections import Counter
from fractions import Fraction
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

import kivvet
from tests.conftest import budget

BOOK = """\
[datasets.d]
source  = "d.csv"
target  = "out/d.parquet"
types   = { x = "number", k = "text" }
columns = ["band", "grp", { table = "site", keep = ["river"] }, "verdict", "twice", "first"]

[datasets.seen]
source  = "out/d.parquet"
target  = "out/seen.csv"
columns = [{ table = "word", input = { band = "band" } }]
where   = "grp IS NOT NULL"

[summaries.by_grp]
from   = "d"
by     = ["grp"]
values = { n = "COUNT(*)", total = "SUM(x)", low = "COUNT(*) FILTER (WHERE band = 'low')" }
target = "out/by_grp.csv"
"""
COLUMNS = ["band", "grp", {"table": "site", "keep": ["river"]}, "verdict", "twice", "first"]
NOTED = 'severity = { gap = "note", unfinished = "note", shadowed = "note", duplicate = "note", conflict = "note" }\n'
CODES = ("K1", "K2", "K3", "K4", "")
LABELS = ("low", "mid", "high", "top")
GROUPS = ("a", "b", "c")
RIVERS = ("Elm", "Ash", None)
codes, labels = st.sampled_from(CODES), st.sampled_from(LABELS)
values = st.one_of(st.none(), st.integers(0, 60))
rows = st.tuples(values, codes)


class Rules:
    """The rules as plain values."""

    def __init__(self):
        self.bounds = [20, 40]
        self.labels = ["low", "mid", "high"]
        self.without = None  # the band that has no row
        self.groups = {"K1": "a", "K2": "b"}
        self.sites = {"K1": "Elm", "K2": "Ash", "K3": None}
        self.verdicts = [(10, None, "calm"), (None, "K2", "watch")]  # below what, of which code
        self.factor = 2

    def band(self, x):
        if x is None:
            return None
        place = sum(x >= bound for bound in self.bounds)
        return None if place == self.without else self.labels[place]

    def verdict(self, x, k):
        for below, code, name in self.verdicts:
            if (below is None or (x is not None and x < below)) and (code is None or k == code):
                return name
        return None if x is None or not k else "rest"  # what has no value is not any other value

    def made(self, data):
        """What each row becomes."""
        met, made = set(), []
        for x, k in data:
            made.append(
                {
                    "band": self.band(x),
                    "grp": self.groups.get(k),
                    "river": self.sites.get(k),
                    "verdict": self.verdict(x, k),
                    "twice": None if x is None else x / 10 * self.factor,
                    "first": k not in met,
                }
            )
            met.add(k)
        return made

    def files(self):
        ends = [f"{bound / 10}" for bound in self.bounds]
        cells = [f"< {ends[0]}", *(f"{one} to <{two}" for one, two in itertools.pairwise(ends)), f">= {ends[-1]}"]  # fmt: skip
        bands = [
            [cell, label]
            for n, (cell, label) in enumerate(zip(cells, self.labels, strict=True))
            if n != self.without
        ]
        decided = [
            ["" if low is None else f"< {low / 10}", code or "", name] for low, code, name in self.verdicts
        ]
        words = [[label, label.upper()] for label in LABELS]
        inputs = '{ x = { type = "number", step = 0.1 }, k = "text" }'
        return {
            "tables/band.toml": f'{NOTED}inputs.x = {{ type = "number", step = 0.1 }}\noutputs.band = "text"\nrows = {bands}\n',
            "tables/grp.toml": f'{NOTED}inputs.k = "text"\noutputs.grp = "text"\nrows = {[list(one) for one in self.groups.items()]}\n',
            "tables/verdict.toml": f'{NOTED}match = "first"\ninputs = {inputs}\noutputs.verdict = "text"\n'
            f'otherwise = {{ verdict = "rest" }}\nrows = {[["x", "k", "verdict"], *decided]}\n',
            "tables/site.toml": 'inputs.k = "text"\noutputs.river = "text"\nlookup = "site.csv"\n',
            "tables/site.csv": "k,river\n"
            + "".join(f"{k},{river or ''}\n" for k, river in self.sites.items()),
            "tables/word.toml": f'{NOTED}inputs.band = "text"\noutputs.word = "text"\nrows = {words}\n',
            "formulas.toml": f'twice = "x * {self.factor}"\nfirst = "ROW_NUMBER() OVER (PARTITION BY k) = 1"\n',
            "book.toml": BOOK,
        }


class Life(RuleBasedStateMachine):
    """What happens to a book, in any order."""

    @initialize(data=st.lists(rows, min_size=1, max_size=8))
    def begin(self, data):
        self.folder = Path(tempfile.mkdtemp())
        self.rules, self.data = Rules(), data
        self.written = None  # what the target was last made of: the rules' results, and the rows
        self.past = []  # of each run the bytes of the target, and how many rows there were
        self.n_runs = 0
        self.followed = self.followed_data = None
        self.save()

    def teardown(self):
        if hasattr(self, "folder"):
            shutil.rmtree(self.folder)

    def save(self):
        lines = [f"{'' if x is None else x / 10},{k}\n" for x, k in self.data]
        for name, text in {**self.rules.files(), "d.csv": "x,k\n" + "".join(lines)}.items():
            path = self.folder / name
            path.parent.mkdir(exist_ok=True)
            if not path.exists() or path.read_text() != text:
                path.write_text(text)

    @property
    def book(self):
        return kivvet.open_book(self.folder)

    @property
    def made(self):
        return self.rules.made(self.data)

    # What happens

    @rule(place=st.integers(0, 3), bound=st.integers(1, 59))
    def a_bound_moves(self, place, bound):
        place %= len(self.rules.bounds)
        self.rules.bounds[place] = bound
        self.rules.bounds = sorted(set(self.rules.bounds))
        self.rules.labels = self.rules.labels[: len(self.rules.bounds) + 1]
        self.rules.without = None
        self.save()

    @rule(bound=st.integers(1, 59), label=labels)
    def a_band_is_cut(self, bound, label):
        if bound not in self.rules.bounds and len(self.rules.bounds) < 4:
            place = sum(bound > one for one in self.rules.bounds)
            self.rules.bounds.insert(place, bound)
            self.rules.labels.insert(place, label)
            self.rules.without = None
            self.save()

    @rule(place=st.integers(0, 4), label=labels)
    def a_class_is_called_otherwise(self, place, label):
        self.rules.labels[place % len(self.rules.labels)] = label
        self.save()

    @rule(place=st.one_of(st.none(), st.integers(0, 4)))
    def a_row_goes_or_comes_back(self, place):
        self.rules.without = None if place is None else place % len(self.rules.labels)
        self.save()

    @rule(code=st.sampled_from(CODES[:-1]), group=st.one_of(st.none(), st.sampled_from(GROUPS)))
    def a_value_is_mapped_otherwise(self, code, group):
        self.rules.groups.pop(code, None)
        if group is not None:
            self.rules.groups[code] = group
        if not self.rules.groups:
            self.rules.groups["K4"] = "c"
        self.save()

    @rule(code=st.sampled_from(CODES[:-1]), river=st.sampled_from(RIVERS), is_there=st.booleans())
    def a_key_of_the_lookup_changes(self, code, river, is_there):
        self.rules.sites.pop(code, None)
        if is_there or not self.rules.sites:
            self.rules.sites[code] = river
        self.save()

    @rule(
        low=st.one_of(st.none(), st.integers(1, 59)),
        code=st.sampled_from((None, "K1", "K3")),
        place=st.integers(0, 3),
    )
    def a_rule_comes(self, low, code, place):
        if (low is None and code is None) or len(self.rules.verdicts) > 4:
            self.rules.verdicts.reverse()
        else:
            self.rules.verdicts.insert(place, (low, code, "calm" if place % 2 else "alarm"))
        self.save()

    @rule(factor=st.integers(1, 3))
    def a_formula_changes(self, factor):
        self.rules.factor = factor
        self.save()

    @rule(more=st.lists(rows, min_size=1, max_size=5))
    def rows_come(self, more):
        self.data = [*self.data, *more]
        self.save()

    @rule(place=st.integers(0, 30), row=rows)
    def a_row_is_corrected(self, place, row):
        self.data = list(self.data)
        self.data[place % len(self.data)] = row
        self.save()

    @rule()
    def all_is_refreshed(self):
        done = self.book.refresh()
        is_new = self.written != (self.made, self.data)
        for one in done:
            assert one.report is not None or not (is_new and one.dataset == "d"), one
        if done[0].report is not None:
            self.n_runs += 1
            self.past.append(((self.folder / "out/d.parquet").read_bytes(), list(self.data)))
        self.written = (self.made, self.data)
        held = pq.read_table(self.folder / "out/d.parquet").select(list(self.made[0])).to_pylist()
        assert held == self.made
        assert [one.state for one in self.book.status()] == ["current", "current", "current"]
        assert self.book.impact().is_nothing
        assert len(self.book.history(["d"]).runs) == self.n_runs
        assert all(one.report is None for one in self.book.refresh())
        with (self.folder / "out/by_grp.csv").open() as file:
            summed = {line["grp"]: line for line in csv.DictReader(file)}
        groups = {row["grp"] or "" for row in self.made}
        assert groups <= summed.keys() <= groups | set(self.rules.groups.values())  # every class has a line
        for group, line in summed.items():
            its = [
                (x, row)
                for (x, _), row in zip(self.data, self.made, strict=True)
                if (row["grp"] or "") == group
            ]
            there = [Fraction(x / 10) for x, _ in its if x is not None]
            assert int(line["n"]) == len(its)
            assert int(line["low"]) == sum(row["band"] == "low" for _, row in its)
            assert line["total"] == "" if not there else float(line["total"]) == float(sum(there))
        seen = (self.folder / "out/seen.csv").read_text().splitlines()[1:]
        kept = [row for row in self.made if row["grp"] is not None]
        assert [line.rpartition(",")[2] for line in seen] == [(row["band"] or "").upper() for row in kept]

    @precondition(lambda self: getattr(self, "past", None))
    @rule(place=st.integers(0, 20))
    def a_run_of_then_is_done_again(self, place):
        place %= len(self.past)
        content, data = self.past[place]
        run = self.book.history(["d"]).runs[place].run
        if self.data[: len(data)] != data:
            return  # its source is not to be had any more
        done = self.book.apply_as_of("d", run.id, self.folder / "out/then.parquet")
        then = (self.folder / "out/then.parquet").read_bytes()
        assert done.is_same_counts and done.is_same_source
        assert pq.read_table(self.folder / "out/then.parquet").equals(pq.read_table(self.as_file(content))), (
            len(then)
        )

    def as_file(self, content):
        path = self.folder / "kept.parquet"
        path.write_bytes(content)
        return path

    # What is so at any time

    @invariant()
    def what_is_called_current_is_what_the_rules_give(self):
        if not hasattr(self, "folder"):
            return
        status = self.book.status(["d"])[0]
        if self.written is None:
            assert status.state == "never applied"
        elif self.written != (self.made, self.data):
            assert status.state == "stale", (self.written, self.made)

    @invariant()
    def what_would_move_is_what_differs(self):
        if getattr(self, "written", None) is None or self.written[1] != self.data:
            return
        before, after = self.written[0], self.made
        impact = next(one for one in self.book.impact().datasets if one.dataset == "d")
        told = {one.column: one for one in impact.columns}
        for name in before[0]:
            pairs = [(one[name], two[name]) for one, two in zip(before, after, strict=True)]
            n_changed = sum(one != two for one, two in pairs)
            assert n_changed == (told[name].changed if name in told else 0), name
            if name in told and told[name].pairs:
                assert Counter(dict(told[name].pairs)) == Counter(pairs), name

    @invariant()
    def what_has_no_class_is_counted(self):
        if not hasattr(self, "folder"):
            return
        told = Counter()
        for one in self.book.unmatched(["d"]):
            told[one.table, one.value] += one.rows
        wanted = Counter()
        for x, k in self.data:
            if x is not None and self.rules.band(x) is None:
                wanted["band", f"{x / 10:g}"] += 1
            if self.rules.verdict(x, k) == "rest":
                wanted["verdict", f"x = {x / 10:g}, k = {k}"] += 1
            for table, known in (("grp", self.rules.groups), ("site", self.rules.sites)):
                if k and known.get(k) is None:  # no row, or one whose result is still to be filled in
                    wanted[table, k] += 1
        assert told == wanted, (told, wanted)

    @invariant()
    def totals_are_those_of_the_rows(self):
        if not hasattr(self, "folder"):
            return
        table = self.book.cross_table("d", by=["grp"], value={"rows": "COUNT(*)", "sum": "SUM(x)"})
        told = {
            line[0].value: table.cell(line).values for line in table.lines if line and line[0].kind == "value"
        }
        for group in {row["grp"] for row in self.made} - {None}:
            its = [x for (x, _), row in zip(self.data, self.made, strict=True) if row["grp"] == group]
            there = [Fraction(x / 10) for x in its if x is not None]
            assert told[group] == (len(its), float(sum(there)) if there else None)
        assert sum(n for n, _ in told.values()) == sum(row["grp"] is not None for row in self.made)

    @invariant()
    def a_frame_that_follows_has_what_the_rules_of_now_make(self):
        if not hasattr(self, "folder"):
            return
        if self.followed is None or self.followed_data != self.data:
            xs = pa.array([None if x is None else x / 10 for x, _ in self.data], pa.float64())
            ks = pa.array([k or None for _, k in self.data], pa.string())
            self.followed = self.book.live(pa.table({"x": xs, "k": ks}), COLUMNS)
            self.followed_data = list(self.data)
        else:
            self.followed.refresh()
        held = self.followed.frame.select(list(self.made[0])).to_pylist()
        assert held == self.made

    @invariant()
    def each_row_is_explained_as_it_is_made(self):
        if not hasattr(self, "folder"):
            return
        place = len(self.data) // 2
        for one in self.book.explain("d", place + 1):
            for output, value in one.results.items():
                assert value == self.made[place][output], one.table


Life.TestCase.settings = settings(max_examples=budget(12), stateful_step_count=12, deadline=None)
TestLife = Life.TestCase
