"""The life of a book that uses another: what is pinned is what applies, whatever becomes of the other book, until it is taken."""

from __future__ import annotations

import copy
import shutil
import tempfile
from pathlib import Path

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

import kivvet
from tests.conftest import budget

HERE = """\
[uses]
common = "{used}"

[datasets.d]
source  = "d.csv"
target  = "out/d.csv"
types   = {{ ph = "number", station = "text" }}
columns = ["common.ph_class", "grade", "common.station"]
"""
RIVERS = ("Elm", "Ash", "Oak")


class Shared:
    """The rules of the used book, as plain values."""

    def __init__(self):
        self.bound = 65
        self.names = ["acidic", "neutral"]
        self.rivers = {"a": "Elm", "b": "Ash"}

    def ph_class(self, ph):
        return None if ph is None else self.names[ph >= self.bound]

    def write(self, folder):
        files = {
            "book.toml": 'title = "Common"\n',
            "tables/ph_class.toml": f'inputs.ph = {{ type = "number", step = 0.1 }}\noutputs.ph_class = "text"\n'
            f'rows = [["< {self.bound / 10}", "{self.names[0]}"], [">= {self.bound / 10}", "{self.names[1]}"]]\n',
            "tables/station.toml": 'inputs.station = "text"\noutputs.river = "text"\nlookup = "station.csv"\n',
            "tables/station.csv": "station,river\n"
            + "".join(f"{k},{river}\n" for k, river in self.rivers.items()),
        }
        for name, text in files.items():
            (folder / name).parent.mkdir(parents=True, exist_ok=True)
            if not (folder / name).exists() or (folder / name).read_text() != text:
                (folder / name).write_text(text)


class UsedBooks(RuleBasedStateMachine):
    """What happens to two books."""

    @initialize(data=st.lists(st.tuples(st.one_of(st.none(), st.integers(50, 80)), st.sampled_from("abc")), min_size=1, max_size=6), is_packed=st.booleans())  # fmt: skip
    def begin(self, data, is_packed):
        self.base = Path(tempfile.mkdtemp())
        self.common, self.here = self.base / "common", self.base / "here"
        self.shared, self.grades = Shared(), {"acidic": "bad", "neutral": "good", "sour": "bad"}
        self.data, self.is_packed, self.is_gone = data, is_packed, False
        self.pinned = self.written = None
        self.shared.write(self.common)
        if is_packed:
            kivvet.open_book(self.common).pack(self.base / "common.zip")
        (self.here / "tables").mkdir(parents=True)
        (self.here / "book.toml").write_text(HERE.format(used="../common.zip" if is_packed else "../common"))
        lines = "".join(f"{'' if ph is None else ph / 10},{station}\n" for ph, station in data)
        (self.here / "d.csv").write_text("ph,station\n" + lines)
        self.write_grades()

    def teardown(self):
        if hasattr(self, "base"):
            shutil.rmtree(self.base)

    def write_grades(self):
        rows = [list(pair) for pair in self.grades.items()]
        text = f'severity.gap = "note"\ninputs.ph_class = "text"\noutputs.grade = "text"\nrows = {rows}\n'
        (self.here / "tables/grade.toml").write_text(text)

    @property
    def book(self):
        return kivvet.open_book(self.here)

    @property
    def in_force(self):
        """The rules of the other book that count here: those that are pinned, else those that are there."""
        return self.shared if self.pinned is None else self.pinned

    def made(self):
        rows = []
        for ph, station in self.data:
            name = self.in_force.ph_class(ph)
            fields = ("" if ph is None else f"{ph / 10}", station, name or "", self.grades.get(name, ""), self.in_force.rivers.get(station, ""))  # fmt: skip
            rows.append(",".join(fields))
        return rows

    def upstream_changed(self):
        self.shared.write(self.common)
        if self.is_packed:
            kivvet.open_book(self.common).pack(self.base / "common.zip")

    # What happens

    @precondition(lambda self: not self.is_gone)
    @rule(bound=st.integers(51, 79))
    def a_bound_moves_upstream(self, bound):
        self.shared.bound = bound
        self.upstream_changed()

    @precondition(lambda self: not self.is_gone)
    @rule(name=st.sampled_from(("acidic", "sour")))
    def a_class_is_called_otherwise_upstream(self, name):
        self.shared.names[0] = name
        self.upstream_changed()

    @precondition(lambda self: not self.is_gone)
    @rule(station=st.sampled_from("abc"), river=st.sampled_from(RIVERS))
    def a_key_changes_upstream(self, station, river):
        self.shared.rivers[station] = river
        self.upstream_changed()

    @rule(name=st.sampled_from(("acidic", "neutral", "sour")), grade=st.sampled_from(("good", "bad", "fair")))
    def a_rule_changes_here(self, name, grade):
        self.grades[name] = grade
        self.write_grades()

    @rule()
    def it_is_pinned_or_looked_at(self):
        told = self.book.pin().books[0]
        if self.pinned is None and not self.is_gone:
            assert told.taken
            self.pinned = copy.deepcopy(self.shared)
        else:
            assert not told.taken

    @precondition(lambda self: self.pinned is not None)
    @rule()
    def what_is_there_is_taken(self):
        told = self.book.pin(take=True).books[0]
        if self.is_gone:
            assert told.state == "not there" and not told.taken
        else:
            self.pinned = copy.deepcopy(self.shared)

    @precondition(lambda self: self.pinned is not None and not self.is_gone)
    @rule()
    def the_other_book_goes(self):
        there = self.base / ("common.zip" if self.is_packed else "common")
        there.rename(self.base / "elsewhere")
        self.is_gone = True

    @rule()
    def all_is_refreshed(self):
        self.book.refresh()
        self.written = self.made()
        assert (self.here / "out/d.csv").read_text().splitlines()[1:] == self.written
        assert self.book.status()[0].state == "current"

    # What is so at any time

    @invariant()
    def what_is_called_current_is_what_the_rules_in_force_give(self):
        if not hasattr(self, "base"):
            return
        state = self.book.status()[0].state
        if self.written is None:
            assert state == "never applied"
        elif self.written != self.made():
            assert state == "stale"

    @invariant()
    def what_would_move_is_told_and_a_change_upstream_is_a_warning(self):
        if not hasattr(self, "base") or self.pinned is None:
            return
        is_other = self.is_gone or vars(self.pinned) != vars(self.shared)
        kinds = {one.kind for one in self.book.check(data=False) if one.severity == "warning"}
        assert ("upstream" in kinds) == is_other
        frame = self.book.apply(self.frame(), ["common.ph_class"])
        assert list(frame["ph_class"].to_pylist()) == [self.pinned.ph_class(ph) for ph, _ in self.data]

    def frame(self):
        import pyarrow as pa

        return pa.table(
            {"ph": pa.array([None if ph is None else ph / 10 for ph, _ in self.data], pa.float64())}
        )


UsedBooks.TestCase.settings = settings(max_examples=budget(12), stateful_step_count=10, deadline=None)
TestUsedBooks = UsedBooks.TestCase
