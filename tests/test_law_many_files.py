"""The life of a dataset of many files: files come, grow, change and go, rules change, and every kind of target holds what a loop gives."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path

import pyarrow.parquet as pq
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

import kivvet
from tests.conftest import budget

BOOK = """\
[datasets.whole]
source      = "months/*.csv"
file_column = "month"
target      = "out/whole.parquet"
types       = {{ x = "number", k = "text" }}
columns     = ["band", "grp"]

[datasets.text]
source      = "months/*.csv"
file_column = "month"
target      = "out/text.csv"
types       = {{ x = "number", k = "text" }}
columns     = ["band", {{ formula = "twice" }}]
where       = "{where}"
"""
WHERE = "x IS NOT NULL"
MONTHS = ("2026-01", "2026-02", "2026-03", "2026-04")
rows = st.lists(st.tuples(st.one_of(st.none(), st.integers(0, 30)), st.sampled_from(("a", "b", "c", ""))), min_size=1, max_size=5)  # fmt: skip
months = st.sampled_from(MONTHS)


class ManyFiles(RuleBasedStateMachine):
    """What happens to a folder of files, in any order."""

    @initialize(data=rows)
    def begin(self, data):
        self.folder = Path(tempfile.mkdtemp())
        (self.folder / "months").mkdir()
        (self.folder / "tables").mkdir()
        self.files = {}
        self.bound, self.groups = 10, {"a": "one", "b": "two"}
        self.written = None
        (self.folder / "book.toml").write_text(BOOK.format(where=WHERE))
        (self.folder / "formulas.toml").write_text('twice = "x * 2"\n')
        self.write_rules()
        self.write("2026-02", data)

    def teardown(self):
        if hasattr(self, "folder"):
            shutil.rmtree(self.folder)

    def write_rules(self):
        noted = 'severity = { gap = "note", near-miss = "note" }\n'
        bands = f'rows = [["< {self.bound}", "low"], [">= {self.bound}", "high"]]\n'
        pairs = [list(pair) for pair in self.groups.items()]
        (self.folder / "tables/band.toml").write_text(f'inputs.x = "number"\noutputs.band = "text"\n{bands}')
        (self.folder / "tables/grp.toml").write_text(f'{noted}inputs.k = "text"\noutputs.grp = "text"\nrows = {pairs}\n')  # fmt: skip

    def write(self, month, data):
        self.files[month] = list(data)
        text = "x,k\n" + "".join(f"{'' if x is None else x},{k}\n" for x, k in data)
        (self.folder / f"months/{month}.csv").write_text(text)

    @property
    def book(self):
        return kivvet.open_book(self.folder)

    def made(self):
        """What the whole target and the one of text are to hold."""
        whole, text = [], []
        for month, data in sorted(self.files.items()):
            for x, k in data:
                band = None if x is None else "low" if x < self.bound else "high"
                whole.append((x, k or None, f"months/{month}.csv", band, self.groups.get(k)))
                if x is not None:
                    text.append((str(x), k, f"months/{month}.csv", band, str(x * 2)))
        return whole, text

    # What happens

    @rule(month=months, data=rows)
    def a_file_comes_or_is_replaced(self, month, data):
        self.write(month, data)

    @rule(month=months, data=rows)
    def a_file_grows(self, month, data):
        self.write(month, [*self.files.get(month, []), *data])

    @rule(month=months)
    def a_file_goes(self, month):
        if month in self.files and len(self.files) > 1:
            del self.files[month]
            (self.folder / f"months/{month}.csv").unlink()

    @rule(bound=st.integers(1, 29))
    def a_bound_moves(self, bound):
        self.bound = bound
        self.write_rules()

    @rule(code=st.sampled_from("abc"), group=st.sampled_from(("one", "two", "three")))
    def a_value_is_mapped_otherwise(self, code, group):
        self.groups[code] = group
        self.write_rules()

    @rule(anew=st.booleans())
    def all_is_refreshed(self, anew):
        done = self.book.refresh(anew=anew)
        whole, text = self.made()
        assert [one.dataset for one in done] == ["whole", "text"]
        held = pq.read_table(self.folder / "out/whole.parquet")
        names = ("x", "k", "month", "band", "grp")
        assert [tuple(row[name] for name in names) for row in held.to_pylist()] == whole
        lines = (self.folder / "out/text.csv").read_text().splitlines()
        assert lines[0] == "x,k,month,band,twice"
        assert [tuple(line.split(",")) for line in lines[1:]] == text, (lines, text)
        assert [one.state for one in self.book.status()] == ["current", "current"]
        assert all(one.report is None for one in self.book.refresh())
        self.written = (whole, text)

    # What is so at any time

    @invariant()
    def what_differs_from_what_was_written_is_called_stale(self):
        if not hasattr(self, "folder"):
            return
        states = {one.dataset: one.state for one in self.book.status()}
        for name, now, then in zip(("whole", "text"), self.made(), self.written or (None, None), strict=True):
            if self.written is None:
                assert states[name] == "never applied"
            elif now != then:
                assert states[name] == "stale", name

    @invariant()
    def rows_are_counted_over_all_files(self):
        if not hasattr(self, "folder"):
            return
        whole, text = self.made()
        table = self.book.cross_table("whole", by=["month"], value={"rows": "COUNT(*)", "low": "COUNT(*) FILTER (WHERE band = 'low')"})  # fmt: skip
        told = {line[0].value: table.cell(line).values for line in table.lines if line and line[0].kind == "value"}  # fmt: skip
        wanted = {}
        for _, _, month, band, _ in whole:
            n, low = wanted.get(month, (0, 0))
            wanted[month] = (n + 1, low + (band == "low"))
        assert told == wanted
        assert len(self.book.show("text", first=10_000)) == len(text)
        missing = {}
        for _, code, _, _, group in whole:
            if code is not None and group is None:
                missing[code] = missing.get(code, 0) + 1
        assert {one.value: one.rows for one in self.book.unmatched(["whole"])} == missing


ManyFiles.TestCase.settings = settings(max_examples=budget(12), stateful_step_count=10, deadline=None)
TestManyFiles = ManyFiles.TestCase
