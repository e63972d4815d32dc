"""Codes to labels, and a cross-table: field methods by their codes, counted against the river.

The mapping is a file of the book. A code NA is a code and stays one; a code that the mapping does not know is told, and
counted on a line of its own.
"""

from pathlib import Path

import kivvet

book = kivvet.open_book(Path(__file__).parent / "field_book")

for one in book.unmatched(["samples"]):
    print(f"{one.table} has no row for {one.value!r}: {one.rows} row, first in row {one.first_row}")
print()
print(book.cross_table("samples", by=["method_label"], across="river"))
print()
means = book.summary("samples", by=["river"], value=["AVG(nitrate) AS mean", "COUNT(*) AS samples"])
print(means.to_string(index=False))
