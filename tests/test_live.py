"""A frame in memory follows the rules: after each change it is what applying anew gives, and only what changed is worked out."""

from __future__ import annotations

import pandas as pd
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from tests.conftest import budget, write_book
from tests.test_impact import FILES, change

COLUMNS = [{"table": "band", "row": "by"}, "grade", "load", "share"]


def frame():
    return pd.DataFrame({"id": range(14), "x": [None if n == 4 else n / 2 for n in range(14)]})


@pytest.fixture
def folder(tmp_path):
    return write_book(tmp_path / "b", FILES)


@pytest.mark.parametrize("kind", [lambda one: one, pa.Table.from_pandas], ids=["pandas", "arrow"])
def test_it_is_what_applying_anew_gives_and_only_what_changed_is_worked_out(folder, kind):
    told = []
    given = kind(frame())
    live = kivvet.open_book(folder).live(given, COLUMNS, on_change=told.append)

    def same():
        wanted = kivvet.open_book(folder).apply(given, COLUMNS)
        return live.frame.equals(wanted)

    assert same() and live.n_worked_out == 5
    before = live.frame
    assert live.refresh().is_nothing and live.n_worked_out == 0 and live.frame is before and not told
    change(folder / "formulas.toml", "x * 2", "x * 3")
    made = live.refresh()
    assert same() and live.n_worked_out == 2 and told == [made]
    (dataset,) = made.datasets
    assert [(one.column, one.changed) for one in dataset.columns] == [("load", 12), ("share", 0)]
    change(folder / "tables/band.toml", '"< 2"', '"< 3"')
    change(folder / "tables/band.toml", "2 to <5", "3 to <5")
    made = live.refresh()
    assert same() and live.n_worked_out == 4  # all but the load
    (band, *_) = [one for one in made.datasets[0].columns if one.column == "band"]
    assert band.moves[0].example.values == {"x": "2.5"} and band.changed == 1
    assert "x 2 to <3: middle -> low" in str(made)


def test_rules_with_errors_leave_the_frame_as_it_was(folder):
    live = kivvet.open_book(folder).live(frame(), COLUMNS)
    before = live.frame
    change(folder / "tables/band.toml", '"< 2"', '"< 3"')  # an overlap
    with pytest.raises(kivvet.TableError, match="overlap"):
        live.refresh()
    change(folder / "tables/band.toml", "rows = [", "rows = [[")
    with pytest.raises(kivvet.TableError, match="not valid TOML"):
        live.refresh()
    assert live.frame is before
    change(folder / "tables/band.toml", "rows = [[", "rows = [")
    change(folder / "tables/band.toml", '"< 3"', '"< 2"')
    assert live.refresh().is_nothing and live.frame is before
    with pytest.raises(kivvet.TableError, match="did you mean"):
        kivvet.open_book(folder).live(frame(), ["bnad"])
    with pytest.raises(kivvet.DataError, match="is no frame"):
        kivvet.open_book(folder).live([1], ["band"])


def test_rows_that_are_kept_come_and_go(folder):
    live = kivvet.open_book(folder).live(frame(), COLUMNS, where="grade = 'A'")
    assert list(live.frame["id"]) == [10, 11, 12, 13]
    change(folder / "tables/grade.toml", '["middle", "B"]', '["middle", "A"]')
    made = live.refresh()
    assert (made.datasets[0].entering, made.datasets[0].leaving) == (5, 0)
    assert list(live.frame["id"]) == [5, 6, 7, 8, 9, 10, 11, 12, 13]


@settings(max_examples=budget(15), deadline=None)
@given(st.lists(st.tuples(st.sampled_from(["< 2", "< 3", "< 1.5"]), st.sampled_from(["x * 2", "x * 3", "id + x"])), max_size=4))  # fmt: skip
def test_however_rules_change_it_is_what_applying_anew_gives(tmp_path_factory, steps):
    folder = write_book(tmp_path_factory.mktemp("b"), FILES)
    live = kivvet.open_book(folder).live(frame(), COLUMNS)
    for bound, formula in steps:
        text = (
            FILES["tables/band.toml"].replace('"< 2"', f'"{bound}"').replace("2 to <5", f"{bound[2:]} to <5")
        )
        (folder / "tables/band.toml").write_text(text)
        (folder / "formulas.toml").write_text(FILES["formulas.toml"].replace("x * 2", formula))
        then = live.frame
        made = live.refresh()
        assert live.frame.equals(kivvet.open_book(folder).apply(frame(), COLUMNS))
        changed = {one.column: one.changed for one in made.datasets[0].columns}
        for name in ("band", "grade"):
            assert changed.get(name, 0) == int(
                (then[name].astype("str") != live.frame[name].astype("str")).sum()
            )
