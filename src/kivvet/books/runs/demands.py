"""What the rules demand of the data: kinds of findings about data that a book or a table has made errors stop
an apply.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from kivvet.core.columns.column import Column
from kivvet.core.run.data_checks import DataProbe, formula_findings
from kivvet.core.run.plan import Plan
from kivvet.core.run.reports import ApplyReport
from kivvet.core.words.findings import Finding, Severity, with_severity

#: The kinds of findings about the data of one dataset.
KINDS_OF_DATA = (
    "unmatched",
    "missing-input",
    "out-of-domain",
    "finer-than-step",
    "near-miss",
    "near-edge",
    "broken-given",
)
KINDS_OF_FORMULAS = ("no-result", "no-group", "no-order", "split-ties", "near-miss")


def demands_of(plan: Plan, severity: Mapping[str, Severity], key: Sequence[str] = ()) -> tuple[str, ...]:
    """Return all that a plan demands, as ``table method: unmatched`` or ``formula load: strict``, and that rows have a key
    of their own.

    Parameters
    ----------
    severity : mapping of str to str
        By kind, what the book says; tables know what holds for them.
    """
    found = []
    for step in plan.table_steps:
        own = step.table.severity
        found += [f"table {step.table.name}: {kind}" for kind in KINDS_OF_DATA if own.get(kind) == "error"]
    for formula in (step.formula for step in plan.formula_steps):
        found += [
            f"formula {formula.name}: {kind}" for kind in KINDS_OF_FORMULAS if severity.get(kind) == "error"
        ]
        if formula.is_strict:
            found.append(f"formula {formula.name}: strict")
    if key:
        found.append(f"key: {', '.join(key)}")
    return tuple(sorted(set(found)))


class DemandCheck:
    """Watches the data as it is applied, as far as something is demanded of it."""

    def __init__(self, plan: Plan, severity: Mapping[str, Severity]) -> None:
        self.plan = plan
        self.severity = severity
        demands = demands_of(plan, severity)
        self.is_watching_formulas = any(demand.startswith("formula") for demand in demands)
        self.probes: Sequence[DataProbe | None] = [
            DataProbe(step, ())
            if any(demand.startswith(f"table {step.table.name}: ") for demand in demands)
            else None
            for step in plan.table_steps
        ]

    def see(self, columns_by_step: Sequence[Mapping[str, Column]]) -> None:
        """Look at the columns that each step of a table reads."""
        for probe, columns in zip(self.probes, columns_by_step, strict=True):
            if probe is not None:
                probe.see(columns)

    @property
    def is_watching_tables(self) -> bool:
        return any(probe is not None for probe in self.probes)

    def errors(self, report: ApplyReport) -> list[Finding]:
        """Return what does not meet the demands."""
        found: list[Finding] = []
        for probe, one in zip(self.probes, report.tables, strict=True):
            if probe is not None:
                found += with_severity(probe.findings(one, report.dataset), probe.table.severity)
        return [*(one for one in found if one.severity == "error"), *self.formula_errors(report)]

    def formula_errors(self, report: ApplyReport) -> list[Finding]:
        """Return what does not meet the demands on formulas."""
        found: list[Finding] = []
        if self.is_watching_formulas:
            formulas = {step.formula.name: step.formula for step in self.plan.formula_steps}
            for made in report.formulas:
                found += with_severity(
                    formula_findings(made, report.dataset, formulas.get(made.formula)), self.severity
                )
        return [one for one in found if one.severity == "error"]
