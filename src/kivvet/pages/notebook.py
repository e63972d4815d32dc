"""Values as notebooks show them: HTML with everything escaped, in the colours of whatever is around it, light or dark."""

from __future__ import annotations

from importlib import import_module

from kivvet.pages.templating import filled

#: By type of a value the module beside this one that has its form, and what in it makes it.
FORMS: dict[str, tuple[str, str]] = {
    "ApplyReport": ("forms_of_data", "applied_form"),
    "BookReport": ("forms_of_rules", "book_report_form"),
    "ColumnLook": ("forms_of_data", "column_look_form"),
    "Comparison": ("forms_of_rules", "comparison_form"),
    "CrossTable": ("forms_of_data", "cross_table_form"),
    "DatasetStatus": ("forms_of_rules", "status_form"),
    "Explanation": ("forms_of_rules", "explanation_form"),
    "History": ("forms_of_rules", "history_form"),
    "Impact": ("forms_of_rules", "impact_form"),
    "Look": ("forms_of_data", "look_form"),
    "Overview": ("forms_of_rules", "overview_form"),
    "Report": ("forms_of_rules", "report_form"),
    "RowsShown": ("forms_of_data", "rows_form"),
    "RuleTable": ("forms_of_rules", "table_form"),
    "Shares": ("forms_of_data", "shares_form"),
    "TableReview": ("forms_of_rules", "review_form"),
    "Trial": ("forms_of_data", "trial_form"),
    "Unmatched": ("forms_of_data", "unmatched_form"),
}


def html_of(value: object) -> str | None:
    """Return what a notebook shows of a value; None where it has no such form."""
    if type(value).__name__ not in FORMS:
        return None
    module, name = FORMS[type(value).__name__]
    return filled("notebook.html", what=getattr(import_module(f"kivvet.pages.{module}"), name)(value))
