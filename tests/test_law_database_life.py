"""The life of rows in a database: they come, change and go, rules change, and a table, a view and a file hold what a loop gives."""

from __future__ import annotations

import csv
import shutil
import sqlite3
import tempfile
from contextlib import closing
from pathlib import Path

import duckdb
import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import (
    RuleBasedStateMachine,
    initialize,
    invariant,
    precondition,
    rule,
    run_state_machine_as_test,
)

import kivvet
from tests.conftest import budget

BOOK = """\
[databases.s]
path = "{path}"

[datasets.made]
source  = {{ database = "s", table = "d", version = "v" }}
target  = {{ database = "s", table = "made" }}
key     = ["id"]
columns = ["band", "grp", "code"]

[datasets.seen]
source  = {{ database = "s", table = "d" }}
target  = {{ database = "s", view = "seen" }}
columns = ["band", "grp", "code"]

[datasets.file]
source  = {{ database = "s", table = "d", version = "SELECT MAX(v) || ' ' || COUNT(*) FROM d" }}
target  = "out/file.csv"
columns = ["band", "grp"]
where   = "grp IS NOT NULL"
"""
ids = st.integers(1, 9)
row = st.tuples(st.one_of(st.none(), st.integers(-5, 25)), st.sampled_from(("a", "b", "c", "", None)))
NOTED = 'severity = { gap = "note", near-miss = "note", shadowed = "note" }\n'


class InDatabase(RuleBasedStateMachine):
    """What happens to the rows of a table, and to the rules that class them."""

    file = "s.db"

    @initialize(data=st.dictionaries(ids, row, min_size=1, max_size=5))
    def begin(self, data):
        self.folder = Path(tempfile.mkdtemp())
        (self.folder / "tables").mkdir()
        self.rows, self.version = {}, 0
        self.bound, self.groups, self.codes = (
            10,
            {"a": "one", "b": "two"},
            [("< 0", "a", "p"), ("", "b", "q")],
        )
        self.as_written = None  # the rules of the last refresh
        self.held = {}  # what targets were last made of
        (self.folder / "book.toml").write_text(BOOK.format(path=self.file))
        self.write_rules()
        self.change("CREATE TABLE d (id INTEGER, x DOUBLE, k TEXT, v INTEGER)")
        for name, one in data.items():
            self.put(name, one)

    def teardown(self):
        if hasattr(self, "folder"):
            shutil.rmtree(self.folder)

    def connect(self):
        self.book.close()  # a file of duckdb is open in one place alone
        path = str(self.folder / self.file)
        return closing(sqlite3.connect(path) if self.file.endswith(".db") else duckdb.connect(path))

    def change(self, text, *values):
        with self.connect() as there:
            there.execute(text, values)
            there.commit()

    def asked(self, text):
        with self.connect() as there:
            return [tuple(one) for one in there.execute(text).fetchall()]

    def put(self, name, one):
        self.version += 1
        self.change("DELETE FROM d WHERE id = ?", name)
        self.change("INSERT INTO d VALUES (?, ?, ?, ?)", name, one[0], one[1], self.version)
        self.rows[name] = one

    def write_rules(self):
        bands = f'rows = [["< {self.bound}", "low"], [">= {self.bound}", "high"]]\n'
        tables = {
            "band": f'inputs.x = "number"\noutputs.band = "text"\nmissing.band = "none"\n{bands}',
            "grp": f'inputs.k = "text"\noutputs.grp = "text"\nrows = {[list(pair) for pair in self.groups.items()]}\n',
            "code": 'match = "first"\ninputs = { x = "number", k = "text" }\noutputs.code = "text"\notherwise.code = "rest"\n'
            f"rows = {[['x', 'k', 'code'], *map(list, self.codes)]}\n",
        }
        for name, text in tables.items():
            path = self.folder / f"tables/{name}.toml"
            if not path.exists() or path.read_text() != NOTED + text:
                path.write_text(NOTED + text)

    @property
    def book(self):
        return kivvet.open_book(self.folder)

    @property
    def in_force(self):
        return self.bound, dict(self.groups), list(self.codes)

    def made(self, rules):
        """What each row is to hold, by its id."""
        bound, groups, codes = rules
        made = {}
        for name, (x, k) in self.rows.items():
            band = "none" if x is None else "low" if x < bound else "high"
            code = None if x is None or not k else "rest"
            for below, wanted, result in codes:
                if (not below or (x is not None and x < int(below[2:]))) and (not wanted or k == wanted):
                    code = result
                    break
            made[name] = (band, groups.get(k), code)
        return made

    # What happens

    @rule(name=ids, one=row)
    def a_row_comes_or_changes(self, name, one):
        self.put(name, one)

    @rule(name=ids)
    def a_row_goes(self, name):
        if name in self.rows and len(self.rows) > 1:
            del self.rows[name]
            self.change("DELETE FROM d WHERE id = ?", name)

    @rule(bound=st.integers(-4, 24))
    def a_bound_moves(self, bound):
        self.bound = bound
        self.write_rules()

    @rule(code=st.sampled_from("abc"), group=st.sampled_from(("one", "two", "three")))
    def a_value_is_mapped_otherwise(self, code, group):
        self.groups[code] = group
        self.write_rules()

    @rule(
        below=st.sampled_from(("", "< 0", "< 7", "< 20")),
        code=st.sampled_from(("", "a", "c")),
        result=st.sampled_from("pqr"),
    )
    def a_rule_comes_first(self, below, code, result):
        if below or code:
            self.codes = [(below, code, result), *self.codes][:4]
            self.write_rules()

    @rule()
    def all_is_refreshed(self):
        self.book.refresh()
        self.as_written = self.in_force
        wanted = self.made(self.in_force)
        there = {one[0]: one[1:] for one in self.asked("SELECT id, band, grp, code FROM made")}
        assert there == wanted
        with (self.folder / "out/file.csv").open() as file:
            lines = list(csv.DictReader(file))
        kept = {name: one for name, one in wanted.items() if one[1] is not None}
        assert {int(line["id"]): (line["band"], line["grp"]) for line in lines} == {name: one[:2] for name, one in kept.items()}  # fmt: skip
        self.held = {"made": (dict(self.rows), wanted), "file": (dict(self.rows), kept)}
        states = {one.dataset: one.state for one in self.book.status()}
        assert states == {"made": "current", "seen": "current", "file": "current"}
        assert [one.report for one in self.book.refresh(["made", "file"])] == [None, None]

    # What is so at any time

    @precondition(lambda self: getattr(self, "as_written", None) is not None)
    @invariant()
    def a_view_is_of_the_rows_of_now_by_the_rules_of_then(self):
        there = {one[0]: one[1:] for one in self.asked("SELECT id, band, grp, code FROM seen")}
        assert there == self.made(self.as_written)

    @invariant()
    def what_differs_from_what_was_written_is_called_stale(self):
        if not hasattr(self, "folder"):
            return
        states = {one.dataset: one.state for one in self.book.status()}
        if self.as_written is None:
            assert set(states.values()) == {"never applied"}
            return
        wanted = self.made(self.in_force)
        if wanted != self.made(self.as_written):
            assert states["seen"] == "stale"
        if self.held["made"] != (self.rows, wanted):
            assert states["made"] == "stale"
        if self.held["file"][1] != {name: one for name, one in wanted.items() if one[1] is not None}:
            assert states["file"] == "stale"


class InDuckdb(InDatabase):
    """The same in duckdb."""

    file = "s.duckdb"


@pytest.mark.parametrize(
    ("machine", "cases"), [(InDatabase, 12), (InDuckdb, 4)]
)  # a file of duckdb takes long to open
def test_rows_in_a_database(machine, cases):
    run_state_machine_as_test(
        machine, settings=settings(max_examples=budget(cases), stateful_step_count=9, deadline=None)
    )
