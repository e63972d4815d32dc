"""From the columns a dataset wants to steps in order: how names are looked up, and what is no plan."""

import contextlib

import pytest

import kivvet
from kivvet.core.run.entries import parse_entries
from kivvet.core.run.planner import make_plan
from kivvet.rule_table import value_of


def table(name, reads, *makes):
    made = kivvet.RuleTable(
        name,
        {reads: "text"},
        dict.fromkeys(makes, "text"),
        lookup=[{reads: "a", **dict.fromkeys(makes, "b")}],
    )
    return value_of(made)


TABLES = {
    one.name: one
    for one in (
        table("site", "code", "river", "area"),
        table("basin", "river", "basin"),
        table("sea", "basin", "sea"),
        table("other", "code", "area2", "sea2"),
    )
}


def planned(columns, source=("code", "upstream"), renamed=None, tables=TABLES):
    entries, faults = parse_entries(columns)
    plan, more = make_plan(entries, tables, source, renamed)
    return plan, [one.message for one in [*faults, *more]]


def test_tables_are_applied_in_the_order_they_need_and_written_in_the_order_listed():
    plan, faults = planned(["sea", "basin", "site"])
    assert faults == []
    assert [step.table.name for step in plan.steps] == ["site", "basin", "sea"]
    assert plan.written == ("sea", "basin", "river", "area")
    assert plan.source_columns == ("code",)


def test_a_table_that_is_needed_and_not_listed_is_computed_and_not_written():
    plan, faults = planned(["sea"])
    assert faults == []
    assert [step.name for step in plan.steps] == ["site", "basin", "sea"]
    assert plan.written == ("sea",)


def test_one_table_serves_two_columns_under_other_names():
    entries = [
        "site",
        {
            "table": "site",
            "input": {"code": "upstream"},
            "keep": {"river": "upstream_river"},
            "status": "how",
            "row": "by",
        },
    ]
    plan, faults = planned(entries)
    assert faults == []
    assert plan.written == ("river", "area", "upstream_river", "how", "by")
    assert [step.columns for step in plan.steps] == [("code",), ("upstream",)]


def test_a_name_may_stand_for_another_column_of_the_source():
    plan, faults = planned(["site"], source=("station no",), renamed={"code": "station no"})
    assert faults == [] and plan.source_columns == ("station no",)


def test_what_is_made_but_not_written_may_have_the_name_of_a_source_column():
    _, faults = planned([{"table": "site", "write": False}], source=("code", "river"))
    assert faults == []


@pytest.mark.parametrize(
    ("columns", "source", "said"),
    [
        (["sight"], ("code",), "no table has that name"),
        (["site"], ("cod",), "neither in the source nor made"),
        (["site"], ("code", "river"), "the source has a column of that name"),
        (
            ["site", {"table": "other", "keep": {"area2": "area"}}],
            ("code",),
            "made twice: by table 'site' and by table 'other'",
        ),
        ([{"table": "site", "keep": ["rivr"]}], ("code",), "no such output"),
        ([{"table": "site", "input": {"kode": "x"}}], ("code",), "no such input"),
        ([{"table": "site", "kep": ["river"]}], ("code",), "no keyword"),
        ([{"keep": ["river"]}], ("code",), "names its table"),
        ([{"table": "site", "keep": "river"}], ("code",), "keep lists outputs"),
        ([7], ("code",), "found 7"),
        ("site", ("code",), "list of tables"),
        ([{"indicators": "x"}], ("code",), "neither in the source nor made"),
    ],
)
def test_what_is_no_plan_is_said(columns, source, said):
    _, faults = planned(columns, source)
    assert len(faults) == 1 and said in faults[0]


def test_a_cycle_is_told_once_with_its_whole_path():
    tables = {
        one.name: one for one in (table("one", "c", "a"), table("two", "a", "b"), table("three", "b", "c"))
    }
    _, faults = planned(["one", "two", "three"], tables=tables)
    assert [fault for fault in faults if "depend" in fault] == [
        "columns depend on themselves: c -> b -> a -> c"
    ]


def test_a_table_may_be_applied_to_its_own_output_under_another_name():
    chain = table("up", "place", "parent")
    entries = ["up", {"table": "up", "input": {"place": "parent"}, "keep": {"parent": "grandparent"}}]
    plan, faults = planned(entries, source=("place",), tables={"up": chain})
    assert faults == [] and plan.written == ("parent", "grandparent")


def test_a_command_plans_each_dataset_once_whoever_asks(survey, monkeypatch):
    from kivvet.books.runs import plans, prepare

    planned = []

    def counted(entries, *given, **more):
        planned.append(tuple(entries))
        return make_plan(entries, *given, **more)

    for module in (plans, prepare):
        monkeypatch.setattr(module, "make_plan", counted)
    for ask in (lambda book: book.check(), lambda book: book.status(), lambda book: book.unmatched()):
        planned.clear()
        book = kivvet.open_book(survey)
        with contextlib.suppress(kivvet.KivvetError):
            ask(book)
        assert planned and len(planned) <= len(book.dataset_names) + len(
            [one for one in book.datasets.values() if one.of is not None]
        )


@pytest.mark.parametrize("with_all_types", [False, True])
def test_what_is_kept_of_a_dataset_made_ready_is_what_making_it_ready_anew_gives(small_book, with_all_types):
    from kivvet.books.files.open_book import OpenBook
    from kivvet.books.runs.plans import prepare

    def told(book):
        prepared, faults = prepare(book, book.dataset("samples"), with_all_types=with_all_types)
        return prepared.plan, prepared.types, prepared.inferred, prepared.long_wholes, faults

    source = small_book / "data/samples.csv"
    first, kept = source.read_text(), OpenBook(small_book)
    changes = [
        first,
        first.replace("6.40", "sour"),
        first.replace("remark", "remarks"),
        first.replace(",ph,", ",pH,"),
        first,
    ]
    for text in changes:
        source.write_text(text + "5,007,7.5,late\n" * changes.index(text))  # of another size each time
        for _ in range(2):
            assert told(kept) == told(OpenBook(small_book))
        told(kept)[-1].append("a caller may add to its faults")
    assert all(not isinstance(one, str) for one in told(kept)[-1])
