"""What findings about rows of conditions have in common, whatever the number of inputs: their words."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from fractions import Fraction

from kivvet.core.space.axes import NumberAxis
from kivvet.core.space.region_text import _LONGEST_REGION, shortened, write_region, write_results
from kivvet.core.tables.inputs import Input, columns_of
from kivvet.core.tables.table import UNFINISHED, WHEN, Table
from kivvet.core.words.conditions import AnyValue, IsMissing, write_condition
from kivvet.core.words.findings import Finding, Severity, finding
from kivvet.core.words.regions import HIGH, LOW, Cut, Region
from kivvet.core.words.values import write_decimal
from kivvet.core.words.wording import listed, toml_key

_LONGEST_CONDITION = 60

_LONGEST_ROW = 400  # characters of a row that somebody would paste


class RowFindings:
    """Makes the findings of one table; rows are counted from 0 within."""

    def __init__(self, table: Table) -> None:
        self.table = table
        self.rows = table.rows

    @property
    def gap_severity(self) -> Severity:
        """A gap is an error where just one row is to match, and a note where something says what happens
        then.
        """
        if self.table.otherwise or self.table.match == "every":
            return "note"
        return "error" if self.table.match == "one" else "warning"

    def of_rows(self, kind: str, message: str, rows: Sequence[int], **parts: object) -> Finding:
        """Return a finding about rows."""
        places = parts.pop("places", None) or tuple(
            place for row in rows if (place := self.rows[row].place) is not None
        )
        numbers = tuple(self.rows[row].number for row in rows)
        return finding(kind, message, table=self.table.name, rows=numbers, places=places, **parts)

    def shown(self, row: int) -> str:
        """Return a row as ``row 3 (6.5 to 7: neutral)``."""
        return (
            f"row {self.rows[row].number} ({self.condition_of(row)}: {write_results(self.rows[row].results)})"
        )

    def condition_of(self, row: int) -> str:
        """Return what a row asks, shortened: the cell alone where there is one input."""
        asked = self.region_of(row)
        if list(asked) == [self.table.inputs[0].name] and len(self.table.inputs) == 1:
            return shortened(asked[self.table.inputs[0].name], _LONGEST_CONDITION)
        return shortened(write_region(asked) or "any", _LONGEST_REGION)

    def region_of(self, row: int) -> dict[str, str]:
        """Return the cells of a row that ask something, by input."""
        one = self.rows[row]
        asked = {
            about.name: write_condition(condition)
            for about, condition in zip(self.table.inputs, one.conditions, strict=True)
            if not isinstance(condition, AnyValue) or (len(self.table.inputs) == 1 and not one.when)
        }
        return {**asked, WHEN: one.when} if one.when else asked

    def unfinished_rows(self) -> Iterable[Finding]:
        """Tell rows without a result."""
        for index, row in enumerate(self.rows):
            blank = [
                output.name
                for output, result in zip(self.table.outputs, row.results, strict=True)
                if result is UNFINISHED
            ]
            if blank:
                yield self.of_rows(
                    "unfinished",
                    f"{listed(blank)} is still blank for {self.condition_of(index)}",
                    [index],
                    region=self.region_of(index),
                    remedy="fill in the result; write missing where no value is meant",
                )

    def idle_missing_result(self, holder: int) -> Finding:
        """Tell that the results for missing inputs never apply, since a row holds missing inputs too."""
        return self.of_rows(
            "unused",
            f"missing = {{ ... }} never applies: {self.shown(holder)} holds missing values too",
            [holder],
            remedy="write present instead of any, or leave missing = { ... } out",
        )

    def conflict(self, early: int, late: int, witness: Mapping[str, str]) -> Finding:
        """Tell two rows that ask the same and differ."""
        return self.of_rows(
            "conflict",
            f"{self.condition_of(late)} stands twice and differs: {write_results(self.rows[early].results)} in row {self.rows[early].number}, "
            f"{write_results(self.rows[late].results)} in row {self.rows[late].number}",
            [early, late],
            region=self.region_of(late),
            witness=witness,
            remedy="keep one of the two rows",
            **({"severity": "warning"} if self.table.match == "first" else {}),
        )

    def duplicate(self, inner: int, outer: int, *, is_same: bool) -> Finding:
        """Tell a row that another makes needless."""
        how = "says the same as" if is_same else "lies inside"
        return self.of_rows(
            "duplicate",
            f"{self.shown(inner)} {how} {self.shown(outer)}",
            [inner, outer],
            region=self.region_of(inner),
            remedy=f"remove row {self.rows[inner].number}",
        )

    def never_wins(
        self,
        row: int,
        by: Sequence[int],
        witness: Mapping[str, str],
        *,
        above: int | None = None,
        **parts: object,
    ) -> Finding:
        """Tell a row that earlier ones cover; above which it would win, if that is not the first of these."""
        numbers = [self.rows[winner].number for winner in by]
        return self.of_rows(
            "shadowed",
            f"{self.shown(row)} never wins: {'row' if len(numbers) == 1 else 'rows'} {listed(numbers)} above "
            f"{'covers' if len(numbers) == 1 else 'together cover'} all of it",
            [row, *by],
            region=self.region_of(row),
            witness=witness,
            remedy=f"move row {self.rows[row].number} above row {self.rows[by[0] if above is None else above].number}, or remove it",
            **parts,
        )

    def with_domain(self, about: Input) -> str:
        """Return the definition of an input with the values that its rows name as its domain, to be made
        complete.
        """
        from kivvet.core.read.table_text import input_text

        number = self.table.inputs.index(about)
        asked = (self.table.asked(row, number) for row in self.rows)
        named = dict.fromkeys(one for one in asked if not isinstance(one, (AnyValue, IsMissing)))
        text = input_text(replace(about, domain=None))
        first = map(write_condition, named)
        listed_values = listed(first, 3, len(named)).replace(", ", " | ")
        start = text if text.startswith("{") else f"{{ type = {text} }}"
        return start.removesuffix(" }") + f", domain = {json.dumps(listed_values, ensure_ascii=False)} }}"

    def open_input(self, about: Input) -> Finding:
        """Tell that an input's unlisted values are no gap, since nothing says which there are."""
        if about not in self.table.inputs:  # `when` alone asks for it
            gives = ", ".join(f'{toml_key(output.name)} = "..."' for output in self.table.outputs)
            return self.of_rows(
                "open",
                f"when asks for single values of {about.name}, so others are seen only in data",
                [],
                remedy=f"add a row for all others, or say what they get: otherwise = {{ {gives} }}",
            )
        return self.of_rows(
            "open",
            f"{about.name} has no domain, so values that no row lists are seen only in data",
            [],
            remedy=f"list the values there are, as its domain: inputs.{toml_key(about.name)} = {self.with_domain(about)}",
        )


def pasted_row(table: Table, region: Mapping[str, str]) -> str:
    """Return a region as a row to paste into the table's file, its results left as dots."""
    headings = {
        column.column or column.name: column.name for column in columns_of(table.inputs, table.outputs)
    }
    outputs = {output.name for output in table.outputs}
    order = table.header or tuple(headings)
    cells = [
        "..." if headings.get(one, one) in outputs else region.get(headings.get(one, one), "")
        for one in order
    ]
    if WHEN in region and WHEN not in order:
        cells.insert(len(table.inputs), region[WHEN])
    if table.has_rows_file:
        line = io.StringIO()
        csv.writer(line, lineterminator="").writerow(cells)
        return line.getvalue()
    return "[" + ", ".join(json.dumps(cell, ensure_ascii=False) for cell in cells) + "]"


def row_to_add(table: Table, region: Mapping[str, str]) -> str:
    """Return the advice to add a row that holds a region: the row, or where nobody would read it what does as well."""
    row = pasted_row(table, region)
    if len(row) <= _LONGEST_ROW:
        return f"add  {row}"
    given = ", ".join(f'{toml_key(output.name)} = "..."' for output in table.outputs)
    return f"say what all that no row holds gets: otherwise = {{ {given} }}"


def step_hint(about: Input, regions: Sequence[Region], low: Cut, high: Cut) -> str:
    """Return the advice to declare a step, where the gap between two cuts is one that a step would close."""
    if about.type != "number" or about.step is not None or low == LOW or high == HIGH:
        return ""
    if not low[2] or high[2]:
        return ""
    size = Fraction(high[1]) - Fraction(low[1])
    ends = [cut[1] for region in regions for pair in region.bands[0] for cut in pair if cut[0] == 0]
    if any((Fraction(end) % size) for end in ends) or size > 1:
        return ""
    digits = Decimal(size.numerator) / Decimal(size.denominator)
    stepped = NumberAxis(about.domain, digits)
    if any(stepped.witness(0, *pair) is None for region in regions for pair in region.bands[0]):
        return ""  # a row, or a part of one, would hold nothing
    kind = "whole numbers" if size == 1 else f"multiples of {write_decimal(digits)}"
    return f"  or, if all values of {about.name} are {kind}, set step = {write_decimal(digits)}"
