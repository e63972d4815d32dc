"""The report and the forms of notebooks: true to the book, whole, escaped, usable without a mouse, a network or scripts."""

from __future__ import annotations

import base64
import hashlib
import json
import re
import shutil
import subprocess
import sys
import types
from html import unescape
from html.parser import HTMLParser
from itertools import pairwise
from xml.etree import ElementTree

import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.words.printed import ShownInNotebooks
from kivvet.pages.notebook import FORMS
from kivvet.pages.svg_histogram import svg_of_histogram
from kivvet.pages.svg_map import svg_of_map
from tests.conftest import budget

from .conftest import write_book

CHROMIUM = shutil.which("chromium") or shutil.which("chromium-browser") or shutil.which("google-chrome")
VOID = {"meta", "img", "br", "input", "link", "hr"}
HOSTILE = "<script>alert('x')</script>&\"<b>"


class Page(HTMLParser):
    """A page taken apart: its elements in order, with their texts; it must be nested well."""

    def __init__(self, text: str) -> None:
        super().__init__(convert_charrefs=True)
        self.open: list[tuple[str, list[str]]] = []
        self.elements: list[tuple[str, dict[str, str | None], list[str]]] = []
        self.feed(text)
        self.close()
        assert not self.open, self.open

    def handle_starttag(self, tag, attributes):
        texts: list[str] = []
        assert len({name for name, _ in attributes}) == len(attributes), tag
        self.elements.append((tag, dict(attributes), texts))
        if tag not in VOID:
            self.open.append((tag, texts))

    def handle_startendtag(self, tag, attributes):
        self.elements.append((tag, dict(attributes), []))

    def handle_endtag(self, tag):
        assert self.open, tag
        last, _ = self.open.pop()
        assert last == tag, (last, tag)

    def handle_data(self, data):
        for _, texts in self.open:
            texts.append(data)

    def all(self, tag):
        return [(attributes, "".join(texts)) for name, attributes, texts in self.elements if name == tag]

    def with_id(self, wanted):
        return next(
            "".join(texts) for _, attributes, texts in self.elements if attributes.get("id") == wanted
        )


@pytest.fixture(scope="module")
def book(river):
    return kivvet.open_book(river)


@pytest.fixture(scope="module")
def html(book):
    return book.report().to_html()


def test_the_page_is_whole_and_leads_nowhere_else(html):
    page = Page(html)
    ids = [attributes["id"] for _, attributes, _ in page.elements if "id" in attributes]
    assert len(ids) == len(set(ids))
    links = [attributes["href"] for attributes, _ in page.all("a")]
    assert links and all(link.startswith("#") and link[1:] in ids for link in links)
    for _, attributes, _ in page.elements:
        for name in ("src", "href", "action", "data"):
            assert (attributes.get(name) or "#").startswith(("#", "data:"))
    assert not re.search(r"@import|url\((?!#)|https?://(?!www\.w3\.org)", html)
    (script,) = page.all("script")
    policy = next(one["content"] for one, _ in page.all("meta") if one.get("http-equiv"))
    digest = base64.b64encode(hashlib.sha256(script[1].encode()).digest()).decode()
    assert f"'sha256-{digest}'" in policy and "default-src 'none'" in policy


def test_the_page_can_be_read_by_keyboard_and_by_a_screen_reader(html):
    page = Page(html)
    assert page.all("html")[0][0]["lang"] == "en" and page.all("title")[0][1] == "River survey rules"
    for tag in ("header", "nav", "main", "footer"):
        assert len(page.all(tag)) == 1
    levels = [int(tag[1]) for tag, _, _ in page.elements if re.fullmatch(r"h\d", tag)]
    assert levels[0] == 1 and levels.count(1) == 1
    assert all(after - before <= 1 for before, after in pairwise(levels))
    assert all(attributes["alt"].strip() for attributes, _ in page.all("img"))
    assert all(attributes.get("scope") in ("col", "row") for attributes, _ in page.all("th"))
    assert len(page.all("caption")) == len(page.all("table"))
    label = page.all("label")[0][0]["for"]
    assert page.all("input")[0][0]["id"] == label
    assert all("tabindex" not in one or one["tabindex"] == "0" for _, one, _ in page.elements)
    assert all(one.get("aria-label") for _, one, _ in page.elements if one.get("role") in ("region", "img"))


def test_the_page_tells_what_check_apply_status_and_history_tell(book, html, river):
    page = Page(html)
    check, facts = book.check(), book.report().facts
    assert facts.check == check and check.summary in page.with_id("overview")
    applied = book.apply_with_report(
        pd.read_csv(river / "data/samples.csv", dtype={"station": str}, na_values=[], keep_default_na=False)
        .replace("", None)
        .astype({"ph": float}),
        ["ph_class"],
    ).report.tables[0]
    told = next(one for one in facts.tables if one.listed.name == "ph_class")
    assert told.counts == applied.rows_by_row
    assert dict(told.counted)["samples"].classes == applied.classes
    text = page.with_id("table-ph_class")
    for label, rows in applied.classes["ph_class"]:
        assert f"{label}{rows:,}" in text
    for found in check:
        if found.table in book.tables:
            assert found.message in page.with_id(f"table-{found.table}")
    states = {one.dataset: one.state for one in book.status()}
    for one in facts.datasets:
        assert one.status.state == states[one.listed.name] and states[one.listed.name] in page.with_id(
            f"dataset-{one.listed.name}"
        )
        runs = [run.run.id for run in book.history([one.listed.name]).runs]
        assert all(run in page.with_id(f"dataset-{one.listed.name}") for run in runs[-10:])
    quality = page.with_id("table-quality")
    for said in (
        "water quality desk",
        "a clear day in May",
        "where a value is missing",
        "used by",
        "reviewed",
    ):
        assert said in quality
    assert "correct the data, or let it not count" in page.with_id("table-method")


def test_every_column_that_depends_on_another_is_joined_with_it_in_the_diagram(book, html):
    svg = html[html.index('id="dataset-samples"') :]
    svg = svg[svg.index("<svg") : svg.index("</svg>")]
    steps = next(
        one for one in book.report(["samples"], data=False).facts.datasets if one.listed.name == "samples"
    ).steps
    makers = {name: step.name for step in steps for name in step.makes}
    edges = sum(
        len({makers.get(column, column) + (" made" if column in makers else "") for column in step.reads})
        for step in steps
    )
    # station is applied twice: what reads of both would be one edge each
    assert svg.count("<path") == edges
    boxes = len(steps) + len({column for step in steps for column in step.reads if column not in makers})
    assert svg.count("<rect") == boxes
    assert 'href="#table-quality"' in svg and "table quality makes quality" in svg


def hostile(tmp_path):
    table = f"""\
title = {json.dumps(HOSTILE)}
owner = {json.dumps(HOSTILE)}
note = {json.dumps(HOSTILE)}
inputs.station = "text"
outputs.ph_class = "text"
rows = [["007", {json.dumps(HOSTILE)}], ["008", "]]>"]] # {HOSTILE}
examples = [["station", "ph_class", "note"], ["007", {json.dumps(HOSTILE)}, {json.dumps(HOSTILE)}]]
"""
    return write_book(
        tmp_path / "b",
        {
            "book.toml": f'title = {json.dumps(HOSTILE)}\n[datasets."a b"]\nsource = "data/samples.csv"\ntarget = "out/x.csv"\ntypes = {{ station = "text" }}\ncolumns = ["ph_class", "f"]\n',
            "tables/ph_class.toml": table,
            "formulas.toml": f'f = {{ formula = "ph + 1", note = {json.dumps(HOSTILE)} }}\n',
            "data/samples.csv": f'id,station,ph\n1,007,6\n2,"{HOSTILE.replace(chr(34), chr(34) * 2)}",7\n',
        },
    )


def test_what_would_be_markup_is_text(tmp_path):
    book = kivvet.open_book(hostile(tmp_path))
    book.apply_dataset("a b", note=HOSTILE)
    html = book.report().to_html()
    page = Page(html)
    assert (len(page.all("script")) == 1 and not page.all("b")) or all(
        "alert" not in text for _, text in page.all("b")
    )
    assert "<script>alert" not in html and "alert('x')" not in page.all("script")[0][1]
    assert page.all("h1")[0][1] == HOSTILE
    assert page.with_id("table-ph_class").count(HOSTILE) >= 5


BROKEN = {
    "a table that cannot be read": {"tables/ph_class.toml": "inputs.ph = nonsense"},
    "a source that is not there": {"data/samples.csv": None},
    "a field that is no number": {"data/samples.csv": "id,station,ph,remark\n1,007,x1,\n2,008,7,\n3,9,6,\n"},
    "no rows": {"data/samples.csv": "id,station,ph,remark\n"},
    "a column that is not there": {"data/samples.csv": "id,station\n1,007\n"},
    "nothing but a title": {
        "book.toml": 'title = "Empty"\n',
        "tables/ph_class.toml": None,
        "tables/station.toml": None,
    },
    "a gap": {
        "tables/ph_class.toml": 'inputs.ph = "number"\noutputs.ph_class = "text"\nrows = [["< 6", "a"], ["> 6", "b"]]\n'
    },
    "a circle": {
        "formulas.toml": 'a = "b + 1"\nb = "a + 1"\n',
        "book.toml": '[datasets.samples]\nsource = "data/samples.csv"\ncolumns = ["a"]\n',
    },
}


@pytest.mark.parametrize("case", BROKEN)
def test_a_book_with_faults_has_a_report_that_tells_them(case, tmp_path):
    book = kivvet.open_book(write_book(tmp_path / "b", BROKEN[case]))
    made = book.report()
    page = Page(made.to_html())
    text = "".join(texts for _, texts in page.all("main"))
    for found in book.check():
        assert found.message.split("\n")[0] in text
    assert json.dumps(made.as_dict())
    if case == "a field that is no number":
        assert "x1" in text and "cannot" in text.lower()


def test_long_tables_are_cut_and_said_and_found(tmp_path):
    rows = "".join(f"k{n},class {n}\n" for n in range(700))
    book = kivvet.open_book(
        write_book(
            tmp_path / "b",
            {
                "tables/station.toml": 'inputs.station = "text"\noutputs.river = "text"\nlookup = "station.csv"\n',
                "tables/station.csv": "station,river\n" + rows,
                "data/samples.csv": "id,station,ph,remark\n" + "".join(f"{n},k{n},7,\n" for n in range(700)),
            },
        )
    )
    page = Page(book.report().to_html())
    text = page.with_id("table-station")
    assert "and 500 rows more" in text and "and 688 more" in text
    assert 'data-find="station, row 200"' in book.report(data=False).to_html()


def test_the_report_of_a_dataset_holds_what_it_uses_and_no_more(book):
    made = book.report(["sheets"])
    assert [one.listed.name for one in made.facts.tables] == ["yes_no"]
    assert [one.listed.name for one in made.facts.datasets] == ["sheets"]
    assert made.facts.formulas == () and made.facts.check.tables == ("yes_no",)
    with pytest.raises(kivvet.BookError, match="no dataset 'nope'"):
        book.report(["nope"])


def test_of_a_used_book_only_what_is_used_and_checked_is_told(river, tmp_path):
    lab = tmp_path / "lab"
    (lab / "data").mkdir(parents=True)
    shutil.copy(river / "data/samples.csv", lab / "data/samples.csv")
    (lab / "book.toml").write_text(
        f'[uses]\nsurvey = {json.dumps(str(river))}\n[datasets.lab]\nsource = "data/samples.csv"\n'
        'columns = ["survey.flow_class"]\nwhere = "flow > 5"\n',
        encoding="utf-8",
    )
    made = kivvet.open_book(lab).report()
    assert (
        [one.listed.name for one in made.facts.tables]
        == ["survey.flow_class"]
        == list(made.facts.check.tables)
    )
    (dataset,) = made.facts.datasets
    page = Page(made.to_html()).with_id("dataset-lab")
    assert (
        f"where keeps {dataset.rows - dataset.left_out:,} of them" in page
        and 0 < dataset.left_out < dataset.rows
    )
    chart = kivvet.open_book(lab).chart("survey.flow_class")
    assert "those that where leaves out are counted too" in chart.notes
    assert sum(sum(one.counts) for one in chart.picture.layers) + chart.picture.missing == dataset.rows


def test_a_lookup_of_many_classes_is_told_at_once(tmp_path):
    n = 20_000
    book = kivvet.open_book(
        write_book(
            tmp_path / "b",
            {
                "tables/station.toml": 'inputs.station = "text"\noutputs.river = "text"\nlookup = "station.csv"\n',
                "tables/station.csv": "station,river\n"
                + "".join(f"k{one},river {one}\n" for one in range(n)),
                "data/samples.csv": "id,station,ph,remark\n"
                + "".join(f"{one},k{one},7,\n" for one in range(n)),
            },
        )
    )
    (told,) = (one for one in book.report().facts.tables if one.listed.name == "station")
    assert len(told.paints["river"]) == n and sum(told.counts) == 200
    with pytest.raises(kivvet.DataError, match="no classes to count"):
        book.chart("station")
    bars = book.chart("samples", by=["river"]).picture
    assert len(bars.bars) == 30 and sum(bars.parts[0].values) == n


def test_the_command_writes_it_and_no_other_file(river, tmp_path, run):
    to = tmp_path / "r.html"
    ran = run("report", "sheets", "--to", to, cwd=river)
    assert ran.code == 0 and ran.out.startswith(
        f"written  {to}  River survey rules: 1 table, 0 formulas, 1 dataset"
    )
    assert run("report", "sheets", "--to", to, "--no-data", cwd=river).code == 0
    assert "no data was read" in to.read_text(encoding="utf-8")
    told = json.loads(run("report", "sheets", "--to", to, "--json", cwd=river).out)
    assert told["tables"][0]["name"] == "yes_no" and told["file"] == str(to)
    to.write_text("mine", encoding="utf-8")
    assert "no report that Kivvet made" in run("report", "--no-data", "--to", to, cwd=river).err
    assert to.read_text(encoding="utf-8") == "mine"
    assert run("report", "--no-data", "--to", to, "--replace", cwd=river).code == 0
    assert "written as .html or .htm" in run("report", "--to", tmp_path / "r.pdf", cwd=river).err
    assert (
        "cannot be written"
        in run("report", "--no-data", "--to", river / "book.toml" / "r.html", cwd=river).err
    )
    assert not list(tmp_path.glob(".*"))


# In a browser


def opened(path, *options):
    """What Chromium makes of a page."""
    return subprocess.run(
        [
            CHROMIUM,
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-dev-shm-usage",
            "--virtual-time-budget=5000",
            *options,
            path.as_uri(),
        ],
        capture_output=True,
        text=True,
        timeout=120,
        check=True,
    )


@pytest.fixture(scope="module")
def browser(tmp_path_factory):
    """Skips where no browser is, or the one that is there does not start."""
    if CHROMIUM is None:
        pytest.skip("no chromium here to open the page with")
    path = tmp_path_factory.mktemp("blank") / "blank.html"
    path.write_text("<p>it starts</p>", encoding="utf-8")
    try:
        if "it starts" in opened(path, "--dump-dom").stdout:
            return
    except (subprocess.SubprocessError, OSError):
        pass
    pytest.skip("the chromium here does not start")


SEARCHES = """<script>
(async () => {
  const box = document.getElementById("sought"), told = [];
  for (const [text, key] of WANTED) {
    box.value = text; box.dispatchEvent(new Event("input"));
    if (key) box.dispatchEvent(new KeyboardEvent("keydown", { key }));
    await new Promise(done => setTimeout(done, 300));
    const places = [...document.querySelectorAll("#places a")];
    told.push([document.getElementById("told").textContent, places.map(one => [one.getAttribute("href").slice(1), one.textContent])]);
  }
  const answers = document.createElement("pre"); answers.id = "answers"; answers.textContent = JSON.stringify(told);
  document.body.append(answers);
})();
</script></body>"""


def test_the_search_finds_tables_classes_and_values(browser, html, tmp_path):
    wanted = [("Instrument", ""), ("table quality", ""), ("ashbourne", ""), ("no such thing at all", ""), ("x", "Escape"), ("<b>", "")]  # fmt: skip
    script = SEARCHES.replace("WANTED", json.dumps(wanted).replace("<", "\\u003c"))
    page = re.sub(r'<meta http-equiv="Content-Security-Policy"[^>]*>', "", html).replace("</body>", script)
    path = tmp_path / "searched.html"
    path.write_text(page, encoding="utf-8")
    dom = opened(path, "--dump-dom").stdout
    assert 'id="search" role="search"' in dom and 'id="search" role="search" hidden' not in dom
    answers = json.loads(unescape(re.search(r'<pre id="answers">(.*?)</pre>', dom, re.DOTALL)[1]))
    told, places = answers[0]
    assert told.endswith("places") and ["table-method-row-1", "method, row 1"] not in places
    assert all(label.startswith("method, row") for _, label in places) and places
    assert answers[1][1][0][0] == "table-quality"
    assert {"table-station-row-4", "table-basin-row-1"} <= {place for place, _ in answers[2][1]}
    assert answers[3] == ["0 places", []] and answers[4] == ["", []] and answers[5][0] == "0 places"


def test_the_page_runs_under_its_own_policy_and_prints(browser, html, tmp_path):
    path = tmp_path / "report.html"
    path.write_text(html, encoding="utf-8")
    dom = opened(path, "--dump-dom").stdout
    assert re.search(r'<div id="search" role="search">', dom)  # so the script ran, and the policy let it
    opened(path, f"--print-to-pdf={tmp_path / 'r.pdf'}", "--no-pdf-header-footer")
    pdf = (tmp_path / "r.pdf").read_bytes()
    assert pdf.startswith(b"%PDF-") and len(re.findall(rb"/Type\s*/Page\b", pdf)) > 8


# Notebooks


@pytest.fixture(scope="module")
def values(book, river):
    frame = pd.read_csv(river / "data/samples.csv", dtype={"station": str})
    return [
        *(book.table("quality"), book.table("station"), book.check(["quality", "method"])),
        *(
            book.cross_table("samples", by=["river"], across="quality"),
            book.look("samples"),
            book.look("samples", ["ph"])["ph"],
        ),
        *(book.explain("samples", 812, ["quality"])[0], book.compare("quality", "last"), book.impact()),
        *(book.shares("flow_class", "loggers", against="samples"), book.rows("samples", first=3, why=True)),
        *(
            book.history(["quality", "samples"]),
            book.review("quality"),
            book.status()[0],
            book.unmatched()[0],
        ),
        *(book.overview(), book.formula("load / ph", "samples"), book.report(["sheets"])),
        book.apply_with_report(frame, ["ph_class", "load"]).report,
        book.adopt(sql="CASE WHEN ph < 7 THEN 'low' END", name="k", on="samples"),
        book.describe(["top_loads"]),
        *(book.export(["quality"], data=False), book.import_rules(river / "rules.xlsx", data=False)),
    ]


def test_all_that_a_notebook_shows_has_a_form_that_is_well_nested(values):
    assert {type(one).__name__ for one in values} == set(FORMS)
    for one in values:
        page = Page(one._repr_html_())
        assert "".join(text for _, text in page.all("div")).strip()
        assert not page.all("script") and not page.all("link")
    missing = {
        name
        for name in kivvet.__all__
        if isinstance(one := getattr(kivvet, name), type) and issubclass(one, ShownInNotebooks)
    } - set(FORMS)
    assert missing == {
        "DoneAgain",
        "Mends",
        "Merged",
        "Pins",
        "Several",
        "Simpler",
    }  # what only commands print, and of many below


def test_several_results_are_a_tuple_that_a_notebook_shows_too(book):
    together = {"unmatched": book.unmatched(), "uses": book.uses("method"), "status": book.status()}
    together |= {"explanations": book.explain("samples", 812)}
    for name, values in together.items():
        assert values and isinstance(values, kivvet.Several) and values[:1] == (values[0],), name
        page = Page(values._repr_html_())
        assert "".join(text for _, text in page.all("div")).strip(), name
    assert ">none<" in kivvet.Several()._repr_html_()


def test_forms_of_notebooks_tell_figures_as_they_are(values):
    by_type = {type(one).__name__: one for one in values}
    text = "".join(text for _, text in Page(by_type["CrossTable"]._repr_html_()).all("table"))
    assert "Sallow4322206012" in text.replace("\n", "") and "1,160" in text
    text = by_type["Explanation"]._repr_html_()
    assert "decides" in text and "row 5" in text
    assert f"{by_type['Report'].summary}" in by_type["Report"]._repr_html_()


def test_forms_of_notebooks_are_escaped(tmp_path):
    book = kivvet.open_book(hostile(tmp_path))
    for one in (
        *(
            book.table("ph_class"),
            book.check(),
            book.look("a b"),
            book.overview(),
            book.rows("a b"),
            book.unmatched()[0],
        ),
        *(
            book.cross_table("a b", by=["station"], across="ph_class"),
            book.explain("ph_class", {"station": HOSTILE})[0],
        ),
    ):
        html = one._repr_html_()
        page = Page(html)
        assert "<script" not in html
        assert "<script>alert(" in "".join(text for _, text in page.all("div")) or isinstance(
            one, kivvet.Report
        )


def test_progress_in_a_notebook_is_one_line_that_changes_and_nothing_elsewhere(
    monkeypatch, capsys, small_book
):
    shown: list[str] = []

    class Handle:
        def update(self, value):
            shown.append(value)

    display = types.ModuleType("IPython.display")
    display.HTML = lambda text: text
    display.display = lambda value, display_id: (shown.append(value), Handle())[1]
    ipython = types.ModuleType("IPython")
    ipython.get_ipython = lambda: types.SimpleNamespace(kernel=object())
    monkeypatch.setitem(sys.modules, "IPython", ipython)
    monkeypatch.setitem(sys.modules, "IPython.display", display)
    with kivvet.counting_rows("reading <x>") as on_rows:
        kivvet.open_book(small_book).check(on_rows=on_rows)
    assert "reading &lt;x&gt; … 0 rows" in shown[0] and "4 rows in" in shown[-1]
    ipython.get_ipython = types.SimpleNamespace
    n = len(shown)
    with kivvet.counting_rows() as on_rows:
        on_rows(5)
    assert len(shown) == n and capsys.readouterr() == ("", "")


@settings(deadline=None, max_examples=budget(30))
@given(
    st.lists(st.floats(-5, 35).map(lambda x: round(x, 1)) | st.none(), min_size=1, max_size=60),
    st.sampled_from([["< 5", "5 to 10", ">10 to 20", "> 22"], ["< 0", ">= 0"], ["<= 20", "10 to 30"]]),
)
def test_the_bars_of_a_report_are_as_high_as_their_rows(values, conditions):
    """The page draws a picture by itself: what it shows is held against the picture's own figures."""
    rows = [(one, f"class <{place}>") for place, one in enumerate(conditions)]
    table = kivvet.RuleTable("t", {"x": {"type": "number", "step": 0.1}}, {"y": "text"}, rows)
    picture = table.chart(pd.DataFrame({"x": pd.Series(values, dtype=float)}), kind="histogram").picture
    drawn = ElementTree.fromstring(svg_of_histogram(picture, "p"))
    most = max(map(sum, zip(*(one.counts for one in picture.layers), strict=True)), default=0) or 1
    counts = [n for layer in picture.layers for n in layer.counts if n]
    bars = [
        (float(one.get("y")), float(one.get("height")))
        for one in drawn.iter("rect")
        if one.get("stroke-width")
    ]
    heights = [high for y, high in bars if y + high <= 198.2] if picture.layers else []  # bands stand below
    assert len(heights) == len(counts)
    assert all(abs(high - 190 * n / most) < 0.11 for high, n in zip(heights, counts, strict=True))
    texts = [one.text for one in drawn.iter("text")]
    assert "x" in texts and drawn.get("aria-label") == picture.words
    patterns = {one.get("id") for one in drawn.iter("pattern")}
    used = {
        one.get("fill")[5:-1] for one in drawn.iter("rect") if (one.get("fill") or "").startswith("url(#")
    }
    assert used == patterns


def test_the_map_of_a_report_names_each_class_and_each_strip():
    table = kivvet.RuleTable(
        "t",
        {"a": "number", "b": "text"},
        {"y": {"type": "text", "meaning": {"p": "bad", "q": "good"}}},
        [["a", "b", "y"], ["< 5", "u", "p"], [">= 5", "u | v", "q"], ["< 3", "v", "q"]],
    )
    picture = table.chart(kind="map").picture
    drawn = ElementTree.fromstring(svg_of_map(picture, "m"))
    texts = [one.text for one in drawn.iter("text")]
    assert {"p", "q", "gap"} <= set(texts)
    assert {one.text for one in picture.strips_across} <= set(texts)
    assert {one.text for one in picture.strips_upright} <= set(texts)
