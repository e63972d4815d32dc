"""What an editor is told, without the protocol: where findings stand, fixes that cure, names found and renamed."""

from __future__ import annotations

import re
import shutil
import tomllib
from pathlib import Path

import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st
from lsprotocol import types
from pygls.workspace import PositionCodec

import kivvet
from kivvet.books.asks.check_book import check_book
from kivvet.books.files.toml_tokens import cursor_at, tokens
from kivvet.core.read.options import toml_text
from kivvet.core.words.condition_parser import parse_condition
from kivvet.core.words.condition_said import said
from kivvet.editor.completions import completions_at
from kivvet.editor.data_seen import DataSeen
from kivvet.editor.diagnoses import diagnoses_of
from kivvet.editor.fixes import fixes_of
from kivvet.editor.hovers import hover_at
from kivvet.editor.layout import aligned, folds_of, outline_of
from kivvet.editor.occurrences import Entity, entity_at, occurrences
from kivvet.editor.open_books import OpenBooks
from kivvet.editor.protocol import Document, offset_of, position_of, range_of
from kivvet.editor.renames import RenameError, applied, rename
from kivvet.editor.session import Session
from kivvet.editor.texts import Span, Text, Texts, edit_between, moved
from kivvet.editor.where_named import definitions_of
from tests.conftest import write_book

ROOT = Path(__file__).parent.parent
signs = st.text(st.sampled_from("ab ,\"'[]{}=.#\\é😋\u2028\x85\n\r\t"), max_size=40)


# Texts and places.


@given(signs, st.sampled_from(["utf-8", "utf-16", "utf-32"]), st.data())
def test_positions_are_counted_in_the_units_that_the_editor_counts_in(text, encoding, data):
    """The oracle encodes what stands before on the line."""
    codec, made = PositionCodec(encoding), Text(text)
    size, name = {"utf-8": (1, "utf-8"), "utf-16": (2, "utf-16-le"), "utf-32": (4, "utf-32-le")}[encoding]
    offset = data.draw(st.integers(0, len(text)))
    lines = re.split(r"\r\n|\n|\r", text[:offset] + "|")
    if text[offset - 1 : offset + 1] == "\r\n":
        return  # between the two there is no place
    position = position_of(made, offset, codec)
    assert (position.line, position.character) == (len(lines) - 1, len(lines[-1][:-1].encode(name)) // size)
    assert offset_of(made, position, codec) == offset


@given(signs, st.lists(st.tuples(st.integers(0, 45), st.integers(0, 45), signs), max_size=4))
def test_edits_that_come_bit_by_bit_make_the_text_that_the_editor_has(text, edits):
    codec = PositionCodec("utf-16")
    document, theirs = Document("file:///x", text, position_codec=codec), text
    for one, other, new in edits:
        start, end = sorted((min(one, len(theirs)), min(other, len(theirs))))
        if any(theirs[at - 1 : at + 1] == "\r\n" for at in (start, end)):
            continue
        made = Text(theirs)
        where = types.Range(position_of(made, start, codec), position_of(made, end, codec))
        document.apply_change(types.TextDocumentContentChangePartial(range=where, text=new))
        theirs = theirs[:start] + new + theirs[end:]
        assert document.source == theirs
    assert "".join(document.lines) == theirs


@given(signs, signs, st.integers(0, 40), st.integers(0, 40))
def test_a_stretch_stays_what_it_was_wherever_an_edit_moves_it(before, after, one, other):
    span = Span(*sorted((min(one, len(before)), min(other, len(before)))))
    edit = edit_between(before, after)
    assert (before if edit is None else applied(before, [edit])) == after
    there = moved(span, before, after)
    if there is not None:
        assert after[there.start : there.end] == before[span.start : span.end]


values = st.recursive(
    st.booleans() | st.integers(-9, 9) | st.text(st.sampled_from('ab ]}"#=,é😋'), max_size=6),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from("abc"), inner, max_size=3),
    max_leaves=8,
)


def leaves(value, path=()):
    if isinstance(value, dict):
        for key, one in value.items():
            yield from leaves(one, (*path, key))
    elif isinstance(value, list):
        for at, one in enumerate(value):
            yield from leaves(one, (*path, at))
    else:
        yield path


def holds_the_paths_that_reading_finds(text):
    found = {one.path: one for one in tokens(text) if one.kind == "value"}
    document = tomllib.loads(text)
    assert set(found) == set(leaves(document))
    for path, token in found.items():
        value = document
        for step in path:
            value = value[step]
        if isinstance(value, str) and "\\" not in token.text:
            assert token.text.removeprefix("\n") == value
    return found


@given(st.dictionaries(st.sampled_from(["a", "b", "long name"]), values, max_size=3), st.integers(0, 60))
def test_every_value_of_a_document_has_its_token_and_no_half_of_it_is_refused(document, cut):
    text = "\n".join(f"{toml_text(key)} = {toml_text(value)}" for key, value in document.items())
    holds_the_paths_that_reading_finds(text)
    half = text[:cut]
    cursor = cursor_at(half, len(half))
    assert cursor.awaits in ("key", "value", "heading")
    assert all(half[one.start : one.end] == one.text or one.kind != "value" for one in tokens(half))


def test_the_tokens_of_every_file_that_ships_are_those_that_reading_finds():
    files = [one for below in ("examples", "src") for one in (ROOT / below).rglob("*.toml")]
    assert len(files) > 25
    assert (
        sum(len(holds_the_paths_that_reading_finds(one.read_text(encoding="utf-8"))) for one in files) > 500
    )


# Sessions on a book.


@pytest.fixture
def session(survey):
    made = Session()
    yield made, survey.resolve()
    made.texts.clear()


def shown(session, folder, file):
    return session.diagnose(folder).get(folder / file, [])


EXACT = {
    "tables/nitrate_band.toml": '["10 to 24", "moderate"]',
    "tables/quality.toml": "rows",
    "tables/station.csv": "0042,Sallow,Low Fen,97,1996-10-01,Wim,river",
}


@pytest.mark.parametrize("file", EXACT)
def test_findings_stand_at_what_they_are_about(session, file):
    made, folder = session
    held = made.texts.of(folder / file).text
    found = [held[one.span.start : one.span.end] for one in shown(made, folder, file)]
    assert EXACT[file] in found


@pytest.mark.parametrize(
    ("old", "new", "at"),
    [
        ('"number"', '"numbr"', "type"),
        ('"< 6.5"', '"6.5 and more"', "6.5 and more"),
        ("missing ", "misssing ", "misssing"),
        ('"acidic"', '"a very long name of a class"', "a very long name of a class"),
    ],
)
def test_a_fault_stands_at_its_word(session, old, new, at):
    made, folder = session
    path = folder / "tables/ph_class.toml"
    text = path.read_text(encoding="utf-8").replace(old, new, 1)
    made.texts.put(path, text)
    assert at in [text[one.span.start : one.span.end] for one in shown(made, folder, "tables/ph_class.toml")]


def test_what_is_half_typed_keeps_what_was_found_and_fades_it(session):
    made, folder = session
    path = folder / "tables/nitrate_band.toml"
    before = shown(made, folder, "tables/nitrate_band.toml")
    text = made.texts.of(path).text
    half = text.replace("rows = [", "# more\nrows = [").replace('["10 to', '["10 to 24", "mod\n  ["10 to')
    made.texts.put(path, half)
    found = shown(made, folder, "tables/nitrate_band.toml")
    assert [one.finding.kind for one in found if not one.is_past] == ["syntax"]
    past = [one for one in found if one.is_past]
    assert {one.finding.message for one in past} <= {one.finding.message for one in before} and past
    for one in past:
        assert half[one.span.start : one.span.end] in ('["10 to 24", "moderate"]', '["25 to 49", "high"]')
    made.texts.put(path, text)
    again = shown(made, folder, "tables/nitrate_band.toml")
    assert [(one.span, one.is_past) for one in again] == [(one.span, False) for one in before]


def test_what_data_shows_comes_in_the_background_and_stays_until_it_is_looked_at_again(session):
    made, folder = session
    file = "tables/method.toml"
    assert "unmatched" not in [one.finding.kind for one in shown(made, folder, file)]
    found = made.diagnose_data(folder, lambda _: None)[folder / file]
    assert "unmatched" in [one.finding.kind for one in found]
    made.texts.put(folder / file, made.texts.of(folder / file).text + "\n# words\n")
    assert "unmatched" in [one.finding.kind for one in shown(made, folder, file)]
    made.texts.put(
        folder / "tables/method.csv", (folder / "tables/method.csv").read_text() + "XR,probe\nPR ,probe\n"
    )
    found = made.diagnose_data(folder, lambda _: None)[folder / file]
    assert not [one for one in found if "'XR'" in one.message]


def test_a_book_that_goes_away_takes_its_findings_along(session):
    made, folder = session
    assert any(made.diagnose(folder).values())
    (folder / "book.toml").unlink()
    assert not any(made.diagnose(folder).values()) and made.diagnose_data(folder, lambda _: None) == {}
    assert made.folder_of(folder / "tables/ph_class.toml") is None
    assert made.fixes(folder / "tables/ph_class.toml", Span(0, 99)) == []


def told_of(book, *, data):
    return {(one.kind, one.table, one.message) for one in check_book(book, data=data)}


def test_every_quick_fix_takes_its_finding_away_and_brings_no_other(survey):
    folder = survey.resolve()
    books = OpenBooks(Texts())
    book = books.read(folder)
    found = diagnoses_of(book, check_book(book, data=True), books.texts)
    before, before_data = told_of(book, data=False), told_of(book, data=True)
    n_fixes = 0
    for one in found:
        for fix in fixes_of(books, folder, one):
            texts = Texts()
            for path, edits in fix.edits.items():
                assert edits, fix.title
                texts.put(path, applied(books.texts.of(path).text, edits))
            of_data = one.finding.kind in ("unmatched", "near-miss")
            after = told_of(OpenBooks(texts).read(folder), data=of_data)
            texts.clear()
            assert (one.finding.kind, one.finding.table, one.finding.message) not in after, fix.title
            new = {each for each in after - (before_data if of_data else before) if each[0] != "unfinished"}
            # What rows there still are to fill in, to count, or to promise is told anew.
            assert not {each for each in new if each[0] in ("syntax", "overlap", "conflict", "type")}, (
                fix.title,
                new,
            )
            n_fixes += 1
    assert n_fixes >= 40


OXYGEN = """\
inputs.oxygen = "number"
outputs.state = { type = "text", order = ["low", "high"] }
promises = ["as oxygen rises, state never falls"]
examples = [["oxygen", "state"], ["3", "low"]]
rows = [
  ["< 4", "high"],
  [">= 4", "high"],
]
"""


@pytest.mark.parametrize("line_end", ["\n", "\r\n"])
def test_an_example_that_does_not_hold_is_mended_and_line_ends_stay(tmp_path, line_end):
    folder = write_book(
        tmp_path / "book", {"tables/state.toml": OXYGEN.replace("\n", line_end).encode()}
    ).resolve()
    made = Session()
    path = folder / "tables/state.toml"
    made.diagnose(folder)
    wrong = next(one for one in made.shown[path] if one.finding.kind == "example")
    fix = made.fixes(path, wrong.span)[0]
    after = applied(made.texts.of(path).text, fix.edits[path])
    assert after.count("\r\n") == (after.count("\n") if line_end == "\r\n" else 0)
    path.write_bytes(after.encode())
    assert not [
        one
        for one in kivvet.open_book(folder).check().findings
        if one.table == "state" and one.severity == "error"
    ]


def test_words_are_mended_and_what_has_no_meaning_is_left_out(tmp_path):
    text = OXYGEN.replace("promises", "promisses").replace("rows = [", 'encoding = "cp1252"\nrows = [')
    folder = write_book(tmp_path / "book", {"tables/state.toml": text}).resolve()
    made = Session()
    made.diagnose(folder)
    path = folder / "tables/state.toml"
    fixes = {fix.title: fix for fix in made.fixes(path, Span(0, len(text)))}
    assert {"write promises", "leave encoding out"} <= set(fixes)
    mended = applied(
        text, [one for title in ("write promises", "leave encoding out") for one in fixes[title].edits[path]]
    )
    assert mended == OXYGEN


# What stands at the cursor.


def place(session, folder, file, before):
    """A place of a file: after the first time that a text stands there."""
    text = session.texts.of(folder / file).text
    return folder / file, text.index(before) + len(before)


HOVERS = [
    ("tables/ph_class.toml", '["< 6', "ph**: below 6.5"),
    ("tables/ph_class.toml", '["< 6', "met by 451 of 3,600 rows of `samples`"),
    ("tables/ph_class.toml", '["< 6', "row 1 gives ph_class = acidic"),
    ("tables/ph_class.toml", '"aci', "451 of 3,600 rows of `samples`"),
    ("tables/ph_class.toml", '"aci', "read by visit"),
    ("tables/quality.toml", 'order = ["go', "means good"),
    ("tables/ph_class.toml", "dom", "the values it can have"),
    ("tables/ph_class.toml", "outputs.ph", "in `samples`: acidic 451"),
    ("tables/station.csv", "\n004", "the key **0042**"),
    ("tables/yes_no.toml", '["y', "one of y, yes"),
    ("book.toml", '"ph_cl', "reads ph: number; gives ph_class: text; 3 rows"),
    ("book.toml", "[datasets.sam", "reads `"),
    ("book.toml", "tar", "where the data is written"),
    ("formulas.toml", "lo", "row 1: flow = 52.67, nitrate = 0.6 gives **2730.4128**"),
    ("formulas.toml", "NTI", "parts of equal counts"),
]


@pytest.mark.parametrize(("file", "before", "told"), HOVERS)
def test_what_is_told_of_what_stands_at_the_cursor(session, file, before, told):
    made, folder = session
    seen = DataSeen.of(made.books.read(folder), lambda _: None)
    found = hover_at(made.books, *place(made, folder, file, before), seen)
    assert found is not None and told in found.markdown, found


@pytest.mark.parametrize(
    ("kind", "condition", "words"),
    [
        ("number", ">= 5", "5 or more"),
        ("number", ">5 to <=7", None),
        ("number", ">5 to <7", "more than 5, and below 7"),
        ("date", "< 2026-01-01", "before 2026-01-01"),
        ("datetime", "2026-01-01", "any time of 2026-01-01"),
        ("text", "a | b", "one of a, b"),
        ("text", "B*", "texts that begin with B"),
        ("text", "B00* to B49*", "texts whose first 3 signs lie from B00 to B49, all that begin so with it"),
        ("text", "not a", "any value but this: just a"),
        ("text", "a | missing", "just a; or no value"),
        ("text", "present", "any value, but not none"),
        ("text", "", "any value, or none"),
    ],
)
def test_a_condition_is_said_in_words(kind, condition, words):
    if words is not None:
        assert said(parse_condition(condition, kind), kind) == words


TYPED = [
    ("tables/ph_class.toml", "matc§\n", ["match"], []),
    ("tables/ph_class.toml", "match = §\n", ["one", "first", "every"], []),
    ("tables/quality.toml", '["< 4§', ["missing", "any", "present"], []),
    ("tables/visit.toml", '["watch§', ["good", "watch", "poor", "critical"], []),
    ("tables/ph_class.toml", '"acidic§', ["acidic", "neutral", "alkaline"], []),
    ("tables/method.csv", "\n§", ["PR", "KN"], []),
    ("tables/station.csv", "0042,§", ["Sallow"], []),
    ("book.toml", '"ph_class§', ["ph_class", "load", "station"], []),
    ("book.toml", 'source  = "data/samples.csv§', ["data/samples.csv"], []),
    ("book.toml", 'by      = ["river§', ["river", "sampled_on"], []),
    ("book.toml", 'from    = "samples§', ["samples"], ["by_river"]),
    ("book.toml", "[data§", ["datasets", "databases"], ["title"]),
    ("formulas.toml", 'new = "SU§', ["SUM", "flow", "river", "load"], []),
]


@pytest.mark.parametrize(("file", "typed", "offered", "never"), TYPED)
def test_what_may_be_typed_is_offered(session, file, typed, offered, never):
    made, folder = session
    made.books.read(folder)
    text = made.texts.of(folder / file).text
    before = typed.replace("§", "").rstrip("\n")
    if before not in text or not before:
        text += f"\n{before}" if before else "\n"
    at = text.rindex(before) + len(before) if before else len(text)
    made.texts.put(folder / file, text)
    found = {one.label: one for one in completions_at(made.books, folder / file, at)}
    assert set(offered) <= set(found) and not set(never) & set(found), sorted(found)
    for one in found.values():
        assert one.span.start <= at <= max(one.span.end, one.span.start)


def test_classes_are_offered_while_the_table_cannot_be_read(session):
    made, folder = session
    path = folder / "tables/ph_class.toml"
    made.books.read(folder)
    text = made.texts.of(path).text.replace('"acidic"],', '"ac')
    made.texts.put(path, text)
    labels = {one.label for one in completions_at(made.books, path, text.index('"ac') + 3)}
    assert {"acidic", "neutral", "alkaline"} <= labels


NAMED = [
    ("book.toml", '"ph_cl', Entity("table", "ph_class"), ["tables/ph_class.toml"]),
    ("tables/visit.toml", '["wat', Entity("class", "oxygen_status", "watch"), ["tables/oxygen_status.toml"]),
    ("formulas.toml", "SUM(lo", Entity("column", "load"), ["formulas.toml"]),
    ("formulas.toml", '"flow * nitr', Entity("column", "nitrate"), ["data/samples.csv"]),
    ("tables/basin.toml", "riv", Entity("column", "river"), ["tables/station.toml"]),
    ("tables/basin.toml", '"Sall', Entity("class", "river", "Sallow"), ["tables/station.csv"]),
    ("book.toml", 'from    = "sam', Entity("dataset", "samples"), ["book.toml"]),
    ("tables/quality.toml", '"as oxy', Entity("column", "oxygen"), ["data/samples.csv"]),
]


@pytest.mark.parametrize(("file", "before", "entity", "defined"), NAMED)
def test_what_is_named_leads_to_where_it_is_defined(session, file, before, entity, defined):
    made, folder = session
    path, offset = place(made, folder, file, before)
    found = entity_at(made.books, path, offset)
    assert found is not None and found[0] == entity
    files = {one.path.relative_to(folder).as_posix() for one in definitions_of(made.books, path, offset)}
    assert files == set(defined)
    if entity.kind != "column" or defined != ["data/samples.csv"]:
        named = occurrences(made.books, made.books.read(folder), entity)
        assert any(one.path == path and one.span.holds(offset) for one in named)


# Names.


def written(texts, folder, made):
    for path, edits in made.edits.items():
        path.write_text(applied(texts.of(path).text, edits), encoding="utf-8", newline="")
    for before, after in made.moves.items():
        before.rename(after)


RENAMES = [
    (Entity("class", "ph_class", "acidic"), "sour water"),
    (Entity("class", "oxygen_status", "watch"), "to watch | now"),
    (Entity("class", "quality", "poor"), "it's poor"),
    (Entity("class", "river", "Sallow"), "River Sallow"),
    (Entity("class", "load_tenth", "tenth 10"), "the most"),
    (Entity("column", "ph_class"), "acidity"),
    (Entity("column", "oxygen_status"), "oxygen state"),
    (Entity("column", "load"), "n_load"),
    (Entity("column", "river"), "stream"),
    (Entity("table", "station"), "stations"),
    (Entity("dataset", "top_loads"), "most"),
]


@pytest.mark.parametrize(("entity", "name"), RENAMES, ids=lambda one: getattr(one, "word", one))
def test_another_name_changes_the_name_and_nothing_else(river, tmp_path, entity, name):
    """The oracle applies the book before and after, and puts the name into what came out before."""
    folder = (tmp_path / "river").resolve()
    shutil.copytree(river, folder)
    before = results_of(folder)
    books = OpenBooks(Texts())
    written(books.texts, folder, rename(books, folder, entity, name))
    after = results_of(folder)
    for dataset, frame in before.items():
        made, expected = after[name if entity == Entity("dataset", dataset) else dataset], frame
        if entity.kind == "column":
            expected = frame.rename(columns={entity.name: name})
        elif entity.kind == "class":
            of_class = [
                one
                for one in frame
                if one in (entity.name, "upstream_river") and (frame[one] == entity.label).any()
            ]
            labels = {one: frame[one].astype(object).replace(entity.label, name) for one in of_class}
            expected, made = (
                frame.assign(**labels),
                made.assign(**{one: made[one].astype(object) for one in of_class}),
            )
        by_class = [
            one for one in expected if one not in made
        ]  # their names hold that of the class, or of the amount
        assert len(by_class) <= 4 and len(made.columns) == len(expected.columns)
        pd.testing.assert_frame_equal(made.set_axis(expected.columns, axis=1), expected, check_dtype=False)


def results_of(folder):
    book = kivvet.open_book(folder)
    names = [one for one in ("samples", "top_loads", "most") if one in book.datasets]
    for one in names:
        book.apply_dataset(one, replace=True)
    targets = {one: book.datasets[one].target for one in names}
    return {
        one: pd.read_parquet(path) if path.suffix == ".parquet" else pd.read_csv(path, dtype=str)
        for one, path in targets.items()
    }


@pytest.mark.parametrize(
    ("entity", "name", "why"),
    [
        (Entity("class", "ph_class", "acidic"), "neutral", "there is a class 'neutral' already"),
        (Entity("class", "river", "Sallow"), "a, b", "in quotes in a CSV file"),
        (Entity("column", "ph"), "acid", "is a column of the source of samples"),
        (Entity("column", "river"), "district", "there is a column 'district' already"),
        (Entity("table", "ph_class"), "../x", "is no name for a table"),
        (Entity("table", "ph_class"), "quality", "there is a table 'quality' already"),
        (Entity("dataset", "samples"), "live it", "is no name for a dataset"),
        (Entity("class", "ph_class", "acidic"), "acidic", "is another one"),
        (Entity("class", "ph_class", "acidic"), "sour, but not very", "nothing was changed"),
    ],
)
def test_a_name_that_cannot_be_given_is_refused(survey, entity, name, why):
    books = OpenBooks(Texts())
    with pytest.raises(RenameError, match=re.escape(why)):
        rename(books, survey.resolve(), entity, name)


def test_nothing_is_renamed_while_a_file_cannot_be_read(session):
    made, folder = session
    made.texts.put(folder / "tables/visit.toml", "inputs.x = [")
    with pytest.raises(RenameError, match="mend what cannot be read"):
        rename(made.books, folder, Entity("column", "ph_class"), "acidity")


# Layout.


def test_rows_are_set_in_columns_and_read_the_same(survey):
    for path in (survey / "tables").glob("*.toml"):
        text = path.read_text(encoding="utf-8")
        made = applied(text, aligned(text))
        assert tomllib.loads(made) == tomllib.loads(text) and not aligned(made)
    text = (survey / "tables/quality.toml").read_text(encoding="utf-8")
    lines = [line for line in applied(text, aligned(text)).splitlines() if line.startswith('  [">= 7"')]
    assert len({line.index('"6.5 to 8.5"') for line in lines if '"6.5 to 8.5"' in line}) == 1
    assert aligned("rows = [\n") == [] and aligned('rows = [["é", "b"], ["漢字", "b"]]')


def test_lists_and_headings_fold_and_an_outline_names_the_parts(survey):
    book = Text((survey / "book.toml").read_text(encoding="utf-8"))
    for first, last in folds_of(book):
        assert first < last < len(book.line_starts)
    starts = {book.line(first).strip() for first, _ in folds_of(book)}
    assert {"[datasets.samples]", "columns = ["} <= starts
    assert "samples" in [one.name for one in outline_of(book, "book", "")]
    table = Text((survey / "tables/ph_class.toml").read_text(encoding="utf-8"))
    (whole,) = outline_of(table, "table", "ph_class")
    assert [one.name for one in whole.parts] == ["ph", "ph_class", "row 1", "row 2", "row 3"]
    assert range_of(table, whole.parts[2].span, PositionCodec("utf-8")).start.line == 7
    rows = Text((survey / "tables/station.csv").read_text(encoding="utf-8"))
    assert outline_of(rows, "rows", "station")[0].name == "row 1"
    assert outline_of(Text(""), "other", "x") == [] and folds_of(Text("")) == []
