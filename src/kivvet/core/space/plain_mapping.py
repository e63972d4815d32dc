"""Long mappings from texts to results: what holds of them is known at once, and not sought cell by cell."""

from __future__ import annotations

from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import Equals, IsMissing
from kivvet.core.words.kept import kept
from kivvet.core.words.values import fold_text


@kept
def is_plain_mapping(table: Table) -> bool:
    """Whether each row accepts one text, or missing, that no other row accepts.

    The one input has neither shape nor domain, so that each of these texts may occur, and so may others.
    """
    if len(table.inputs) != 1 or table.computed_inputs or table.lookup is not None or not table.rows:
        return False
    (about,) = table.inputs
    if about.type != "text" or about.shape or about.domain is not None or table.given:
        return False
    texts: list[str] = []
    n_missing = 0
    for row in table.rows:
        (condition,) = row.conditions
        if type(condition) is Equals:
            texts.append(str(condition.value))
        elif type(condition) is IsMissing:
            n_missing += 1
        else:
            return False
    if about.fold:
        texts = [fold_text(text, about.fold) for text in texts]
    distinct = set(texts)
    return len(distinct) == len(texts) and "" not in distinct and n_missing <= (0 if about.required else 1)
