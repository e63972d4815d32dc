"""The key of a dataset, held against its data."""

from __future__ import annotations

from dataclasses import replace

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.prepare import Prepared
from kivvet.books.runs.read_data import TypedReader
from kivvet.core.run.row_keys import RowKeys
from kivvet.core.words.findings import Finding


def see_keys(keys: RowKeys, prepared: Prepared) -> None:
    """Take in the keys of all rows of a source, which is read for it."""
    reader = TypedReader(prepared.source, prepared.dataset, prepared.types)
    for batch in reader.batches(list(keys.names)):
        keys.see([batch.typed(name) for name in keys.names])


def in_dataset(one: Finding, dataset: Dataset) -> Finding:
    """Return a finding about keys as one about the dataset, at the place that says what the key is."""
    return replace(one, dataset=dataset.name, places=(dataset.place,) if dataset.place else ())
