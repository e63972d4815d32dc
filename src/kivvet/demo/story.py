"""The demo: a river survey written to a folder, then checked, mended, applied, changed and refreshed."""

from __future__ import annotations

import csv
import itertools
import sqlite3
from collections.abc import Callable
from dataclasses import dataclass, replace
from importlib import resources
from importlib.abc import Traversable
from importlib.util import find_spec
from pathlib import Path

from kivvet.book import Book, open_book
from kivvet.core.draft.look import Look
from kivvet.core.run.cross_table import CrossTable, Share
from kivvet.core.run.reports import ApplyReport
from kivvet.core.words.errors import OutputError
from kivvet.core.words.findings import Report
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.demo.stations_workbook import write_stations
from kivvet.demo.survey_data import write_loggers, write_samples, write_sheets
from kivvet.demo.survey_database import write_database
from kivvet.demo.verdicts_workbook import write_verdicts
from kivvet.draw.chart import Chart
from kivvet.io.files import unwritable
from kivvet.pages.report import BookReport
from kivvet.pages.rules_workbook import RulesWorkbook


@dataclass(frozen=True, slots=True)
class Edit:
    """A change of one line of a book's file, and why."""

    file: str
    before: str
    after: str
    why: str


@dataclass(frozen=True, slots=True)
class Shown:
    """A cross-table with what it is of, and what its shares are of."""

    table: CrossTable
    name: str
    share: Share


@dataclass(frozen=True, slots=True)
class Written:
    """A chart or a report, and the file that it was written to."""

    made: Chart | BookReport | RulesWorkbook
    path: Path


@dataclass(frozen=True, slots=True)
class LookedAt:
    """A look at a file, and what the file is called."""

    look: Look
    name: str


MENDING = (
    Edit(
        "tables/nitrate_band.toml",
        '["10 to 24", "moderate"]',
        '["10 to <25", "moderate"]',
        "the bounds were written for whole numbers; half-open ranges leave nothing between",
    ),
    Edit("tables/nitrate_band.toml", '["25 to 49", "high"]', '["25 to <50", "high"]', "the same"),
    Edit(
        "tables/flow_class.toml", '["5 to 40", "normal"]', '[">5 to 40", "normal"]', "5 belonged to two rows"
    ),
    Edit(
        "tables/habitat_group.toml",
        '["B00* to B49*", "upper reach"]',
        '["B00* to B59*", "upper reach"]',
        "B50 to B59 belonged to none",
    ),
    Edit(
        "tables/oxygen_status.toml",
        '  ["< 4", "poor"],\n  ["< 7", "watch"],\n  ["< 2", "critical"],',
        '  ["< 2", "critical"],\n  ["< 4", "poor"],\n  ["< 7", "watch"],',
        "the first match wins, so the narrowest row goes first",
    ),
    Edit(
        "tables/quality.toml",
        '["4 to 7", "<= 25",',
        '["4 to <7", "<= 25",',
        "an oxygen of 7 belonged to several rows",
    ),
    Edit(
        "tables/quality.toml",
        '"> 9"',
        '"> 8.5"',
        "a pH above 8.5 to 9 was forgotten, where oxygen and nitrate are good",
    ),
    Edit(
        "tables/visit.toml",
        '  ["watch", "normal | flood", "", "", "next season"],\n  ["watch", "low water | normal | flood", "acidic", "", "within a month"],',
        '  ["watch", "low water | normal | flood", "acidic", "", "within a month"],\n  ["watch", "normal | flood", "", "", "next season"],',
        "rows 3 and 4 together left nothing for row 5",
    ),
    Edit(
        "tables/nitrate_limit.csv",
        "drain,,2024-12-31",
        "drain,,2025-01-01",
        "the end is not in, so the last day had no limit",
    ),
    Edit(
        "formulas.toml",
        'load_decile = "NTILE(10) OVER (ORDER BY load)"',
        'load_decile = { formula = "NTILE(10) OVER (ORDER BY load)", among = "load IS NOT NULL" }',
        "samples without a load were put into the highest tenth",
    ),
    Edit(
        "tables/station.csv",
        "0042,Sallow,Low Fen,97,1996-10-01,Wim,river\n",
        "",
        "station 0042 stood twice, in two districts",
    ),
)
CHANGE = Edit(
    "tables/method.csv", "PR,probe,hand probe", "PR,instrument,hand probe", "the desk renames a group"
)
NEW_ROW = Edit(
    "tables/method.csv",
    "PR,instrument,hand probe\n",
    "PR,instrument,hand probe\nXR,instrument,logger\n",
    "and the new code XR gets a class",
)


REWRITING = Edit(
    "tables/oxygen_status.toml",
    '  ["< 2", "critical"],\n  ["< 4", "poor"],\n  ["< 7", "watch"],\n  ["present", "good"],',
    '  [">= 7", "good"],\n  ["4 to <7", "watch"],\n  ["2 to <4", "poor"],\n  ["< 2", "critical"],',
    "somebody writes the limits as ranges, the best first",
)
MOVED = (
    Edit(
        "tables/quality.toml",
        '["4 to <7", "<= 25",',
        '["4 to <6", "<= 25",',
        "the desk talks about a lower limit of oxygen for good water",
    ),
    *(
        Edit("tables/quality.toml", f'[">= 7", "<= 25", "{ph}",', f'[">= 6", "<= 25", "{ph}",', "the same")
        for ph in ("6.5 to 8.5", "< 6.5", "> 8.5")
    ),
)
NARROWED = Edit("tables/quality.toml", '"6.5 to 8.5"', '"6.6 to 8.5"', "and somebody narrows the range of pH")
SOFTENED = Edit(
    "tables/quality.toml",
    '["< 4", "any", "", "", "poor"]',
    '["< 4", "any", "", "", "watch"]',
    "somebody finds poor too hard a word where there is little oxygen",
)
WIDENED = Edit("tables/quality.toml", '"< 6.5"', '"< 6.6"', "the same")


#: The stations as the field office keeps them, and how they are read; and a workbook of rules that goes out.
STATIONS, STATIONS_READ, RULES = "data/stations.xlsx", "data/stations.toml", "rules.xlsx"
#: The laboratory's database, and its stations as the rows of a table.
DATABASE, STATIONS_THERE = "data/survey.db", "data/stations_there.toml"
#: What a colleague works out in a sheet, and the lab in a query.
VERDICTS, LAB_QUERY = "data/verdicts.xlsx", "data/lab.sql"
_SAMPLES_OF_COLLEAGUE = 120
#: What somebody changes in it: by row the cell, from 1 and 0.
REVIEWED = {7: (4, "poor")}


def write_survey(folder: Path) -> list[Path]:
    """Write the book of the survey, faults and all, and its data; return the files.

    Raises
    ------
    OutputError
        If the folder holds anything already, or cannot be written.
    """
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise OutputError(
            "is not empty", place=Place(shown_path(folder)), fix="name a new folder: kivvet demo FOLDER"
        )
    written: list[Path] = []
    try:
        _copy(resources.files("kivvet.demo") / "survey", folder, written)
        written += write_loggers(folder / "data" / "loggers")
        write_samples(folder / "data" / "samples.csv")
        write_sheets(folder / "data" / "sheets.csv")
        if find_spec("xlsxwriter") is not None:
            written.append(write_stations(folder / STATIONS))
            written.append(write_verdicts(folder / VERDICTS, _first_samples(folder / "data" / "samples.csv")))
        written.append(write_database(folder / DATABASE, folder / "data" / "samples.csv"))
    except (OSError, sqlite3.Error) as error:
        raise unwritable(folder, error if isinstance(error, OSError) else OSError(str(error))) from error
    return [*written, folder / "data" / "samples.csv", folder / "data" / "sheets.csv"]


def _first_samples(path: Path) -> list[tuple[str, str, str]]:
    """Return id, ph and method of the first samples."""
    with path.open(encoding="utf-8", newline="") as file:
        lines = itertools.islice(csv.DictReader(file), _SAMPLES_OF_COLLEAGUE)
        return [(line["sample_id"], line["ph"], line["method"]) for line in lines]


def _copy(source: Traversable, target: Path, written: list[Path]) -> None:
    target.mkdir(parents=True, exist_ok=True)
    for path in sorted(source.iterdir(), key=lambda entry: entry.name):
        if path.is_dir():
            _copy(path, target / path.name, written)
        else:
            (target / path.name).write_bytes(path.read_bytes())
            written.append(target / path.name)


def make_edit(folder: Path, edit: Edit) -> None:
    """Change a file of the book as an editor would."""
    path = folder / edit.file
    text = path.read_text(encoding="utf-8")
    if edit.before not in _squeezed(text) and edit.before not in text:
        raise OutputError(
            f"does not hold {edit.before!r} any more",
            place=Place(shown_path(path)),
            fix="run the demo in a new folder",
        )
    path.write_text(
        (text if edit.before in text else _squeezed(text)).replace(edit.before, edit.after), encoding="utf-8"
    )


def _squeezed(text: str) -> str:
    """Return the text with the blanks that align columns reduced to one."""
    return "\n".join(
        line[: len(line) - len(line.lstrip())] + " ".join(line.split()) for line in text.split("\n")
    )


def _reviewed(made: RulesWorkbook) -> RulesWorkbook:
    """Return a workbook of rules as somebody saves it who changed cells of its first table."""
    first, *others = made.rules.tables
    records = [list(record) for record in first.records]
    for number, (at, text) in REVIEWED.items():
        records[number - 1][at] = text
    changed = replace(first, records=tuple(map(tuple, records)))
    return replace(made, rules=replace(made.rules, tables=(changed, *others)))


class Story:
    """The order of work, step by step; what is seen of it is told to `tell`.

    Parameters
    ----------
    folder : Path
    tell : callable
        Called with the name of each step, the command it stands for, and what came of it.
    """

    def __init__(self, folder: Path, tell: Callable[[str, str, object], None]) -> None:
        self.folder = folder
        self.tell = tell

    def run(self) -> None:
        """Run the whole story."""
        where = f"--book {self.folder}"
        self.tell(
            "A book with eleven faults in it, as they happen, and 3,600 water samples",
            f"kivvet demo {self.folder} --only-files",
            write_survey(self.folder),
        )
        self.tell(
            "Check it: every fault is found, with a value to try and a cure",
            f"kivvet check {where}",
            self.check(),
        )
        self.tell("Mend them in an editor", "", MENDING)
        for edit in MENDING:
            make_edit(self.folder, edit)
        self.tell(
            "Check again: no errors; what is left is about the data", f"kivvet check {where}", self.check()
        )
        self.tell(
            "Apply: thirteen tables and five formulas, new columns beside the old ones, every row accounted for",
            f"kivvet apply samples {where}",
            self.apply(),
        )
        self.tell(
            "A column for each class, months in their order, and only the samples that carry most",
            f"kivvet apply top_loads {where}",
            self.book().apply_dataset("top_loads"),
        )
        self.tell(
            "One table over all questions of the field sheets, in one line",
            f"kivvet apply sheets {where}",
            self.book().apply_dataset("sheets"),
        )
        self.tell(
            "Read the result: which quality each river has, in shares of its samples",
            f"kivvet summary samples --by river --across quality --share row {where}",
            Shown(
                self.book().cross_table("samples", by=["river"], across="quality", share="row"),
                "samples",
                "row",
            ),
        )
        chart = self.book().chart("samples", by=["river"], across="quality", share="row")
        self.tell(
            "The same as a picture: a class has one colour wherever it is drawn",
            f"kivvet chart samples --by river --across quality --share row --to {self.folder}/quality.png {where}",
            Written(chart, chart.save(self.folder / "quality.png")),
        )
        self.tell(
            "A summary kept in the book: its rows are data, and a rule classifies them",
            f"kivvet apply by_river {where}",
            self.book().apply_dataset("by_river"),
        )
        self._taken_over(where)
        self._published(where)
        self.tell("Somebody changes the mapping of methods", "", (CHANGE, NEW_ROW))
        make_edit(self.folder, CHANGE)
        make_edit(self.folder, NEW_ROW)
        self.tell(
            "What would that move? Nothing is written yet", f"kivvet impact {where}", self.book().impact()
        )
        self.tell("Which columns are stale now, and why?", f"kivvet status {where}", self.book().status())
        self.tell("Bring them up to date", f"kivvet refresh {where}", self.book().refresh())
        self.tell(
            "Whoever reads the view sees it too, without Kivvet",
            f"kivvet summary survey:samples_classed --by method_group --share total {where}",
            Shown(
                self.book().cross_table("survey:samples_classed", by=["method_group"], share="total"),
                "survey:samples_classed",
                "total",
            ),
        )
        self.tell("A second time there is nothing to do", f"kivvet refresh {where}", self.book().refresh())
        self.tell("A colleague rewrites the status table", "", (REWRITING,))
        make_edit(self.folder, REWRITING)
        self.tell(
            "Does it still mean the same? It is proved",
            f"kivvet compare oxygen_status {where}",
            self.book().compare("oxygen_status", "last"),
        )
        self.tell("A limit is moved, and a range narrowed", "", (*MOVED, NARROWED, WIDENED))
        quality = self.folder / "tables" / "quality.toml"
        before = quality.read_text(encoding="utf-8")
        for edit in (*MOVED, NARROWED, WIDENED):
            make_edit(self.folder, edit)
        self.tell(
            "Just where does that change a result, and for which samples?",
            f"kivvet compare quality {where}",
            self.book().compare("quality", "last"),
        )
        self.tell(
            "And a case that was to stay as it is does not: so the desk takes it back",
            f"kivvet check quality --no-data {where}",
            self.book().check(["quality"], data=False),
        )
        quality.write_text(before, encoding="utf-8")  # so it stays as it was
        self.tell("A class is changed", "", (SOFTENED,))
        make_edit(self.folder, SOFTENED)
        self.tell(
            "That breaks what the desk has promised of all values, with values to try: it is taken back too",
            f"kivvet check quality --no-data {where}",
            self.book().check(["quality"], data=False),
        )
        quality.write_text(before, encoding="utf-8")
        self._workbooks(where)
        loggers = self.folder / "data" / "loggers" / "2026-*.csv"
        self.tell(
            "A second source: a file a month, with semicolons, decimal commas and days like 03.04.2026",
            f"kivvet add loggers '{loggers}' --apply flow_class {where}",
            self.book().add("loggers", loggers, apply=["flow_class"]),
        )
        self.tell(
            "The same table serves both sources",
            f"kivvet apply loggers {where}",
            self.book().apply_dataset("loggers"),
        )
        page = self.book().report()
        self.tell(
            "All of it as one page, for those who never run a command",
            f"kivvet report --to {self.folder}/report.html {where}",
            Written(page, page.save(self.folder / "report.html")),
        )

    def _taken_over(self, where: str) -> None:
        """Take over what stands in a query, and in a sheet where the extra for workbooks is installed; it is shown alone."""
        query, verdicts = self.folder / LAB_QUERY, self.folder / VERDICTS
        self.tell(
            "The lab has rules in a query: each CASE becomes a table, proved on all samples",
            f"kivvet adopt {query} --on samples {where}",
            self.book().adopt(query, on="samples"),
        )
        if verdicts.is_file():
            self.tell(
                "A colleague has them in a sheet: nested conditions, a case nobody thought of, a cell typed over",
                f"kivvet adopt {verdicts} --column verdict {where}",
                self.book().adopt(verdicts, column="verdict"),
            )

    def _published(self, where: str) -> None:
        """Look things up in the laboratory's database, and publish the classes there as a view."""
        self.tell(
            "The laboratory keeps samples and stations in a database: its stations give just what the list in the book gives",
            f"kivvet compare station --against {self.folder / STATIONS_THERE} {where}",
            self.book().compare("station", self.folder / STATIONS_THERE),
        )
        tables = ["quality", "oxygen_status", "method", "station"]
        self.tell(
            "Its samples get their classes there: a view, which follows the rules",
            f"kivvet add live survey:samples --view samples_classed {' '.join(f'--apply {one}' for one in tables)} {where}",
            self.book().add("live", "survey:samples", view="samples_classed", apply=tables),
        )
        self.tell(
            "It is published in one transaction, and only if it counts what Kivvet counts",
            f"kivvet apply live {where}",
            self.book().apply_dataset("live"),
        )

    def _workbooks(self, where: str) -> None:
        """Read what others keep in a workbook, and let rules be reviewed in one, where the extra for it is installed."""
        stations, rules = self.folder / STATIONS, self.folder / RULES
        if not stations.is_file():
            return
        self.tell(
            "The field office keeps its stations in a workbook, with all that such sheets have",
            f"kivvet look {stations}",
            LookedAt(self.book().look(stations), str(stations)),
        )
        self.tell(
            "It gives just what the list in the book gives",
            f"kivvet compare station --against {self.folder / STATIONS_READ} {where}",
            self.book().compare("station", self.folder / STATIONS_READ),
        )
        made = self.book().export(["quality", "oxygen_status"])
        self.tell(
            "Rules go out to those who must agree, with counts and findings beside them",
            f"kivvet export {rules} quality oxygen_status {where}",
            Written(made, made.save(rules)),
        )
        _reviewed(made).save(rules)
        self.tell(
            "Somebody changes a class there; what that would move is told, and nothing is written yet",
            f"kivvet import {rules} {where}",
            self.book().import_rules(rules),
        )

    def book(self) -> Book:
        return open_book(self.folder)

    def check(self) -> Report:
        return self.book().check()

    def apply(self) -> ApplyReport:
        return self.book().apply_dataset("samples")
