"""A target that something else changed: status says where, and who changed the rules that make one stale."""

import subprocess

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import kivvet
from tests.conftest import SMALL_BOOK, write_book

KEYED = SMALL_BOOK["book.toml"].replace("[datasets.samples]", '[datasets.samples]\nkey = ["id"]')


def reason(folder):
    (one,) = kivvet.open_book(folder).status()
    return next(
        each for each in one.reasons if "by something else" in each.message or "target" in each.message
    )


def applied(tmp_path, changes=None):
    folder = write_book(tmp_path, changes)
    kivvet.open_book(folder).apply_dataset("samples")
    return folder


@pytest.mark.parametrize(
    ("before", "after", "said", "example"),
    [
        ("NA,acidic", "N.A.,acidic", None, None),
        (
            '"foam, brown"',
            "foam",
            "1 row differs: remark (1 row, the first is row 1)",
            "row 1, remark: foam, brown -> foam",
        ),
        (
            "acidic",
            "sour",
            "1 row differs: ph_class (1 row, the first is row 1)",
            "row 1, ph_class: acidic -> sour",
        ),
        (",remark,", ",note,", "it has no column remark; it has a column more: note", None),
        ("3,9,8.5,", "3,9,8.6,", "ph (1 row, the first is row 3)", "row 3, ph: 8.5 -> 8.6"),
        ("2,008", "2,008,7,7,7,7,7", "it cannot be read: a row has another number of fields", None),
        ("4,007,7,,neutral,Elm,matched,1\n", "", "it has 3 rows instead of 4; gone: 4", None),
        ("4,007,7", "5,007,7,,neutral,Elm,matched,1\n4,007,7", "it has 5 rows instead of 4; new: 5", None),
    ],
)
def test_where_a_target_was_edited(tmp_path, before, after, said, example):
    folder = applied(tmp_path, {"book.toml": KEYED})
    path = folder / "out/samples.csv"
    text = path.read_text()
    path.write_text(text.replace(before, after))
    if said is None:
        assert before not in text
        return
    found = reason(folder)
    assert said in found.message
    assert (example in map(str, found.changes)) if example else not found.changes


def test_rules_that_changed_since_do_not_count_as_edits(tmp_path):
    folder = applied(tmp_path, {"book.toml": KEYED.replace('.csv"\ntypes', '.parquet"\ntypes')})
    table = folder / "tables/ph_class.toml"
    table.write_text(table.read_text().replace("6.5", "6.4"))
    path = folder / "out/samples.parquet"
    held, record = pq.read_table(path), pq.read_metadata(path).metadata[b"kivvet"].decode()
    remarks = held["remark"].to_pylist()
    edited = held.set_column(held.column_names.index("remark"), "remark", pa.array(["x", *remarks[1:]]))
    with pq.ParquetWriter(path, held.schema) as writer:
        writer.write_table(edited.cast(held.schema))
        writer.add_key_value_metadata({"kivvet": record})
    found = reason(folder)
    assert found.message.endswith("1 row differs: remark (1 row, the first is row 1)")
    source = folder / "data/samples.csv"
    source.write_text(source.read_text() + "5,007,7,\n")  # which came after
    assert reason(folder).message.endswith("1 row differs: remark (1 row, the first is row 1)")
    source.write_text("id,station,ph,remark\n1,007,6.40,x\n")
    assert reason(folder).message.endswith(
        "since it was written"
    )  # what was written cannot be worked out any more


def test_who_changed_a_rule_is_told(tmp_path):
    folder = applied(tmp_path)

    def git(*words):
        subprocess.run(
            ["git", "-c", "user.name=Ida", "-c", "user.email=ida@example.org", *words],
            cwd=folder,
            check=True,
            capture_output=True,
        )

    def told():
        (one,) = kivvet.open_book(folder).status()
        (found,) = one.reasons
        return found.last_change

    table = folder / "tables/ph_class.toml"
    table.write_text(table.read_text().replace("6.5", "6.4"))
    assert told().startswith("edited 2") and told().endswith("UTC")
    git("init", "-q")
    assert told().endswith("UTC, not committed")
    git("add", ".")
    git("commit", "-qm", "all")
    assert told().startswith("by Ida, 2")
    table.write_text(table.read_text().replace("6.4", "6.3"))
    assert told().startswith("edited 2") and told().endswith("not committed")
