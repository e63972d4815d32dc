"""Charts: what they show is what data and tables hold, told apart by all eyes, and written whole or not at all."""

from __future__ import annotations

import io
import json
import math
import shlex
import xml.etree.ElementTree as ET
from itertools import combinations, product

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

import kivvet
from kivvet.core.picture.colour_sight import SIGHTS, are_told_apart, difference, linear_of, seen
from kivvet.core.picture.histogram import HistogramCounter, RangeInDays
from kivvet.core.picture.paints import MEANINGS, NO_CLASS, paints
from kivvet.core.picture.region_map import map_of
from kivvet.core.space.boxes import Space, bits_of
from kivvet.core.space.table_space import open_dimensions
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import Row, Table
from kivvet.core.words.conditions import AnyValue
from tests.conftest import fits_output

from .conftest import write_book
from .oracle import accepts
from .strategies import conditions

CLASSES = Output("out", "text")


@pytest.fixture(scope="module")
def faulty(tmp_path_factory):
    from kivvet.demo.story import write_survey

    folder = tmp_path_factory.mktemp("survey") / "faulty"
    write_survey(folder)
    return folder


# What is shown is so


@st.composite
def tables_of_several(draw):
    kinds = draw(st.lists(st.sampled_from(["number", "integer", "text", "date"]), min_size=2, max_size=3))
    inputs = tuple(Input(f"i{n}", kind) for n, kind in enumerate(kinds))
    rows = draw(
        st.lists(
            st.tuples(
                *(st.one_of(st.just(AnyValue()), conditions(kind)) for kind in kinds), st.sampled_from("abc")
            ),
            min_size=1,
            max_size=5,
        )
    )
    made = tuple(Row(n, tuple(row[:-1]), (row[-1],)) for n, row in enumerate(rows, 1))
    match = draw(st.sampled_from(["one", "first", "every"]))
    otherwise = draw(st.sampled_from([{}, {"out": "else"}]))
    return Table("t", inputs, (CLASSES,), made, match=match, otherwise=otherwise)


@given(tables_of_several())
def test_each_place_of_a_map_gives_what_the_rows_that_hold_its_values_give(table):
    picture = map_of(table, CLASSES, "t")
    dimensions = {one.about.name: one for one in Space(table).dimensions}
    strips = {picture.across: picture.strips_across, picture.upright: picture.strips_upright}
    left = [name for name in dimensions if name not in strips]

    def values_of(name, strip):
        return [dimensions[name].witness(cell) for cell in bits_of(strip.cells)]

    for panel in picture.panels:
        for up, along in product(range(len(picture.strips_upright)), range(len(picture.strips_across))):
            given_here = panel.given[up][along]
            for first, second in product(
                values_of(picture.upright, picture.strips_upright[up]),
                values_of(picture.across, picture.strips_across[along]),
            ):
                at = {picture.upright: first, picture.across: second}
                holding = [
                    row
                    for row in table.rows
                    if all(
                        accepts(row.conditions[n], at[about.name], about)
                        for n, about in enumerate(table.inputs)
                        if about.name in at
                    )
                ]
                if left:  # the rest is fixed, or a panel: it can only leave rows out
                    assert set(given_here.rows) <= {row.number for row in holding}
                    continue
                assert (given_here.kind, given_here.label) == expected(table, holding, at)


def expected(table, holding, at):
    results = [row.results[0] for row in holding]
    if not results and table.otherwise:
        return "class", "else"
    if not results:
        return ("open", "no row lists it") if is_unlisted(table, at) else ("gap", "gap")
    if table.match == "first":
        return "class", results[0]
    distinct = list(dict.fromkeys(results))
    if table.match == "every" or len(distinct) == 1:
        return "class", " + ".join(distinct)
    return "overlap", f"overlap: {', '.join(distinct)}"


def is_unlisted(table, at):
    """Whether a value is one that no row names, of an input whose rows name values only."""
    asked = [
        [row.conditions[n] for row in table.rows if not isinstance(row.conditions[n], AnyValue)]
        for n in range(len(table.inputs))
    ]
    return any(
        open_dimensions(table)[n]
        and at[about.name] is not None
        and not any(accepts(one, at[about.name], about) for one in asked[n])
        for n, about in enumerate(table.inputs)
    )


VALUES = st.lists(
    st.one_of(
        st.none(),
        st.integers(-60, 60).map(lambda n: n / 10),
        st.sampled_from([math.inf, -math.inf, math.nan, 1e300, -0.0, 5e-324]),
    ),
    max_size=60,
)


@given(st.lists(st.tuples(conditions("number"), st.sampled_from("abc")), min_size=1, max_size=5), VALUES)
def test_a_histogram_accounts_for_every_row_and_puts_each_into_its_bar_and_class(rows, values):
    about = Input("x", "number")
    made = tuple(Row(n, (condition,), (label,)) for n, (condition, label) in enumerate(rows, 1))
    table = Table("t", (about,), (CLASSES,), made, match="first")
    column = pa.table({"x": pa.array(values, pa.float64(), from_pandas=True)})
    from kivvet.core.run.frames import as_frame

    column = as_frame(column).column("x")
    reach = RangeInDays()
    reach.see(column)
    counter = HistogramCounter(table, CLASSES, reach)
    counter.see({"x": column})
    picture = counter.made("t")
    there = [one for one in values if one is not None and not math.isnan(one)]
    assert picture.missing == len(values) - len(there)
    drawn = {}
    below = above = 0
    for one in there:
        if one < picture.edges[0]:
            below += 1
        elif one >= picture.edges[-1]:
            above += 1
        else:
            bar = max(n for n, edge in enumerate(picture.edges) if edge <= one)
            label = next(
                (row.results[0] for row in made if accepts(row.conditions[0], _exactly(one), about)), None
            )
            drawn[bar, label] = drawn.get((bar, label), 0) + 1
    told = {}
    for layer in picture.layers:
        label = None if layer.label in ("(unmatched)", "no row lists it") else layer.label
        for bar, n in enumerate(layer.counts):
            if n:
                told[bar, label] = told.get((bar, label), 0) + n
    assert told == drawn
    assert (picture.below, picture.above) == (below, above)
    assert list(picture.edges) == sorted(set(picture.edges))


def _exactly(value):
    from decimal import Decimal

    return Decimal(repr(value))


@given(conditions("number"), conditions("number"), st.lists(st.integers(-70, 70), max_size=30))
def test_the_bands_of_a_histogram_say_what_the_table_gives(first, second, tenths):
    about = Input("x", "number")
    table = Table("t", (about,), (CLASSES,), (Row(1, (first,), ("a",)), Row(2, (second,), ("b",))))
    from decimal import Decimal

    from kivvet.core.picture.histogram import bands_of

    bands, bounds = bands_of(table, CLASSES)
    cuts = {place for place, _ in bounds}
    for n in tenths:
        if n / 10 in cuts:
            continue  # which side a bound is on is the axis' to say
        holding = [
            label
            for condition, label in ((first, "a"), (second, "b"))
            if accepts(condition, Decimal(n) / 10, about)
        ]
        (band,) = [
            one
            for one in bands
            if (one.low is None or one.low < n / 10) and (one.high is None or n / 10 < one.high)
        ]
        if not holding:
            assert band.kind in ("gap", "open")
        else:
            assert (band.kind, band.label) == (
                ("class", holding[0]) if len(holding) == 1 else ("overlap", "overlap: a, b")
            )


# Colours


@given(
    st.lists(st.text(min_size=1, max_size=4), min_size=1, max_size=24, unique=True), st.booleans(), st.data()
)
def test_classes_are_told_apart_by_all_eyes_and_in_grey_or_by_their_pattern(classes, is_ordered, data):
    meaning = data.draw(
        st.dictionaries(st.sampled_from(classes), st.sampled_from([*MEANINGS, "other"]), max_size=6)
    )
    made = paints(tuple(classes), tuple(sorted(meaning.items())), is_ordered=is_ordered)
    assert list(made) == list(classes)
    everything = [*made.values(), *NO_CLASS.values()]
    for one, other in combinations(everything, 2):
        assert one.pattern != other.pattern or are_told_apart(one.colour, other.colour)


def test_what_somebody_without_a_cone_sees_is_what_the_model_says():
    red, green = linear_of("#ff0000"), linear_of("#00a000")
    for sight in SIGHTS:
        for light in (linear_of("#ffffff"), linear_of("#808080")):
            assert seen(light, sight) == pytest.approx(light, abs=0.01)  # greys stay grey
    apart = {sight: difference("#ff0000", "#a08000", sight) for sight in SIGHTS}
    assert apart["protanopia"] < apart["all"] / 2 and apart["tritanopia"] > apart["all"] / 2
    assert np.allclose(seen(red, "grey"), 0.2126) and np.allclose(seen(green, "grey"), 0.7152 * green[1])


def test_a_class_has_one_colour_in_every_chart_whatever_rows_there_are(river):
    book = kivvet.open_book(river)

    def colours(chart):
        return {part.label: part.paints[0] for part in chart.picture.parts}

    whole = colours(book.chart("samples", by=["river"], across="quality"))
    few = colours(book.chart("samples", by=["season"], across="quality", where="quality = 'poor'"))
    alone = book.chart("samples", by=["quality"]).picture
    sheet = {panel.title: panel for panel in book.chart("samples").picture.panels}["quality"]
    bars = dict(zip(alone.bars, alone.parts[0].paints, strict=True))
    assert dict(zip(sheet.bars, sheet.parts[0].paints, strict=True)) == bars == whole
    assert few["poor"] == whole["poor"]
    assert {
        one.label: one.paint
        for one in book.chart("samples", "lines", by=["season"], across="quality").picture.lines
    } == whole
    assert dict(book.chart("quality").picture.key)["good"] == whole["good"]


# From the command to the file

COMMANDS = {
    "sheet": ["samples"],
    "bars": ["samples", "--by", "quality"],
    "stacked": ["samples", "--by", "river", "--across", "quality", "--share", "row"],
    "beside": [
        "samples",
        "--by",
        "river",
        "--across",
        "quality",
        "--kind",
        "beside",
        "--value",
        "AVG(ph) AS mean",
    ],
    "lines": [
        "samples",
        "--kind",
        "lines",
        "--by",
        "EXTRACT(YEAR FROM sampled_on) AS year",
        "--across",
        "quality",
    ],
    "summary": ["by_river", "--value", "total_load"],
    "histogram": ["nitrate_band"],
    "days": ["season", "--kind", "bars"],
    "mapping": ["method"],
    "lookup": ["station", "--output", "river", "--column", "station"],
    "map": ["quality", "--axes", "nitrate,oxygen", "--panels", "ph", "--set", "temperature=15"],
    "rules": ["visit"],
    "file": ["data/samples.csv", "--by", "method"],
}


@pytest.mark.parametrize("name", COMMANDS)
def test_a_chart_is_a_picture_of_1280_by_800_in_the_colours_of_its_classes(name, river, tmp_path, run):
    to = tmp_path / "made.png"
    ran = run("chart", *COMMANDS[name], "--to", to, cwd=river)
    assert ran.code == 0, ran.all
    assert ran.out.startswith(f"written  {to}")
    told = json.loads(run("chart", *COMMANDS[name], "--to", to, "--json", cwd=river).out)
    assert told["file"] == str(to) and fits_output("chart", told)
    picture = Image.open(to).convert("RGB")
    assert picture.size == (1280, 800)
    there = {colour for _, colour in picture.getcolors(1 << 24)}
    wanted = set(colours_in(told))
    assert wanted and wanted <= there


def colours_in(told):
    """The colours of what is long enough to be seen."""
    if told["kind"] == "sheet":
        for panel in told["panels"]:
            yield from colours_in(panel)
    elif told["kind"] == "bars":
        most = max(value or 0 for part in told["parts"] for value in part["values"])
        for part in told["parts"]:
            for paint, value in zip(part["paints"], part["values"], strict=True):
                if value and value > most / 20 and not paint["pattern"]:
                    yield rgb(paint["colour"])
    elif told["kind"] == "lines":
        yield from (rgb(one["paint"]["colour"]) for one in told["lines"])
    elif told["kind"] == "histogram":
        yield from (
            rgb(one["paint"]["colour"])
            for one in told["layers"]
            if max(one["counts"]) > 50 and not one["paint"]["pattern"]
        )
    else:
        yield from ((33, 102, 172),) if told["title"].startswith("Water quality") else ((245, 227, 161),)


def rgb(colour):
    return tuple(int(colour[at : at + 2], 16) for at in (1, 3, 5))


def test_bars_are_as_long_as_the_summary_says(river):
    book = kivvet.open_book(river)
    table = book.cross_table("samples", by=["river"], across="quality", share="row")
    picture = book.chart("samples", by=["river"], across="quality", share="row").picture
    for part in picture.parts:
        for bar, value in zip(picture.bars, part.values, strict=True):
            line = next(one for one in table.lines if str(one[0]) == bar)
            label = next(one for one in table.columns if str(one) == part.label)
            cell = table.cell(line, label)
            assert value == (None if cell is None else table.share(cell, 0, "row"))
    assert all(
        sum(part.values[place] or 0 for part in picture.parts) == pytest.approx(1)
        for place in range(len(picture.bars))
    )


def test_flows_are_what_impact_tells(river, tmp_path):
    import shutil

    folder = tmp_path / "changed"
    shutil.copytree(river, folder)
    table = folder / "tables" / "ph_class.toml"
    text = table.read_text(encoding="utf-8")
    table.write_text(text.replace("6.5", "6.8"), encoding="utf-8")
    book = kivvet.open_book(folder)
    picture = book.chart("samples", "flows", by=["ph_class"]).picture
    column = next(
        one
        for dataset in book.impact(["samples"]).datasets
        for one in dataset.columns
        if one.column == "ph_class"
    )
    assert picture.changed == column.changed > 0
    assert {(one, two): n for one, two, n in picture.pairs} == dict(column.pairs)
    assert sum(n for *_, n in picture.pairs) == picture.rows
    assert [name for name, *_ in picture.classes] == [name for name, *_ in column.classes]
    assert Image.open(io.BytesIO(book.chart("samples", "flows").to_bytes())).size == (1280, 800)


def test_gaps_and_overlaps_are_drawn_where_check_finds_them(faulty):
    book = kivvet.open_book(faulty)
    bands = book.chart("nitrate_band").picture.bands
    assert [one.condition for one in bands if one.kind == "gap"] == [
        one.region["nitrate"] for one in book.check(["nitrate_band"], data=False).of_kind("gap")
    ]
    (overlap,) = [one for one in book.chart("flow_class").picture.bands if one.kind == "overlap"]
    assert (overlap.low, overlap.high, overlap.rows) == (5, 5, (1, 2))
    layers = {one.label: sum(one.counts) for one in book.chart("nitrate_band").picture.layers}
    assert layers["(unmatched)"] == sum(one.count for one in book.check(["nitrate_band"]).of_kind("gap"))
    kinds = {
        one.kind for panel in book.chart("quality").picture.panels for line in panel.given for one in line
    }
    assert kinds == {"class", "gap", "overlap"}


def test_svg_is_well_formed_and_the_same_each_time_and_text_is_no_markup(tmp_path):
    book = kivvet.open_book(
        write_book(
            tmp_path / "b",
            {
                "tables/ph_class.toml": 'inputs.ph = "number"\noutputs.ph_class = "text"\nrows = [["< 7", "<script>&$x_1$"], [">= 7", "]]>"]]\n'
            },
        )
    )
    chart = book.chart("samples", by=["ph_class"], title="<&> a title")
    first, second = chart.to_bytes("svg"), chart.to_bytes("svg")
    assert first == second and chart.to_bytes() == chart.to_bytes()
    root = ET.fromstring(first)
    assert root.tag.endswith("svg") and not root.findall(".//{http://www.w3.org/2000/svg}script")
    assert "<script>&$x_1$" in chart.words


def test_a_table_is_drawn_alone_and_with_a_frame():
    table = kivvet.RuleTable(
        "age_class",
        inputs={"age": "integer"},
        outputs={"age_class": "text"},
        rows=[["< 18", "young"], [">= 20", "old"]],
    )
    alone = table.chart()
    assert alone.picture.layers == () and [one.kind for one in alone.picture.bands] == [
        "class",
        "gap",
        "class",
    ]
    drawn = table.chart(pd.DataFrame({"age": [3, 18, 19, 40, 41, None]})).picture
    assert {one.label: sum(one.counts) for one in drawn.layers} == {"young": 1, "old": 2, "(unmatched)": 2}
    assert drawn.missing == 1
    for one in (alone, table.chart(pd.DataFrame({"age": [3]}))):
        assert Image.open(io.BytesIO(one._repr_png_())).size == (1280, 800)
    with pytest.raises(kivvet.DataError, match="no two inputs"):
        table.chart(kind="map")


# What careless users do


def test_calls_from_python_say_what_cannot_be(river):
    book = kivvet.open_book(river)
    quality = book.table("quality")
    for call, problem in (
        (lambda: book.chart("samples", "pie"), "'pie' is no kind of chart"),
        (lambda: book.chart("samples", by=["river"], across="quality", share="rows"), "'rows' is no share"),
        (lambda: book.chart(""), "there is no dataset, summary, table or file ''"),
        (lambda: quality.chart(kind="lines"), "'lines' is no kind of chart of a table"),
        (lambda: quality.chart([1, 2]), "a list is no frame"),
        (lambda: quality.chart(output="qualty"), "has no output 'qualty'"),
        (lambda: book.table("station").chart(), "are counted in data"),
        (lambda: book.table("ph_class").chart(pd.DataFrame({"x": [1]})), "there is no column 'ph'"),
        (lambda: book.table("ph_class").chart(pd.DataFrame({"ph": ["a"]})), "has another type"),
    ):
        with pytest.raises(kivvet.KivvetError, match=problem):
            call()
    fixed = book.chart(
        "visit", axes=["oxygen_status", "flow_class"], set={"ph_class": "acidic"}
    ).picture.fixed
    assert fixed["ph_class"] == "ph_class = acidic"
    missing = book.chart("quality", axes=["oxygen", "nitrate"], set={"ph": None, "temperature": 7}).picture
    assert missing.fixed == {"ph": "ph missing", "temperature": "temperature = 7"}
    for values in ([], [None], ["0007"]):
        frame = pd.DataFrame(
            {"station": pd.Series(values, dtype="str"), "ph": pd.Series([7.0] * len(values))}
        )
        for name in ("station", "ph_class"):
            if values or name == "ph_class":
                assert book.table(name).chart(frame).to_bytes().startswith(b"\x89PNG")


WRONG = {
    "no such name": (
        ["smaples"],
        "there is no dataset, summary, table or file 'smaples'",
        "did you mean 'samples'?",
    ),
    "a map of bins": (["ph_class", "--kind", "map"], "no two inputs", "kivvet chart ph_class"),
    "a histogram of rules": (["quality", "--kind", "histogram"], "no one input", "--kind map"),
    "a dataset as a map": (["samples", "--kind", "map"], "is a dataset", "kivvet chart TABLE"),
    "axes for bars": (
        ["samples", "--by", "river", "--axes", "a,b"],
        "--axes does not go with bars",
        "--axes is for a map",
    ),
    "an unknown axis": (
        ["quality", "--axes", "nitrate,oxigen"],
        "no input 'oxigen'",
        "did you mean 'oxygen'?",
    ),
    "one axis twice": (["quality", "--axes", "ph,ph"], "each input is drawn once", ""),
    "no such output": (["station", "--output", "rivre"], "no output 'rivre'", "did you mean 'river'?"),
    "outside": (["quality", "--set", "ph=15", "--axes", "nitrate,oxygen"], "outside", "for example"),
    "no value": (["quality", "--set", "ph=x"], "'x' is no value of ph", "a number"),
    "a share of a mean": (
        ["samples", "--by", "river", "--share", "total", "--value", "AVG(ph)"],
        "no share",
        "",
    ),
    "means in a stack": (
        ["samples", "--by", "river", "--across", "quality", "--value", "AVG(ph)"],
        "cannot be stacked",
        "beside",
    ),
    "a text as length": (["samples", "--by", "river", "--value", "MAX(method)"], "bars have lengths", ""),
    "nothing moves": (["sheets", "--kind", "flows"], "no class of sheets changes", "kivvet impact"),
    "gif": (["samples", "--to", "x.gif"], "written as .png or .svg", ".gif"),
    "no folder there": (["samples", "--to", "book.toml/x.png"], "cannot be written", "nothing was changed"),
    "somebody else's file": (["samples", "--to", "other.png"], "no chart that Kivvet made", "--replace"),
    "by what": (["data/samples.csv"], "what the bars stand for", "--by"),
    "no rows": (
        ["samples", "--by", "river", "--where", "river = 'none'"],
        "no rows to draw of samples",
        "kivvet look samples",
    ),
}


@pytest.mark.parametrize("case", WRONG)
def test_what_cannot_be_drawn_is_said_with_what_to_do(case, river, run):
    arguments, problem, more = WRONG[case]
    (river / "other.png").write_bytes(b"not ours")
    ran = run("chart", *arguments, cwd=river)
    assert ran.code in (1, 2)
    assert problem in ran.err and more in ran.err, ran.err
    assert (river / "other.png").read_bytes() == b"not ours"
    assert not list(river.glob("*.part"))


def test_a_file_that_kivvet_drew_is_drawn_anew_and_another_only_when_told(river, tmp_path, run):
    for ending in ("png", "svg"):
        to = tmp_path / f"a.{ending}"
        assert run("chart", "samples", "--by", "river", "--to", to, cwd=river).code == 0
        assert run("chart", "samples", "--by", "season", "--to", to, cwd=river).code == 0
        to.write_bytes(b"mine")
        assert run("chart", "samples", "--by", "river", "--to", to, cwd=river).code == 2
        assert run("chart", "samples", "--by", "river", "--to", to, "--replace", cwd=river).code == 0
        assert to.stat().st_size > 5_000


def many(number):
    rows = "".join(f'  ["k{n}", "class {n:03}"],\n' for n in range(number))
    data = "id,station,ph,remark\n" + "".join(f"{n},k{n % number},7,\n" for n in range(number * 2))
    return {
        "tables/group.toml": f'inputs.station = "text"\noutputs.group = "text"\nrows = [\n{rows}]\n',
        "data/samples.csv": data,
        "book.toml": '[datasets.samples]\nsource = "data/samples.csv"\ntypes = { station = "text" }\ncolumns = ["group"]\n',
    }


def test_of_500_classes_the_largest_are_drawn_and_the_others_joined_and_said(tmp_path):
    book = kivvet.open_book(write_book(tmp_path / "b", many(500)))
    bars = book.chart("samples", by=["group"])
    assert len(bars.picture.bars) == 30 and bars.picture.bars[-1] == "other (471)"
    assert sum(bars.picture.parts[0].values) == 1000
    assert "the 29 largest of 500 bars" in bars.notes[0]
    stacked = book.chart("samples", by=["ph"], across="group")
    assert len(stacked.picture.parts) == 12 and "joined" in " ".join(stacked.notes)
    assert sum(part.values[0] or 0 for part in stacked.picture.parts) == 1000
    for chart in (bars, stacked, book.chart("samples"), book.chart("group")):
        assert Image.open(io.BytesIO(chart.to_bytes())).size == (1280, 800)


ODD = [
    "مياه جيدة",
    "水質良好",
    "long " * 60 + "end",
    "<b>&</b> $x_1$",
    "שלום",
    "\U0001f41f\U000e0001",
    "tab\tand\nline",
    "𐀀",
]


def test_labels_of_all_scripts_are_drawn_and_letters_that_no_font_has_are_said(tmp_path, recwarn):
    rows = "".join(
        f"  [{json.dumps(str(n))}, {json.dumps(one, ensure_ascii=False)}],\n" for n, one in enumerate(ODD)
    )
    table = f'inputs.station = "text"\noutputs.ph_class = "text"\nrows = [\n{rows}]\n'
    book = write_book(
        tmp_path / "b",
        {
            "tables/ph_class.toml": table,
            "data/samples.csv": "id,station,ph,remark\n" + "".join(f"{n},{n},7,\n" for n in range(len(ODD))),
            "book.toml": '[datasets.samples]\nsource = "data/samples.csv"\ntypes = { station = "text" }\ncolumns = ["ph_class"]\n',
        },
    )
    chart = kivvet.open_book(book).chart("samples", by=["ph_class"])
    assert set(chart.picture.bars) == set(ODD)
    for form in ("png", "svg"):
        assert len(chart.to_bytes(form)) > 5_000
    said = " ".join(chart.notes)
    assert "\U0001f41f" in said and ("no font here has" in said or "drawn with the font" in said)
    assert not recwarn.list


def test_a_column_that_a_dataset_calls_otherwise_has_the_colours_of_its_own_output(tmp_path):
    book = kivvet.open_book(
        write_book(
            tmp_path / "b",
            {
                "tables/two.toml": 'inputs.ph = "number"\n'
                'outputs.first = { type = "text", order = ["a", "b"], meaning = { a = "good", b = "bad" } }\n'
                'outputs.second = { type = "text", order = ["a", "b"], meaning = { a = "bad", b = "good" } }\n'
                'rows = [["ph", "first", "second"], ["< 7", "a", "a"], [">= 7", "b", "b"]]\n',
                "book.toml": '[datasets.samples]\nsource = "data/samples.csv"\ntypes = { station = "text" }\n'
                'columns = [{ table = "two", keep = { second = "other" } }]\n',
            },
        )
    )
    wanted = book.chart("two", "bars", output="second").picture
    (panel,) = book.chart("samples").picture.panels
    assert panel.parts[0].paints == wanted.parts[0].paints
    (told,) = (one for one in book.report().facts.tables if one.listed.name == "two")
    assert [told.column_paints["samples", "other"][name] for name in wanted.bars[:2]] == list(
        wanted.parts[0].paints[:2]
    )
    assert told.paints["first"]["a"] != told.paints["second"]["a"] == wanted.parts[0].paints[0]


@pytest.mark.parametrize("where", ["", "n > 2", "mean IS NULL OR season = 'autumn'"])
def test_the_chart_of_a_kept_summary_has_the_lines_and_values_of_its_target(tmp_path, where, run):
    kivvet.new_book(tmp_path)
    rows = [(f"r{n % 3}", 1 + n % 12, None if n % 5 else n / 4) for n in range(40)]
    pd.DataFrame(rows, columns=["river", "month", "ph"]).to_csv(tmp_path / "d.csv", index=False)
    (tmp_path / "tables").mkdir(exist_ok=True)
    (tmp_path / "tables/season.toml").write_text(
        'inputs.month = "integer"\noutputs.season = "text"\n'
        'rows = [["<= 3", "winter"], ["4 to 6", "spring"], ["7 to 9", "summer"], [">= 10", "autumn"]]\n'
    )
    (tmp_path / "book.toml").write_text(
        '[datasets.d]\nsource = "d.csv"\ncolumns = ["season"]\ntarget = "d.parquet"\n'
        '[summaries.s]\nfrom = "d"\nby = ["river", "season"]\nvalues = { n = "COUNT(*)", mean = "AVG(ph)" }\ntarget = "s.csv"\n'
        + (f'where = "{where}"\n' if where else "")
    )
    book = kivvet.open_book(tmp_path)
    book.apply_dataset("s")
    target = pd.read_csv(tmp_path / "s.csv")
    for value in ("n", "mean"):
        drawn = book.chart("s", value=value).as_dict()
        assert list(drawn["bars"]) == [
            f"{river}, {season}" for river, season in zip(target["river"], target["season"], strict=True)
        ]
        (part,) = drawn["parts"]
        assert [-1 if one is None else one for one in part["values"]] == target[value].fillna(-1).tolist()
    assert [str(line[0]) for line in book.cross_table("s", by="season").lines][:2] == ["winter", "spring"]
    assert book.chart("s", kind="lines").as_dict()["periods"] == tuple(sorted(set(target["river"])))
    with pytest.raises(kivvet.DataError, match="of each river, season") as failed:
        book.chart("s", kind="lines", value="mean")
    command = shlex.split(str(failed.value).partition("kivvet ")[2])  # what it says to do draws
    assert run(*command, "--to", "lines.png", cwd=tmp_path).code == 0 and (tmp_path / "lines.png").exists()


def test_rows_without_a_value_stand_apart_and_the_class_of_missing_is_grey():
    table = kivvet.RuleTable(
        "t",
        {"n": "number"},
        {"y": "text"},
        [["< 5", "low"], [">= 5", "high"]],
        missing={"y": "not measured"},
    )
    bars = table.chart(pd.DataFrame({"n": [1, 2, 7, None]}), kind="bars").as_dict()
    assert bars["bars"] == ("low", "high", "not measured")
    assert bars["parts"][0]["paints"][2]["colour"] == "#b8b8b8"
    plain = kivvet.RuleTable("t", {"n": "number"}, {"y": "text"}, [["< 5", "low"], [">= 5", "high"]])
    bars = plain.chart(pd.DataFrame({"n": [1, 2, 7, None]}), kind="bars").as_dict()
    assert bars["bars"][-1] == "(missing)" and bars["n_apart"] == 1
