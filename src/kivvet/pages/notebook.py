"""Values as notebooks show them: HTML with everything escaped, in the colours of whatever is around it, light or dark."""

from __future__ import annotations

from collections.abc import Mapping
from importlib import import_module

from kivvet.core.words.printed import Several
from kivvet.pages.grids import Part
from kivvet.pages.templating import filled

#: By type of a value the module beside this one that has its form, and what in it makes it.
FORMS: dict[str, tuple[str, str]] = {
    "ApplyReport": ("forms_of_data", "applied_form"),
    "BookReport": ("forms_of_rules", "book_report_form"),
    "ColumnLook": ("forms_of_data", "column_look_form"),
    "Comparison": ("forms_of_rules", "comparison_form"),
    "CrossTable": ("forms_of_data", "cross_table_form"),
    "CsvMetadata": ("forms_of_exchange", "described_form"),
    "DatasetStatus": ("forms_of_rules", "status_form"),
    "Explanation": ("forms_of_rules", "explanation_form"),
    "History": ("forms_of_rules", "history_form"),
    "Impact": ("forms_of_rules", "impact_form"),
    "Look": ("forms_of_data", "look_form"),
    "Overview": ("forms_of_rules", "overview_form"),
    "Report": ("forms_of_rules", "report_form"),
    "RowsShown": ("forms_of_data", "rows_form"),
    "RuleTable": ("forms_of_rules", "table_form"),
    "RulesAdopted": ("forms_of_exchange", "rules_adopted_form"),
    "RulesIn": ("forms_of_exchange", "rules_in_form"),
    "RulesWorkbook": ("forms_of_exchange", "rules_workbook_form"),
    "Shares": ("forms_of_data", "shares_form"),
    "TableReview": ("forms_of_rules", "review_form"),
    "Trial": ("forms_of_data", "trial_form"),
    "Unmatched": ("forms_of_data", "unmatched_form"),
}


#: The same for several values of a type, which are else shown one below the other.
FORMS_OF_SEVERAL: dict[str, tuple[str, str]] = {
    "DatasetStatus": ("forms_of_rules", "several_status_form"),
    "Refreshed": ("forms_of_rules", "several_refreshed_form"),
    "Unmatched": ("forms_of_data", "several_unmatched_form"),
    "Use": ("forms_of_rules", "several_uses_form"),
}


def html_of(value: object) -> str | None:
    """Return what a notebook shows of a value; None where it has no such form."""
    form = part_of(value)
    return None if form is None else filled("notebook.html", what=form)


def part_of(value: object) -> Part | None:
    """Return a value as a part of a page; None where it has no such form."""
    return _form_of_several(value) if isinstance(value, Several) else _form(FORMS, value, value)


def _form(forms: Mapping[str, tuple[str, str]], of: object, given: object) -> Part | None:
    if type(of).__name__ not in forms:
        return None
    module, name = forms[type(of).__name__]
    made: Part = getattr(import_module(f"kivvet.pages.{module}"), name)(given)
    return made


def _form_of_several(values: Several[object]) -> Part | None:
    if not values:
        return Part("", said=(("fine", "none"),))
    together = _form(FORMS_OF_SEVERAL, values[0], values)
    each = [_form(FORMS, value, value) for value in values] if together is None else []
    parts = tuple(one for one in each if one is not None)
    return together or (Part("", parts=parts) if parts else None)
