"""Kivvet keeps recoding rules in one shared place, proves them complete, applies them and keeps the result
current.
"""

from __future__ import annotations

from importlib import import_module as _import_module
from typing import TYPE_CHECKING

from kivvet.core.words import printed as _printed

if TYPE_CHECKING:
    from kivvet.book import Book as Book
    from kivvet.book import merge as merge
    from kivvet.book import new_book as new_book
    from kivvet.book import open_book as open_book
    from kivvet.books.asks.add_dataset import Added as Added
    from kivvet.books.asks.add_example import ExampleAdded as ExampleAdded
    from kivvet.books.asks.adopted import Adopted as Adopted
    from kivvet.books.asks.adopted import RulesAdopted as RulesAdopted
    from kivvet.books.asks.adopted_proof import Proof as Proof
    from kivvet.books.asks.described import CsvMetadata as CsvMetadata
    from kivvet.books.asks.draft_table import Drafted as Drafted
    from kivvet.books.asks.edit_table import TableEdit as TableEdit
    from kivvet.books.asks.history import DoneAgain as DoneAgain
    from kivvet.books.asks.history import History as History
    from kivvet.books.asks.history import RunTold as RunTold
    from kivvet.books.asks.history import TableVersion as TableVersion
    from kivvet.books.asks.live import Live as Live
    from kivvet.books.asks.mend_table import Mends as Mends
    from kivvet.books.asks.merge_table import Merged as Merged
    from kivvet.books.asks.overview import DatasetListed as DatasetListed
    from kivvet.books.asks.overview import FormulaListed as FormulaListed
    from kivvet.books.asks.overview import Overview as Overview
    from kivvet.books.asks.overview import TableListed as TableListed
    from kivvet.books.asks.overview import Use as Use
    from kivvet.books.asks.pin_books import PinnedBook as PinnedBook
    from kivvet.books.asks.pin_books import Pins as Pins
    from kivvet.books.asks.review_table import TableReview as TableReview
    from kivvet.books.asks.rows import RowsShown as RowsShown
    from kivvet.books.asks.rules_in import RulesIn as RulesIn
    from kivvet.books.asks.rules_in import TableIn as TableIn
    from kivvet.books.asks.schemas import Schema as Schema
    from kivvet.books.asks.schemas import schema as schema
    from kivvet.books.asks.schemas import schemas as schemas
    from kivvet.books.asks.simplify_table import Simpler as Simpler
    from kivvet.books.asks.try_formula import Trial as Trial
    from kivvet.books.asks.unmatched import Unmatched as Unmatched
    from kivvet.books.files.dataset import Dataset as Dataset
    from kivvet.books.runs.past_run import PastRun as PastRun
    from kivvet.books.runs.refresh import Refreshed as Refreshed
    from kivvet.books.runs.status import DatasetStatus as DatasetStatus
    from kivvet.books.runs.status import Reason as Reason
    from kivvet.books.runs.watch import WatchRound as WatchRound
    from kivvet.core.compare.change import Change as Change
    from kivvet.core.compare.comparison import ChangedRegion as ChangedRegion
    from kivvet.core.compare.comparison import Comparison as Comparison
    from kivvet.core.compare.comparison import Gives as Gives
    from kivvet.core.draft.from_examples import DraftReport as DraftReport
    from kivvet.core.draft.look import ColumnLook as ColumnLook
    from kivvet.core.draft.look import Look as Look
    from kivvet.core.formulas.formula import Formula as Formula
    from kivvet.core.run.cross_table import Cell as Cell
    from kivvet.core.run.cross_table import CrossTable as CrossTable
    from kivvet.core.run.cross_table import Label as Label
    from kivvet.core.run.explanation import Explanation as Explanation
    from kivvet.core.run.explanation import Verdict as Verdict
    from kivvet.core.run.impact import ColumnImpact as ColumnImpact
    from kivvet.core.run.impact import DatasetImpact as DatasetImpact
    from kivvet.core.run.impact import Impact as Impact
    from kivvet.core.run.impact import Move as Move
    from kivvet.core.run.impact import MovedRow as MovedRow
    from kivvet.core.run.reports import Applied as Applied
    from kivvet.core.run.reports import ApplyReport as ApplyReport
    from kivvet.core.run.reports import LastRun as LastRun
    from kivvet.core.run.shares import Fall as Fall
    from kivvet.core.run.shares import Shares as Shares
    from kivvet.core.run.step_reports import ClassReport as ClassReport
    from kivvet.core.run.step_reports import FormulaReport as FormulaReport
    from kivvet.core.run.step_reports import TableReport as TableReport
    from kivvet.core.run.three_way import Clash as Clash
    from kivvet.core.tables.inputs import Input as Input
    from kivvet.core.tables.inputs import Output as Output
    from kivvet.core.tables.review import Review as Review
    from kivvet.core.tables.table import Row as Row
    from kivvet.core.words.errors import BookError as BookError
    from kivvet.core.words.errors import DataError as DataError
    from kivvet.core.words.errors import KivvetError as KivvetError
    from kivvet.core.words.errors import OutputError as OutputError
    from kivvet.core.words.errors import TableError as TableError
    from kivvet.core.words.errors import UnopenableError as UnopenableError
    from kivvet.core.words.examples import Example as Example
    from kivvet.core.words.findings import Finding as Finding
    from kivvet.core.words.findings import Pair as Pair
    from kivvet.core.words.findings import Report as Report
    from kivvet.core.words.findings import Subject as Subject
    from kivvet.core.words.places import Place as Place
    from kivvet.core.words.printed import Several as Several
    from kivvet.draw.chart import Chart as Chart
    from kivvet.on_frames import draft as draft
    from kivvet.on_frames import look as look
    from kivvet.on_frames import with_formulas as with_formulas
    from kivvet.pages.report import BookReport as BookReport
    from kivvet.pages.rules_workbook import RulesWorkbook as RulesWorkbook
    from kivvet.rule_table import RuleTable as RuleTable
    from kivvet.show.progress import counting_rows as counting_rows

__version__ = "0.1.0"

# Names are loaded on first use, so that `import kivvet` and `kivvet --help` stay light.
_HOMES = {
    "Adopted": "kivvet.books.asks.adopted",
    "Proof": "kivvet.books.asks.adopted_proof",
    "RulesAdopted": "kivvet.books.asks.adopted",
    "Added": "kivvet.books.asks.add_dataset",
    "Applied": "kivvet.core.run.reports",
    "ApplyReport": "kivvet.core.run.reports",
    "Book": "kivvet.book",
    "BookReport": "kivvet.pages.report",
    "BookError": "kivvet.core.words.errors",
    "Cell": "kivvet.core.run.cross_table",
    "Change": "kivvet.core.compare.change",
    "Chart": "kivvet.draw.chart",
    "ChangedRegion": "kivvet.core.compare.comparison",
    "ClassReport": "kivvet.core.run.step_reports",
    "ColumnImpact": "kivvet.core.run.impact",
    "ColumnLook": "kivvet.core.draft.look",
    "Comparison": "kivvet.core.compare.comparison",
    "CrossTable": "kivvet.core.run.cross_table",
    "CsvMetadata": "kivvet.books.asks.described",
    "DataError": "kivvet.core.words.errors",
    "Dataset": "kivvet.books.files.dataset",
    "DatasetImpact": "kivvet.core.run.impact",
    "DatasetListed": "kivvet.books.asks.overview",
    "DatasetStatus": "kivvet.books.runs.status",
    "DraftReport": "kivvet.core.draft.draft",
    "Drafted": "kivvet.books.asks.draft_table",
    "Example": "kivvet.core.words.examples",
    "ExampleAdded": "kivvet.books.asks.add_example",
    "Explanation": "kivvet.core.run.explanation",
    "Fall": "kivvet.core.run.shares",
    "Finding": "kivvet.core.words.findings",
    "Formula": "kivvet.core.formulas.formula",
    "FormulaListed": "kivvet.books.asks.overview",
    "FormulaReport": "kivvet.core.run.step_reports",
    "Gives": "kivvet.core.compare.comparison",
    "Impact": "kivvet.core.run.impact",
    "Input": "kivvet.core.tables.inputs",
    "KivvetError": "kivvet.core.words.errors",
    "Label": "kivvet.core.run.cross_table",
    "LastRun": "kivvet.core.run.reports",
    "Live": "kivvet.books.asks.live",
    "Look": "kivvet.core.draft.look",
    "Move": "kivvet.core.run.impact",
    "MovedRow": "kivvet.core.run.impact",
    "Output": "kivvet.core.tables.inputs",
    "OutputError": "kivvet.core.words.errors",
    "Overview": "kivvet.books.asks.overview",
    "Pair": "kivvet.core.words.findings",
    "Place": "kivvet.core.words.places",
    "Reason": "kivvet.books.runs.status",
    "DoneAgain": "kivvet.books.asks.history",
    "History": "kivvet.books.asks.history",
    "RunTold": "kivvet.books.asks.history",
    "TableVersion": "kivvet.books.asks.history",
    "PastRun": "kivvet.books.runs.past_run",
    "Clash": "kivvet.core.run.three_way",
    "Merged": "kivvet.books.asks.merge_table",
    "Review": "kivvet.core.tables.review",
    "TableReview": "kivvet.books.asks.review_table",
    "Pins": "kivvet.books.asks.pin_books",
    "PinnedBook": "kivvet.books.asks.pin_books",
    "Refreshed": "kivvet.books.runs.refresh",
    "Report": "kivvet.core.words.findings",
    "Row": "kivvet.core.tables.table",
    "RowsShown": "kivvet.books.asks.rows",
    "RuleTable": "kivvet.rule_table",
    "Several": "kivvet.core.words.printed",
    "Shares": "kivvet.core.run.shares",
    "Mends": "kivvet.books.asks.mend_table",
    "Schema": "kivvet.books.asks.schemas",
    "Simpler": "kivvet.books.asks.simplify_table",
    "Subject": "kivvet.core.words.findings",
    "TableEdit": "kivvet.books.asks.edit_table",
    "TableError": "kivvet.core.words.errors",
    "TableListed": "kivvet.books.asks.overview",
    "TableReport": "kivvet.core.run.step_reports",
    "Trial": "kivvet.books.asks.try_formula",
    "Unmatched": "kivvet.books.asks.unmatched",
    "UnopenableError": "kivvet.core.words.errors",
    "Use": "kivvet.books.asks.overview",
    "Verdict": "kivvet.core.run.explanation",
    "WatchRound": "kivvet.books.runs.watch",
    "counting_rows": "kivvet.show.progress",
    "draft": "kivvet.on_frames",
    "schema": "kivvet.books.asks.schemas",
    "schemas": "kivvet.books.asks.schemas",
    "look": "kivvet.on_frames",
    "new_book": "kivvet.book",
    "merge": "kivvet.book",
    "open_book": "kivvet.book",
    "with_formulas": "kivvet.on_frames",
    "RulesIn": "kivvet.books.asks.rules_in",
    "RulesWorkbook": "kivvet.pages.rules_workbook",
    "TableIn": "kivvet.books.asks.rules_in",
}

__all__ = [
    "Added",
    "Adopted",
    "Applied",
    "ApplyReport",
    "Book",
    "BookError",
    "BookReport",
    "Cell",
    "Change",
    "ChangedRegion",
    "Chart",
    "Clash",
    "ClassReport",
    "ColumnImpact",
    "ColumnLook",
    "Comparison",
    "CrossTable",
    "CsvMetadata",
    "DataError",
    "Dataset",
    "DatasetImpact",
    "DatasetListed",
    "DatasetStatus",
    "DoneAgain",
    "DraftReport",
    "Drafted",
    "Example",
    "ExampleAdded",
    "Explanation",
    "Fall",
    "Finding",
    "Formula",
    "FormulaListed",
    "FormulaReport",
    "Gives",
    "History",
    "Impact",
    "Input",
    "KivvetError",
    "Label",
    "LastRun",
    "Live",
    "Look",
    "Mends",
    "Merged",
    "Move",
    "MovedRow",
    "Output",
    "OutputError",
    "Overview",
    "Pair",
    "PastRun",
    "PinnedBook",
    "Pins",
    "Place",
    "Proof",
    "Reason",
    "Refreshed",
    "Report",
    "Review",
    "Row",
    "RowsShown",
    "RuleTable",
    "RulesAdopted",
    "RulesIn",
    "RulesWorkbook",
    "RunTold",
    "Schema",
    "Several",
    "Shares",
    "Simpler",
    "Subject",
    "TableEdit",
    "TableError",
    "TableIn",
    "TableListed",
    "TableReport",
    "TableReview",
    "TableVersion",
    "Trial",
    "Unmatched",
    "UnopenableError",
    "Use",
    "Verdict",
    "WatchRound",
    "counting_rows",
    "draft",
    "look",
    "merge",
    "new_book",
    "open_book",
    "schema",
    "schemas",
    "with_formulas",
]


def _view_of(value: object) -> str | None:
    """Return what the terminal shows of a value; views are loaded when something is printed."""
    from kivvet.show.as_text import view_of

    return view_of(value)


def _markdown_of(value: object) -> str:
    """Return a result as Markdown."""
    from kivvet.pages.markdown import markdown_of

    return markdown_of(value)


def _html_of(value: object) -> str | None:
    """Return what a notebook shows of a value."""
    from kivvet.pages.notebook import html_of

    return html_of(value)


def __getattr__(name: str) -> object:
    if name in _HOMES:
        _printed.view_of, _printed.html_of, _printed.markdown_of = _view_of, _html_of, _markdown_of
        return getattr(_import_module(_HOMES[name]), name)
    raise AttributeError(f"module 'kivvet' has no attribute {name!r}")


def __dir__() -> list[str]:
    return [*__all__, "__version__"]
