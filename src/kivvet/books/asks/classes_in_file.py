"""A file that holds a class for each value, for the rows of a table that is drafted."""

from __future__ import annotations

from kivvet.books.asks.data_read import data_read
from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import count, listed, shown_path

_NOTES = ("note", "rows")
_MOST_TOLD = 5


def classes_in_file(path: str, column: str, output: str) -> dict[str, str]:
    """Return the classes in a CSV or TSV file by value, as both are written.

    The values stand in the column named like `column`, or else in the first; the classes in the one named like `output`, or else in the
    only other. A value without a class is left out.

    Raises
    ------
    DataError
        If there is no such file, its columns leave open where the classes stand, or a value stands in it with two classes.
    """
    data = data_read(None, path)
    source = data.open()
    place = Place(shown_path(data.path))
    names = list(source.names)
    key = column if column in names else names[0]
    others = [name for name in names if name != key and name not in _NOTES]
    label = output if output in others else others[0] if len(others) == 1 else None
    if label is None:
        raise DataError(
            f"has the columns {listed(names, 12)}, which leave open where the class of each value stands",
            place=place,
            expected=f"a column of values and one of classes, the latter named {output!r} where there are more",
        )
    found: dict[str, str] = {}
    torn: dict[str, set[str]] = {}
    for batch in source.batches([key, label]):
        for value, given in zip(batch.column(key).to_pylist(), batch.column(label).to_pylist(), strict=True):
            if not value or not given:
                continue
            if found.setdefault(value, given) != given:
                torn.setdefault(value, {found[value]}).add(given)
    if torn:
        told = "; ".join(
            f"{value!r}: {listed(sorted(classes))}" for value, classes in list(torn.items())[:_MOST_TOLD]
        )
        raise DataError(
            f"gives {count(len(torn), 'value')} two classes or more: {told}",
            place=place,
            fix="leave one class for each value; or draft from the data that holds them: classes",
        )
    if not found:
        raise DataError(f"has no value with a class in column {label!r}", place=place)
    return found
