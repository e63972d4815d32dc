"""A new target under way: what is written of the source, what of the columns made, and what is taken over as it is
encoded already.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import pyarrow as pa

from kivvet.books.runs.read_data import TypedReader
from kivvet.books.runs.record import ColumnRecord, Record
from kivvet.books.runs.run import Run, RunBatch
from kivvet.core.columns.convert import holds_empty_text, holds_texts, is_text_type
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.run.plan import Plan
from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.io.csv_target import list_as_text
from kivvet.io.databases.places import InDatabase
from kivvet.io.formats import format_of
from kivvet.io.locations import Location, begun, extended_at, format_to, holds_sheets, merged
from kivvet.io.parted_target import WrittenPart
from kivvet.io.queued import QueuedTarget
from kivvet.io.source_and_target import (
    AS_IT_IS_NAMED,
    AS_IT_SAYS,
    COLOURS,
    Encoded,
    Source,
    Target,
    WriteOptions,
)

#: The keys of a field's metadata under which stand the table or formula that made a column, and the hash of its meaning.
RULES, VERSION = "rules", "rules_version"


class NotExtendedError(Exception):
    """Rows cannot be added to a target as it stands; all of it is to be written."""


class NotTakenOverError(Exception):
    """A column cannot be taken over as a file encodes it, against what the file says of it.

    Attributes
    ----------
    name : str
    """

    def __init__(self, name: str) -> None:
        super().__init__(name)
        self.name = name


@dataclass(frozen=True)
class TakenOver:
    """The columns of a target that are copied as a file encodes them.

    Attributes
    ----------
    encoded : Encoded
    names : frozenset of str
    unread : frozenset of str
        Those that nobody decodes otherwise: they are read once from the new target, before it takes the place of the old.
        None of a file under a seal that holds.
    """

    encoded: Encoded
    names: frozenset[str]
    unread: frozenset[str] = frozenset()


def taken_over_of_source(
    reader: TypedReader, target: Location, read: Collection[str], apart_from: Collection[str] = ()
) -> TakenOver | None:
    """Return the columns of a source that its target can take over: those that are read as they stand.

    Parameters
    ----------
    read : collection of str
        The columns whose values are wanted in any case.
    apart_from : collection of str
        Those that are not what the file says of them.
    """
    source = reader.source
    if format_of(source.path) is not format_to(target):
        return None
    encoded = source.encoded()
    if encoded is None:
        return None
    names = frozenset(
        name for name in source.names if name not in apart_from and reader.is_read_as_it_stands(name)
    )
    return TakenOver(encoded, names, names - {*read}) if names else None


def colours_of(plan: Plan) -> dict[str, dict[str, str]]:
    """Return by column written the colours of its classes, where its table says what they mean."""
    from kivvet.core.picture.paints import paints_of_output

    found = {}
    for name in plan.written:
        made_by = plan.maker_of(name)
        output = None if made_by is None else made_by[0].table.output(made_by[1])
        if made_by is not None and output is not None and output.meaning and output.type == "text":
            paints = paints_of_output(made_by[0].table, output)
            found[name] = {text: paint.colour for text, paint in paints.items()}
    return found


class TargetWriter:
    """The new target under way.

    Parameters
    ----------
    target : Path
    source : Source
        What is read.
    own, made : sequence of str
        The columns of the target, in order: those of the source, and those made.
    taken_over : TakenOver, optional
        Those that the source encodes as the target is to hold them.
    options : WriteOptions
    is_extended : bool
        Whether the rows of the target that is there stay, and those that are written follow them.
    key : sequence of str
        Of a table of a database whose rows stay, but for those that have the same values in these columns as one that is written.
    n_rows : int
        The rows that it has then.
    rules : sequence of ColumnRecord
        By which table or formula each column is made, and the hash of its meaning: what its field is to carry.
    plan : Plan, optional
        Where the target shows them, the colours of classes are those of its tables.
    later : collection of str
        The columns made that are written when all rows of the others are.
    """

    def __init__(
        self,
        target: Location,
        source: Source,
        own: Sequence[str],
        made: Sequence[str],
        taken_over: TakenOver | None = None,
        options: WriteOptions = AS_IT_IS_NAMED,
        *,
        is_extended: bool = False,
        key: Sequence[str] = (),
        n_rows: int = 0,
        rules: Sequence[ColumnRecord] = (),
        plan: Plan | None = None,
        later: Collection[str] = (),
    ) -> None:
        self.later = [name for name in made if name in later]
        self.colours = colours_of(plan) if plan is not None and holds_sheets(target) else {}
        self.rules = {rule.name: rule for rule in rules}
        self.is_extended = is_extended
        self.key, self.n_rows = key, n_rows
        self.target = target
        self.format = format_to(target)
        self.source, self.own, self.made = source, own, made
        self.is_own = frozenset(own)
        self.taken_over = taken_over
        self.options = options
        # What a file says of its texts may be wrong: those that are read are looked at, the others when all is written.
        self.watched = () if taken_over is None else sorted(taken_over.names - taken_over.unread)
        taken = frozenset() if taken_over is None else taken_over.names
        self.written = [name for name in (*own, *made) if name not in taken and name not in later]
        self.file: QueuedTarget | None = None
        self.schema = pa.schema([])

    def to(self, part: Path) -> TargetWriter:
        """Write to a file, which will take the place of the target; let go of it where the block ends badly."""
        self.part = part
        return self

    def __enter__(self) -> TargetWriter:
        return self

    def __exit__(self, *_: object) -> None:
        """Let go of a file that was not finished."""
        if self.file is not None:
            self.file.abandon()

    def typed_columns(self, run: Run) -> Collection[str]:
        """Return the columns of the source whose values are needed: for what is made of them, or written."""
        written = [name for name in self.written if name in self.is_own] if self.format.keeps_types else []
        return dict.fromkeys([*run.plan.source_columns, *written])

    def write(self, batch: RunBatch) -> None:
        """Write a batch of the source with the columns made of it.

        Raises
        ------
        NotExtendedError
            If the rows of the target that is there cannot stay as they are.
        """
        arrays = {name: self._array(name, batch) for name in self.written}
        for name in self.watched:
            if name in batch.read.batch.schema.names and holds_empty_text(batch.read.batch.column(name)):
                raise NotTakenOverError(name)
        if batch.kept is not None:
            kept = pa.array(batch.kept)
            arrays = {name: array.filter(kept) for name, array in arrays.items()}
        if self.file is None:
            self.file = QueuedTarget(self._begun(arrays, batch))
        self.file.write(list(arrays.values()))

    def write_later(self, batches: Iterable[Mapping[str, MadeColumn]]) -> None:
        """Write the columns that were left, in parts of rows."""
        assert self.file is not None
        for number, made in enumerate(batches):
            arrays = {name: made[name].as_arrow() for name in self.later}
            if not number:
                fields = {field.name: field for field in self.schema}
                for name in self.later:
                    field = pa.field(name, arrays[name].type, metadata=made[name].field_metadata)
                    fields[name] = self._with_rules(field)
                in_order = [fields[name] for name in (*self.own, *self.made)]
                self.schema = pa.schema(in_order, self.schema.metadata)
                self.file.begin_later(self.schema)
            self.file.write(list(arrays.values()))

    def begun(self, batch: RunBatch) -> Target:
        """Return the target begun, as it is before the first batch; it is finished by somebody else."""
        return self._begun({name: self._array(name, batch) for name in self.written}, batch)

    def written_parts(self) -> list[WrittenPart]:
        """Finish the files that were written of a target of many, and return them; they do not count yet."""
        file, self.file = self.file, None
        assert file is not None
        return file.written_parts()

    def _array(self, name: str, batch: RunBatch) -> pa.Array:
        if name in batch.made and name not in self.is_own:
            made = batch.made[name].as_arrow()
            return made if self.format.keeps_types else list_as_text(made)
        return batch.read.typed(name) if self.format.keeps_types else batch.read.as_it_stands(name)

    def _begun(self, arrays: Mapping[str, pa.Array], batch: RunBatch) -> Target:
        schema = self.schema = self._schema(arrays, batch)
        if not self.format.keeps_types:  # text has its headings as they were
            headings = dict(zip(self.source.names, self.source.headings, strict=True))
            schema = pa.schema([field.with_name(headings.get(field.name, field.name)) for field in schema])
        if self.taken_over is not None:
            return self.taken_over.encoded.begin(self.part, schema, self.taken_over.names)
        if self.key and isinstance(self.target, InDatabase):
            return merged(self.target, schema, self.key, self.n_rows)
        if self.is_extended:
            extended = extended_at(self.part, self.target, schema, self.options)
            if extended is None:
                raise NotExtendedError
            return extended
        return begun(self.part, self.target, schema, self.options)

    def _schema(self, arrays: Mapping[str, pa.Array], batch: RunBatch) -> pa.Schema:
        """Return the schema of the target: the fields of the source's own as they are stored, where it has types."""
        stored = self.source.stored_schema
        stored_fields = {} if stored is None else {field.name: field for field in stored}
        fields = []
        for name in (*self.own, *self.made):
            if name in self.later:
                continue
            is_own = name in self.is_own
            if name not in stored_fields or (name in arrays and not is_own):
                made = None if is_own else batch.made.get(name)
                metadata = None if made is None else made.field_metadata
                fields.append(pa.field(name, arrays[name].type, metadata=metadata))
                continue
            field = stored_fields[name]
            kind = arrays[name].type if name in arrays else field.type
            may_lack = field.nullable or (name in arrays and holds_texts(field.type))
            fields.append(
                field.with_type(pa.string() if is_text_type(kind) else kind).with_nullable(may_lack)
            )
        fields = [self._with_rules(field) for field in fields]
        if stored is None:
            return pa.schema(fields)
        metadata = {
            key: value
            for key, value in (stored.metadata or {}).items()
            if key not in (b"pandas", b"ARROW:schema", b"kivvet")
        }
        return pa.schema(fields, metadata or None)

    def _with_rules(self, field: pa.Field) -> pa.Field:
        rule = self.rules.get(field.name) if field.name not in self.is_own else None
        if rule is None:
            return field
        said = {RULES: rule.table, VERSION: rule.table_fingerprint}
        if field.name in self.colours:
            said[COLOURS.decode()] = json.dumps(self.colours[field.name], ensure_ascii=False)
        return field.with_metadata({**(field.metadata or {}), **said})

    def commit(self, record: Record) -> Record:
        """Finish the file with its record; return the record complete."""
        complete = record

        def seal(target_hash: str) -> Mapping[str, Any]:
            nonlocal complete
            complete = replace(record, target_hash=target_hash)
            return complete.as_dict()

        file, self.file = self.file, None
        assert file is not None
        file.commit(seal)
        if self.taken_over is not None and self.taken_over.unread:
            self._verify(self.taken_over.unread, record.rows)
        return complete

    def _verify(self, unread: Collection[str], n_rows: int) -> None:
        """Read columns that were copied from what was written, which has so many rows.

        Raises
        ------
        DataError
            If they cannot be read: the source is damaged.
        NotTakenOverError
            If a text is without characters, which is written as missing.
        """
        assert self.format.open is not None
        names = [name for name in self.own if name in unread]
        try:
            made = self.format.open(self.part, AS_IT_SAYS).with_codes(names)
            for batch in made.batches(names):
                for name, column in zip(names, batch.columns, strict=True):
                    if holds_empty_text(column):
                        raise NotTakenOverError(name)
                n_rows -= batch.num_rows
        except DataError as error:
            raise self._damaged(error.found or error.problem) from error
        if n_rows:
            raise self._damaged("columns of different lengths")

    def _damaged(self, found: str) -> DataError:
        return DataError(
            "is damaged, in columns that no rule reads",
            place=Place(self.source.shown_name),
            found=found,
            fix="fetch or write the file anew; the target is as it was",
        )
