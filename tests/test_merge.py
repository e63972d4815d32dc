"""Two versions of a table as one: what each side changed holds, told by an evaluation of its own; clashes are told as regions;
and the version control's own program merges by it.
"""

import shutil
import subprocess
import sys
from pathlib import Path

import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.books.files.line_merge import merged_text
from tests.conftest import budget, write_book

HEAD = 'title = "t"\ninputs.x = {{ type = "number", step = 0.5 }}\noutputs.y = "text"\nmatch = "first"\notherwise = {{ y = "{otherwise}" }}\nrows = [\n'
BOUNDS = ["< 1", "1 to <2", "2 to <4", ">= 4", "missing", "3", "1 to 3", "any", "> 2"]
PROBED = [None, *(n / 2 for n in range(-2, 12))]


def text_of(rows, otherwise="z"):
    lines = "".join(f'  ["{asked}", "{result}"],  # {asked}\n' for asked, result in rows)
    return HEAD.format(otherwise=otherwise) + lines + "]\n"


def given_by(text, folder):
    path = Path(folder) / "t.toml"
    path.write_text(text)
    book = Path(folder) / "b"
    (book / "tables").mkdir(parents=True, exist_ok=True)
    (book / "book.toml").write_text("")
    (book / "tables/t.toml").write_text(text)
    frame = pd.DataFrame({"x": PROBED})
    return (
        kivvet.open_book(book)
        .apply(frame, ["t"])["y"]
        .astype(object)
        .where(lambda s: s.notna(), None)
        .tolist()
    )


ROW = st.tuples(st.sampled_from(BOUNDS), st.sampled_from("pqr"))


@st.composite
def three(draw):
    base = draw(st.lists(ROW, min_size=1, max_size=5))

    def edited():
        rows = list(base)
        for _ in range(draw(st.integers(0, 2))):
            place = draw(st.integers(0, len(rows)))
            what = draw(st.sampled_from(["set", "cell", "add", "remove", "move"]))
            if what == "add":
                rows.insert(place, draw(ROW))
            elif rows and place < len(rows):
                if what == "remove":
                    del rows[place]
                elif what == "move":
                    rows.append(rows.pop(place))
                else:
                    rows[place] = (
                        draw(ROW) if what == "set" else (rows[place][0], draw(st.sampled_from("pqr")))
                    )
        return text_of(rows, draw(st.sampled_from("zzzw")))

    return text_of(base), edited(), edited()


@settings(max_examples=budget(66))
@given(three())
def test_a_merge_gives_what_each_side_changed_or_says_why_not(tmp_path_factory, texts):
    folder = tmp_path_factory.mktemp("m")
    for name, text in zip("bot", texts, strict=True):
        (folder / f"{name}.toml").write_text(text)
    merged = kivvet.merge(*(folder / f"{name}.toml" for name in "bot"))
    base, ours, theirs = (given_by(text, folder) for text in texts)
    clashing = [b != o and b != t and o != t for b, o, t in zip(base, ours, theirs, strict=True)]
    if any(clashing) and not merged.wrong:
        assert not merged.is_clean and merged.clashes
    if merged.is_clean:
        assert merged.is_proven
        made = given_by(merged.text, folder)
        wanted = [o if t == b else t for b, o, t in zip(base, ours, theirs, strict=True)]
        assert made == wanted
    if texts[0] in (texts[1], texts[2]):
        assert merged.is_clean and merged.text == (texts[2] if texts[1] == texts[0] else texts[1])


def test_comments_and_cells_of_both_sides_are_kept():
    base = text_of([("< 1", "p"), ("1 to <2", "q"), (">= 4", "r")])
    ours = base.replace('"< 1", "p"],  # < 1', '"< 1", "low"],  # lowest').replace("1 to <2", "1 to <3")
    theirs = base.replace('"q"', '"middle"').replace('title = "t"', 'title = "T"\nowner = "desk"')
    made = merged_text(base, ours, theirs)
    assert not made.conflicts
    assert '["< 1", "low"],  # lowest' in made.text and '["1 to <3", "middle"]' in made.text
    assert made.text.startswith('title = "T"\nowner = "desk"\n')


@pytest.fixture
def versions(tmp_path):
    folder = write_book(tmp_path / "b")
    path = folder / "tables/ph_class.toml"
    for name in ("base", "ours", "theirs"):
        shutil.copy(path, tmp_path / f"{name}.toml")

    def change(name, *pairs):
        one = tmp_path / f"{name}.toml"
        text = one.read_text()
        for before, after in pairs:
            assert before in text
            text = text.replace(before, after)
        one.write_text(text)

    return tmp_path, path, change


def merged_by_command(run, tmp_path, path, *more):
    return run("merge", "base.toml", "ours.toml", "theirs.toml", "--path", path, *more, cwd=tmp_path)


def test_a_region_that_both_changed_is_a_clash_with_both_results(run, versions):
    tmp_path, path, change = versions
    change("ours", ('"< 6.5",       "acidic"', '"< 6.0",       "acidic"'), ("6.5 to <8.5", "6.0 to <8.5"))
    change("theirs", ('"acidic"', '"sour"'))
    ran = merged_by_command(run, tmp_path, path, "--called", "Ida", "Tom")
    assert ran.code == 1
    assert "clash  ph 6 to <6.5: before acidic; Ida neutral; Tom sour" in ran.err
    assert ran.out.startswith("<<<<<<< Ida\n# ph 6 to <6.5: Ida neutral, Tom sour\n")
    change("theirs", ('"sour"', '"acidic"'), ("neutral", "even"))
    ran = merged_by_command(run, tmp_path, path, "--write")
    assert (
        ran.code == 1 and "before acidic" not in ran.out and "wrong" in ran.out
    )  # what becomes neutral is called even now
    change("base", ("6.5", "6.4"))


def test_bounds_moved_apart_leave_no_gap_unseen(run, versions):
    tmp_path, path, change = versions
    change("ours", ("6.5 to <8.5", "6.5 to <9"), (">= 8.5", ">= 9"))
    change("theirs", ('"alkaline"', '"basic"'))
    ran = merged_by_command(run, tmp_path, path)
    assert ran.code == 1 and "8.5 to <9: before alkaline; ours neutral; theirs basic" in ran.err
    change(
        "theirs",
        ('"basic"', '"alkaline"'),
        ('missing = { ph_class = "not measured" }', 'missing = { ph_class = "none" }'),
    )
    ran = merged_by_command(run, tmp_path, path)
    assert ran.code == 0 and "what each side changed" in ran.err and '"none"' in ran.out and ">= 9" in ran.out


@pytest.mark.parametrize(
    ("name", "content", "said"),
    [
        ("theirs.toml", "rows = [", "theirs cannot be read as a table"),
        ("base.toml", "", "the common version cannot be read as a table"),
        ("ours.toml", b"\xff\xfe", "is not UTF-8"),
        ("theirs.toml", None, "cannot be read"),
    ],
)
def test_what_is_no_table_is_said(run, versions, name, content, said):
    tmp_path, path, _ = versions
    one = tmp_path / name
    one.unlink()
    if content is not None:
        one.write_bytes(content if isinstance(content, bytes) else content.encode())
    before = (tmp_path / "ours.toml").read_bytes()
    ran = merged_by_command(run, tmp_path, path)
    assert ran.code in (1, 2) and said in ran.err and (tmp_path / "ours.toml").read_bytes() == before


def git(folder, *words, code=0):
    done = subprocess.run(
        ["git", "-c", "user.name=Ida", "-c", "user.email=i@example.org", *words], cwd=folder, capture_output=True, text=True, check=False
    )  # fmt: skip
    assert done.returncode == code, done.stdout + done.stderr
    return done.stdout


@pytest.fixture
def clones(tmp_path):
    folder = write_book(tmp_path / "one")
    git(folder, "init", "-q", "-b", "main")
    git(folder, "add", ".")
    git(folder, "commit", "-qm", "rules")
    git(tmp_path, "clone", "-q", "one", "two")
    return folder, tmp_path / "two"


def edited(folder, name, before, after):
    path = folder / name
    assert before in path.read_text()
    path.write_text(path.read_text().replace(before, after))
    git(folder, "commit", "-qam", "edit")


def test_edits_of_different_rows_merge_in_the_version_control_by_itself(clones):
    one, two = clones
    edited(
        one,
        "tables/station.csv",
        "Tom,008,,Ash\n",
        "Tom,008,,Ash\nUma,009,,Oak\nBob,010,,Elm\nEve,011,,Elm\n",
    )
    git(two, "pull", "-q")
    edited(one, "tables/station.csv", "Ida", "Ann")
    edited(one, "tables/ph_class.toml", "acidic", "sour")
    edited(two, "tables/station.csv", "Bob,010,,Elm", "Bob,010,,Ash")
    git(two, "pull", "-q", "--no-rebase", "--no-edit")
    text = (two / "tables/station.csv").read_text()
    assert "Ann,007" in text and "Bob,010,,Ash" in text
    assert all(one.severity != "error" for one in kivvet.open_book(two).check())


def test_edits_of_one_row_merge_with_the_driver_and_clashes_stop_it(clones):
    one, two = clones
    command = f'"{sys.executable}" -m kivvet merge %O %A %B --path %P --write'
    git(two, "config", "merge.kivvet.driver", command)
    (two / ".git/info/attributes").write_text("tables/* merge=kivvet\n")
    edited(one, "tables/ph_class.toml", '"acidic"', '"sour"')
    edited(two, "tables/ph_class.toml", "6.5 to <8.5", "6.5 to <9")
    edited(two, "tables/ph_class.toml", ">= 8.5", ">= 9")
    git(two, "pull", "-q", "--no-rebase", "--no-edit")
    made = kivvet.open_book(two).table("ph_class").apply(pd.DataFrame({"ph": [6.0, 8.7, 9.1]}))
    assert list(made["ph_class"]) == ["sour", "neutral", "alkaline"]
    edited(one, "tables/ph_class.toml", '"alkaline"', '"basic"')
    edited(two, "tables/ph_class.toml", '"alkaline"', '"caustic"')
    git(two, "pull", "-q", "--no-rebase", "--no-edit", code=1)
    assert "<<<<<<<" in (two / "tables/ph_class.toml").read_text()


def test_two_rows_for_one_key_are_found_after_a_merge(clones):
    one, two = clones
    for folder, name in ((one, "Uma"), (two, "Bob")):
        path = folder / "tables/station.csv"
        path.write_text(path.read_text() + f"{name},009,2002-02-02,{name}\n")
        git(folder, "commit", "-qam", "more")
    command = f'"{sys.executable}" -m kivvet merge %O %A %B --path %P --write'
    git(two, "config", "merge.kivvet.driver", command)
    (two / ".git/info/attributes").write_text("tables/* merge=kivvet\n")
    git(two, "pull", "-q", "--no-rebase", "--no-edit", code=1)  # both rows are there, for someone to choose
    text = (two / "tables/station.csv").read_text()
    assert "Uma,009" in text and "Bob,009" in text


def test_an_example_that_only_the_merged_table_fails_is_told_beside_one_that_failed_before(run, versions):
    tmp_path, path, change = versions
    examples = 'examples = [["ph", "ph_class"], ["7", "acidic"]]\nrows = ['  # the one fails in all versions
    for name in ("base", "ours", "theirs"):
        change(name, ("rows = [", examples))
    change("ours", ('"alkaline"', '"basic"'))
    change("theirs", ('["7", "acidic"]]', '["7", "acidic"], ["9", "alkaline"]]'))
    ran = merged_by_command(run, tmp_path, path)
    assert ran.code == 1 and "example 2 (ph = 9): ph_class is to be 'alkaline'" in ran.err
    assert "example 1" not in ran.err


# Rows with keys: merged row by row, wherever each side has put them

KEYED = ["k0,a,1", "k1,b,2", "k2,c,3", "k3,d,4"]


def merged_keyed(folder, base, ours, theirs, head="key,p,q"):
    """The merged lines, and what was said of it."""
    (folder / "tables").mkdir(exist_ok=True)
    (folder / "tables/l.toml").write_text(
        'inputs.key = "text"\noutputs.p = "text"\noutputs.q = "integer"\nlookup = "l.csv"\n'
    )
    for name, lines in (("base", base), ("ours", ours), ("theirs", theirs)):
        (folder / f"{name}.csv").write_text("".join(f"{line}\n" for line in (head, *lines)))
    (folder / "tables/l.csv").write_text((folder / "ours.csv").read_text())
    made = kivvet.merge(
        *(folder / f"{name}.csv" for name in ("base", "ours", "theirs")), path=folder / "tables/l.csv"
    )
    return made, made.text.split("\n")[1:-1]


@st.composite
def keyed_versions(draw):
    """A common version of keyed rows, and two in which rows were edited, taken out, added and moved."""
    base = {
        f"k{n}": (draw(st.sampled_from("ab")), str(draw(st.integers(1, 2))))
        for n in range(draw(st.integers(1, 5)))
    }

    def edited():
        rows = dict(base)
        for _ in range(draw(st.integers(0, 3))):
            key = f"k{draw(st.integers(0, 6))}"
            what = draw(st.sampled_from(["p", "q", "out", "new"]))
            if what == "out":
                rows.pop(key, None)
            elif what == "new" or key not in rows:
                rows.setdefault(key, (draw(st.sampled_from("abc")), "9"))
            else:
                p, q = rows[key]
                rows[key] = (
                    (draw(st.sampled_from("abc")), q) if what == "p" else (p, str(draw(st.integers(1, 4))))
                )
        order = draw(st.permutations(list(rows))) if draw(st.booleans()) else list(rows)
        return {key: rows[key] for key in order}

    return base, edited(), edited()


@settings(max_examples=budget(55))
@given(keyed_versions())
def test_no_merge_of_keyed_rows_loses_what_a_side_changed(tmp_path_factory, versions):
    folder = tmp_path_factory.mktemp("keyed")
    lines = [[f"{key},{p},{q}" for key, (p, q) in one.items()] for one in versions]
    made, merged = merged_keyed(folder, *lines)
    base, ours, theirs = versions
    wanted, clashes = {}, set()
    for key in {**base, **ours, **theirs}:
        was, one, two = (side.get(key) for side in versions)
        if two in (one, was) or one == was:
            wanted[key] = two if one == was else one
            continue
        cells = None
        if was and one and two:
            each = list(zip(was, one, two, strict=True))
            if all(a in (b, c) or b == c for a, b, c in each):
                cells = tuple(c if b == a else b for a, b, c in each)
        wanted[key] = cells
        clashes |= set() if cells else {key}
    assert made.is_clean == (not clashes)
    if made.is_clean:
        held = {one.split(",")[0]: tuple(one.split(",")[1:]) for one in merged}
        assert held == {key: row for key, row in wanted.items() if row}
        assert made.is_proven
    else:
        assert made.conflicts == len(clashes)


def test_two_outputs_of_one_row_changed_by_two_sides_are_both_taken(tmp_path):
    made, lines = merged_keyed(tmp_path, KEYED, ["k0,a,7", *KEYED[1:]], ["k0,x,1", *KEYED[1:]])
    assert made.is_clean and lines[0] == "k0,x,7"


def test_a_key_that_both_sides_added_otherwise_is_a_conflict(tmp_path):
    made, _ = merged_keyed(tmp_path, KEYED, [*KEYED, "k9,x,1"], [*KEYED, "k9,y,1"])
    assert (made.is_clean, made.conflicts) == (False, 1)


def test_an_interval_of_which_each_side_moved_an_end_has_both_where_that_is_proven(tmp_path):
    head = 'inputs.x = "integer"\noutputs.y = "text"\notherwise = { y = "z" }\nrows = [\n'
    for name, asked in (("base", "20 to <40"), ("ours", "18 to <40"), ("theirs", "20 to <45")):
        (tmp_path / f"{name}.toml").write_text(f'{head}  ["{asked}", "mid"],\n]\n')
    made = kivvet.merge(*(tmp_path / f"{name}.toml" for name in ("base", "ours", "theirs")))
    assert made.is_clean and made.is_proven and '["18 to <45", "mid"]' in made.text


def test_no_row_and_a_row_that_says_missing_are_two_things(tmp_path):
    head = 'inputs.x = "integer"\noutputs.y = "text"\nmatch = "first"\nrows = [\n  ["< 5", "a"],\n'
    texts = ('  ["5", "b"],\n]\n', '  ["5", "missing"],\n]\n', "]\n")
    for name, rows in zip(("base", "ours", "theirs"), texts, strict=True):
        (tmp_path / f"{name}.toml").write_text(head + rows)
    made = kivvet.merge(*(tmp_path / f"{name}.toml" for name in ("base", "ours", "theirs")))
    (clash,) = made.clashes
    assert (clash.region, clash.before, clash.ours, clash.theirs) == ({"x": "5"}, "b", "missing", "no row")


@pytest.mark.parametrize("change", ['["<= 2020-02-28 23:59:59.999999", "r"]', '[">= 2020-02-29", "s"]'])
def test_datetime_bounds_less_than_a_microsecond_apart_are_merged(tmp_path, change):
    rows = ['["<= 2020-02-28 23:59:59.999999", "p"]', '[">= 2020-02-29", "q"]', '["missing", "m"]']
    ours = [change if one.split('"')[1] == change.split('"')[1] else one for one in rows]
    for name, lines in (("base", rows), ("ours", ours), ("theirs", [*rows[:2], '["missing", "n"]'])):
        text = 'inputs.t = "datetime"\noutputs.y = "text"\nmatch = "first"\nrows = [\n'
        (tmp_path / f"{name}.toml").write_text(text + "".join(f"  {one},\n" for one in lines) + "]\n")
    made = kivvet.merge(*(tmp_path / f"{name}.toml" for name in ("base", "ours", "theirs")))
    assert made.is_clean and made.is_proven


@pytest.mark.parametrize("name", ["tables/ph_class.toml", "tables/station.csv"])
def test_marks_of_a_merge_left_in_a_file_are_said_as_what_they_are(small_book, name):
    text = (small_book / name).read_text()
    (small_book / name).write_text(text + "<<<<<<< ours\nx\n=======\ny\n>>>>>>> theirs\n")
    (fault,) = kivvet.open_book(small_book).check(data=False).of_kind("syntax")
    assert "the marks of a merge are left" in fault.message
    assert fault.places[0].line == text.count("\n") + 1
