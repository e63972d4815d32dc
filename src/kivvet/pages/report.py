"""The report: one HTML file that holds all there is to say of a book, and needs nothing else."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from importlib.metadata import version
from pathlib import Path
from typing import Any

from kivvet.books.asks.book_facts import BookFacts
from kivvet.core.words.findings import Finding
from kivvet.core.words.printed import ShownInNotebooks
from kivvet.core.words.wording import count, listed
from kivvet.io.own_files import refuse_ending, refuse_other, write_whole
from kivvet.pages.form_parts import MOODS
from kivvet.pages.grids import Cell, Grid, Line, heads, number, without_empty, words
from kivvet.pages.report_datasets import dataset_section, formula_section
from kivvet.pages.report_tables import anchor_of, table_section
from kivvet.pages.templating import filled, template_text

ENDINGS = (".html", ".htm")
_MADE_BY = 'content="kivvet report"'


@dataclass(frozen=True)
class BookReport(ShownInNotebooks):
    """A report of a book, or of some of its datasets; its facts as values, and the page made of them.

    Attributes
    ----------
    facts : BookFacts
    """

    facts: BookFacts

    def __repr__(self) -> str:
        return f"<BookReport {self.facts.title!r}: {self.facts.check.summary}>"

    def as_dict(self) -> dict[str, Any]:
        """Return all that the page tells as plain values."""
        return self.facts.as_dict()

    def to_html(self) -> str:
        """Return the page: one file of HTML with all its pictures, which needs no network."""
        return _page(self.facts)

    def save(self, path: str | Path, *, replace: bool = False) -> Path:
        """Write the page to a file, whole or not at all; return the path.

        Parameters
        ----------
        path : str or Path
            Ends in ``.html``.
        replace : bool
            Whether a file may be replaced that is no report of Kivvet.

        Raises
        ------
        OutputError
            If it ends otherwise, may not be replaced, or cannot be written.
        """
        path = Path(path)
        refuse_ending(path, ENDINGS, "report")
        if not replace:
            refuse_other(path, _MADE_BY, "report")
        write_whole(path, self.to_html().encode())
        return path


def _page(facts: BookFacts) -> str:
    script = template_text("report.js")
    links = {table.listed.name: anchor_of("table", table.listed.name) for table in facts.tables}
    links |= {formula.listed.name: anchor_of("formula", formula.listed.name) for formula in facts.formulas}
    told = {found.table for found in facts.check if found.table in links}
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    return filled(
        "report.html",
        title=facts.title,
        about=facts.about,
        made_at=facts.made_at,
        version=version("kivvet"),
        style=template_text("report.css"),
        script=script,
        script_hash=digest,
        summary=_summary(facts),
        unreadable=facts.unreadable,
        others=[found for found in facts.check if found.table not in told],
        overview=_overview(facts, links),
        tables=[table_section(table) for table in facts.tables],
        formulas=[formula_section(formula) for formula in facts.formulas],
        datasets=[dataset_section(dataset, links) for dataset in facts.datasets],
    )


def _summary(facts: BookFacts) -> str:
    rows = ", ".join(
        f"{count(dataset.rows, 'row')} of {dataset.listed.name}"
        for dataset in facts.datasets
        if dataset.rows is not None
    )
    return f"{facts.check.summary}{f'; read: {rows}' if rows else '; no data was read'}."


def _overview(facts: BookFacts, links: Mapping[str, str]) -> list[Grid]:
    made = []
    if facts.tables:
        lines = []
        for table in facts.tables:
            told = table.listed
            state = _state_of(table.findings)
            lines.append(
                Line(
                    (
                        Cell(told.name, link=links[told.name], is_head=True),
                        *words(told.title, told.shape),
                        number(told.rows),
                        Cell(state[0], mood=state[1]),
                        *words(listed(told.used_by, 4), told.owner, told.reviewed),
                    )
                )
            )
        names = ("table", "title", "shape", "rows", "check", "used by", "owner", "reviewed")
        made.append(without_empty(Grid("The tables", heads(names, ("rows",)), tuple(lines))))
    if facts.datasets:
        lines = [
            Line(
                (
                    Cell(dataset.listed.name, link=anchor_of("dataset", dataset.listed.name), is_head=True),
                    *words(dataset.listed.source, dataset.listed.target),
                    number(dataset.rows),
                    Cell(dataset.status.state, mood=MOODS[dataset.status.state])
                    if dataset.status
                    else Cell("cannot tell", mood="error"),
                )
            )
            for dataset in facts.datasets
        ]
        made.append(
            Grid(
                "The datasets",
                heads(("dataset", "source", "target", "rows", "state"), ("rows",)),
                tuple(lines),
            )
        )
    return made


def _state_of(findings: Sequence[Finding]) -> tuple[str, str]:
    numbers = {
        severity: sum(found.severity == severity for found in findings)
        for severity in ("error", "warning", "note")
    }
    for severity, number_of in numbers.items():
        if number_of:
            return count(number_of, severity), severity
    return "fine", "fine"
