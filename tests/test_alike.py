"""Values that are spelled like others are found, told, and taken as these only when somebody says so."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.columns.alike import Alike, alike_pairs

WORDS = st.text("abcde 1", min_size=1, max_size=12)


def changes(one, other):
    """The fewest letters left out, put in, exchanged, or pairs that change places, by the textbook's table."""
    table = {(i, j): max(i, j) for i in range(len(one) + 1) for j in range(len(other) + 1) if not i or not j}
    for i, a in enumerate(one, 1):
        for j, b in enumerate(other, 1):
            ways = [table[i - 1, j] + 1, table[i, j - 1] + 1, table[i - 1, j - 1] + (a != b)]
            if i > 1 and j > 1 and a == other[j - 2] and one[i - 2] == b:
                ways.append(table[i - 2, j - 2] + 1)
            table[i, j] = min(ways)
    return table[len(one), len(other)]


@settings(deadline=None)
@given(st.lists(WORDS, max_size=12), WORDS)
def test_what_is_found_is_near_and_what_is_near_enough_is_found(known, text):
    near = Alike(known).nearest([text])[0]
    if near is not None:
        assert near in known and near != text
        assert changes(near.strip(), text.strip()) <= 2 + abs(len(near) - len(near.strip()))
    folded = text.casefold().strip()
    if near is None and sum(map(str.isalpha, text)) >= 5 and "1" not in text and " " not in text:
        for one in known:
            plain = one.casefold().strip()
            if sum(map(str.isalpha, one)) < 5 or "1" in one or " " in one or plain == folded:
                continue
            assert changes(plain, folded) > 1 or (plain[0] != folded[0] and plain[-2:] != folded[-2:])


@settings(deadline=None)
@given(st.dictionaries(WORDS, st.sampled_from([1, 2, 15, 30, 200]), max_size=14))
def test_pairs_are_those_that_holding_each_against_each_finds(rows):
    values = sorted(rows.items(), key=lambda one: -one[1])

    def plain(text):
        return " ".join(text.casefold().split())

    expected = []
    for text, n in values:
        known = {plain(one): one for one, m in reversed(values) if m >= 10 * n and Alike([one]).known}
        if plain(text) in known or not Alike([text]).known:
            continue
        ranked = sorted(
            (changes(plain(text), one), place, known[one])
            for place, one in enumerate(dict.fromkeys(plain(one) for one, _ in values))
            if one in known and Alike([known[one]]).nearest([text])[0] is not None
        )
        expected += [(text, n, ranked[0][2], rows[ranked[0][2]])] if ranked else []
    assert alike_pairs(values) == expected


@pytest.mark.parametrize(
    ("known", "text", "near"),
    [
        ("Germany", "Germny", "Germany"),
        ("chevrolet", "chevroelt", "chevrolet"),
        ("Germany", " germany", "Germany"),
        ("Blue Spruce", "Blue Spurce", "Blue Spruce"),
        ("tropical storm", "tropical depression", None),
        ("Station A", "Station B", None),
        ("sample 12", "sample 13", None),
        ("north", "south", None),
        ("fiat", "flat", None),
        ("Germany", "Germany", None),
        ("A1234", "A1235", None),
        ("westerly", "easterly", None),
    ],
)
def test_words_that_are_misspelled_are_told_from_others(known, text, near):
    assert Alike([known]).nearest([text])[0] == near


def test_pairs_are_of_a_rare_and_a_frequent_value_so_that_none_form_a_circle():
    values = [("Germany", 400), ("Germani", 30), ("Germny", 3), ("Gremany", 3)]
    pairs = alike_pairs(values)
    assert pairs == [
        ("Germani", 30, "Germany", 400),
        ("Germny", 3, "Germany", 400),
        ("Gremany", 3, "Germany", 400),
    ]
    assert {one for one, *_ in pairs}.isdisjoint(near for _, _, near, _ in pairs)
    assert alike_pairs([("Germany", 20), ("Germny", 15)]) == []


@pytest.fixture
def folder(tmp_path):
    (tmp_path / "tables").mkdir()
    (tmp_path / "tables/land.toml").write_text(
        'inputs.land = "text"\noutputs.part = "text"\nrows = [\n  ["Germany | France", "west"], # as agreed\n  ["Poland", "east"],\n]\n'
    )
    (tmp_path / "tables/car.toml").write_text(
        'inputs.car = "text"\noutputs.size = "text"\noutputs.seats = "number"\nlookup = "car.csv"\ndelimiter = ";"\ndecimal = ","\n'
    )
    (tmp_path / "tables/car.csv").write_text("car;size;seats;note\nchevrolet;big;4,5;\nfiat;;4;\n")
    lines = ["land,car", *["Germany,chevrolet"] * 40, *["Germny,chevroelt"] * 3, "Spain,volvo"]
    (tmp_path / "d.csv").write_text("\n".join(lines) + "\n")
    (tmp_path / "book.toml").write_text(
        '[datasets.d]\nsource = "d.csv"\ntarget = "o.csv"\ncolumns = ["land", "car"]\n'
    )
    return tmp_path


def test_they_are_told_by_look_and_by_unmatched_with_what_to_do(folder, run):
    assert "'Germny' (3) is spelled like 'Germany' (40)" in run("look", "d", cwd=folder).out
    told = run("unmatched", cwd=folder).out
    assert "'Germny'   first in row 41   spelled like 'Germany'" in told
    hint = next(line for line in told.splitlines() if "--alike" in line)
    assert run(*hint[hint.index("kivvet ") :].split()[1:], cwd=folder).code == 0
    near = {one.value: one.near for one in kivvet.open_book(folder).unmatched()}
    assert near == {"Spain": None, "chevroelt": "chevrolet", "volvo": None}


def test_they_get_the_results_of_the_others_only_when_that_is_said(folder, run):
    plain = (folder / "tables/land.toml").read_text()
    out = run("draft", "land", "--extend", "--on", "d", cwd=folder).out
    assert "1 value spelled like known ones; with --alike they get" in out
    assert '["Germny",           ""],     # 3 rows' in (folder / "tables/land.toml").read_text() or (
        '"Germny"' in (folder / "tables/land.toml").read_text()
    )
    (folder / "tables/land.toml").write_text(plain)
    done = kivvet.open_book(folder).extend("land", "d", alike=True)
    assert (done.n_added, done.n_near, done.n_alike) == (2, 1, 1)
    made = (folder / "tables/land.toml").read_text()
    assert made.startswith(plain.removesuffix("]\n")) and "# 3 rows; spelled like 'Germany'" in made
    assert kivvet.open_book(folder).table("land").explain({"land": "Germny"}).results == {"part": "west"}
    run("draft", "car", "--extend", "--alike", "--on", "d", cwd=folder)
    assert (folder / "tables/car.csv").read_text() == (
        "car;size;seats;note\nchevrolet;big;4,5;\nfiat;;4;\n"
        "chevroelt;big;4,5;\"3 rows; spelled like 'chevrolet'\"\nvolvo;;;1 row\n"
    )
    refused = run("draft", "x", "--on", "d.csv", "--column", "land", "--alike", cwd=folder)
    assert refused.code == 2 and "--alike has no meaning with --column" in refused.err
