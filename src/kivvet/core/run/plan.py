"""From the list of columns a dataset wants to the steps that make them, in the order they need.

A name that a table or a formula reads is looked up as: what the entry says to read instead; a column of
the source; a column that another entry makes; a formula; an output that just one table of the book makes. What is
needed and not listed is computed too, and not written.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from kivvet.core.columns.column import Column
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.parser import pointed_at
from kivvet.core.formulas.tree import ColumnName, walk
from kivvet.core.run.entries import Entry, entry_code, entry_text
from kivvet.core.tables.table import Table
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import did_you_mean, listed, near_name


@dataclass(frozen=True, slots=True)
class Read:
    """One column that a step reads.

    Attributes
    ----------
    name : str
        What the table calls it.
    column : str
        The column: of the source, or made by an earlier step.
    from_source : bool
    """

    name: str
    column: str
    from_source: bool


@dataclass(frozen=True, slots=True)
class Step:
    """One table applied to the columns it reads.

    Attributes
    ----------
    table : Table
    reads : tuple of Read
        Its inputs, then the columns that `when` and `given` name.
    outputs : tuple of (str, str)
        Outputs and the names of the columns made.
    """

    table: Table
    reads: tuple[Read, ...]
    outputs: tuple[tuple[str, str], ...]
    status: str | None = None
    row: str | None = None
    is_written: bool = True

    @property
    def columns(self) -> tuple[str, ...]:
        """The columns of the inputs."""
        return tuple(one.column for one in self.reads[: len(self.table.inputs)])

    def columns_of(self, source: Callable[[str], Column], made: Callable[[str], Column]) -> dict[str, Column]:
        """Return the columns that it reads, by the names the table gives them, from where each is."""
        return {one.name: (source if one.from_source else made)(one.column) for one in self.reads}

    @property
    def made(self) -> tuple[str, ...]:
        """The names of all columns it makes."""
        return tuple(name for name, _ in self.roles)

    @property
    def roles(self) -> tuple[tuple[str, tuple[str, ...]], ...]:
        """The name of each column it makes, with what it holds."""
        made: list[tuple[str, tuple[str, ...]]] = [
            (column, ("output", output, column.removeprefix(name)))
            for output, name in self.outputs
            for column in self.table.names_made(self.table.output(output), name)
        ]
        made += [
            (name, (what,)) for what, name in (("status", self.status), ("row", self.row)) if name is not None
        ]
        return tuple(made)


@dataclass(frozen=True, slots=True)
class FormulaStep:
    """One formula worked out.

    Attributes
    ----------
    formula : Formula
    reads : tuple of Read
    made : tuple of str
        The names under which its column is known; one, but where others ask for it by its own.
    kind : str or None
        The type of its values; None where it is only known once there is data.
    """

    formula: Formula
    reads: tuple[Read, ...]
    made: tuple[str, ...]
    kind: ValueType | None = None

    def columns_of(self, source: Callable[[str], Column], made: Callable[[str], Column]) -> dict[str, Column]:
        """Return the columns that it reads, by the names the formula gives them, from where each is."""
        return {one.name: (source if one.from_source else made)(one.column) for one in self.reads}


@dataclass(frozen=True, slots=True)
class Plan:
    """The steps in the order of computation, and the columns written, in the order listed."""

    order: tuple[Step | FormulaStep, ...]
    written: tuple[str, ...]

    @property
    def steps(self) -> tuple[Step, ...]:
        """Those of tables."""
        return tuple(one for one in self.order if isinstance(one, Step))

    @property
    def formula_steps(self) -> tuple[FormulaStep, ...]:
        """Those of formulas."""
        return tuple(one for one in self.order if isinstance(one, FormulaStep))

    @property
    def whole_steps(self) -> tuple[FormulaStep, ...]:
        """Those of formulas that look at other rows, so that all rows are needed."""
        return tuple(one for one in self.formula_steps if one.formula.has_windows)

    def leading_to(self, wanted: Sequence[Step | FormulaStep]) -> tuple[Step | FormulaStep, ...]:
        """Return the wanted steps and those that make what they read, in order."""
        needed: set[str] = set()
        kept = []
        for step in reversed(self.order):
            if step in wanted or needed.intersection(step.made):
                kept.append(step)
                needed.update(one.column for one in step.reads if not one.from_source)
        return tuple(reversed(kept))

    @property
    def source_columns(self) -> tuple[str, ...]:
        """The columns of the source that are read, each once."""
        return tuple(
            dict.fromkeys(one.column for step in self.order for one in step.reads if one.from_source)
        )


def make_plan(
    entries: Sequence[Entry],
    tables: Mapping[str, Table],
    source_names: Iterable[str],
    renamed: Mapping[str, str] | None = None,
    unusable: Iterable[str] = (),
    formulas: Mapping[str, Formula] | None = None,
    *,
    in_python: bool = False,
) -> tuple[Plan, list[Finding]]:
    """Return the steps that make the columns of the entries, and the faults found.

    Parameters
    ----------
    entries : sequence of Entry
    tables : mapping of str to Table
    source_names : iterable of str
        The columns of the source.
    renamed : mapping of str to str, optional
        By name, the source column that stands for it throughout the dataset.
    unusable : iterable of str
        Tables and formulas that exist but could not be read; their own findings say why.
    formulas : mapping of str to Formula, optional
    in_python : bool
        Whether the entries were given in code, so that cures are written so.
    """
    planner = _Planner(entries, tables, tuple(source_names), renamed or {}, set(unusable), formulas or {})
    planner.in_python = in_python
    return planner.plan()


class _Planner:
    def __init__(
        self,
        entries: Sequence[Entry],
        tables: Mapping[str, Table],
        source_names: tuple[str, ...],
        renamed: Mapping[str, str],
        unusable: set[str],
        formulas: Mapping[str, Formula],
    ) -> None:
        self.tables = tables
        self.formulas = formulas
        self.source_names = source_names
        self.renamed = renamed
        self.unusable = unusable
        self.in_python = False
        self.faults: list[Finding] = []
        self.entries = [entry for entry in entries if self.is_known(entry)]
        self.outputs = [self.kept(entry) for entry in self.entries]
        self.maker: dict[str, int] = {}
        self.steps: dict[int, Step | FormulaStep] = {}
        self.under_way: list[tuple[int, str]] = []
        self.cycles: set[frozenset[int]] = set()

    def fault(self, kind: str, message: str, place: Place | None, fix: str = "", table: str = "") -> None:
        """Add a fault; `table` heads it where it has no place in a file."""
        places = (place,) if place else ()
        self.faults.append(finding(kind, message, places=places, remedy=fix, table="" if places else table))

    def is_known(self, entry: Entry) -> bool:
        if entry.table in self.tables or entry.table in self.formulas:
            return True
        if entry.table not in self.unusable:
            known = [*self.tables, *self.formulas]
            self.fault(
                "unknown-column",
                f"{'columns' if not self.in_python else 'the call'} names {entry.table!r}, and no table{' or formula' if self.formulas else ''} has that name",
                entry.place,
                did_you_mean(entry.table, known)
                or f"{'there are' if self.formulas else 'tables:'} {listed(known)}",
            )
        return False

    def what(self, index: int) -> str:
        """Return what makes the columns of an entry, in words."""
        name = self.entries[index].table
        return f"{'table' if name in self.tables else 'formula'} {name!r}"

    def names_read(self, index: int) -> tuple[str, ...]:
        """Return the names that an entry's table or formula reads."""
        name = self.entries[index].table
        return tuple(self.tables[name].reads) if name in self.tables else self.formulas[name].reads

    def place_of(self, index: int) -> Place | None:
        """Return where a step is defined: a formula in its own file, a table in the list of columns."""
        entry = self.entries[index]
        return self.formulas[entry.table].place if entry.table in self.formulas else entry.place

    def kept(self, entry: Entry) -> tuple[tuple[str, str], ...]:
        if entry.table not in self.tables:
            name = entry.made_as or entry.table
            return ((name, name),)
        names = [output.name for output in self.tables[entry.table].outputs]
        if entry.keep is None:
            return tuple((name, name) for name in names)
        for name, _ in entry.keep:
            if name not in names:
                self.fault(
                    "unknown-column",
                    f"keep names {name!r}, and table {entry.table!r} has no such output",
                    entry.place,
                    did_you_mean(name, names) or f"outputs: {listed(names)}",
                )
        return tuple(pair for pair in entry.keep if pair[0] in names)

    def plan(self) -> tuple[Plan, list[Finding]]:
        written: list[str] = []
        for index, entry in enumerate(self.entries):
            for name in self.made_by(index):
                other = self.maker.get(name)
                if name in self.source_names and entry.is_written:
                    self.fault(
                        "unknown-column",
                        f"{self.what(index)} makes {name!r}, and the source has a column of that name",
                        entry.place,
                        self.rename(index, name, f"{name}_class"),
                        entry.table,
                    )
                elif other is not None:
                    self.fault(
                        "unknown-column",
                        f"{name!r} is made twice: by {self.what(other)} and by {self.what(index)}",
                        entry.place,
                        self.rename(index, name, f"{name}_2"),
                        entry.table,
                    )
                else:
                    self.maker[name] = index
                    if entry.is_written:
                        written.append(name)
        for index in range(len(self.entries)):
            self.visit(index)
        return Plan(tuple(self.steps.values()), tuple(written)), self.faults

    def rename(self, index: int, name: str, other: str) -> str:
        """Return the cure for two columns of one name: the entry anew, with all that it says and the one name changed."""
        entry = self.entries[index]
        taken = {*self.source_names, *self.maker}
        free = next(one for one in (other, *(f"{other}_{n}" for n in range(2, 10_000))) if one not in taken)
        what = "rename it" if other.endswith("_class") else "rename one of them"
        if entry.table not in self.tables:
            return f"{what}: {self.written(replace(entry, made_as=free))}"
        if entry.status == name:
            return f"{what}: {self.written(replace(entry, status=free))}"
        if entry.row == name:
            return f"{what}: {self.written(replace(entry, row=free))}"
        table = self.tables[entry.table]
        kept = [
            (output, free if name in table.names_made(table.output(output), column) else column)
            for output, column in self.outputs[index]
        ]
        return f"{what}: {self.written(replace(entry, keep=tuple(kept)))}"

    def written(self, entry: Entry) -> str:
        """Return an entry as whoever gave it writes it."""
        is_formula = entry.table not in self.tables
        return (
            entry_code(entry, is_formula=is_formula)
            if self.in_python
            else entry_text(entry, is_formula=is_formula)
        )

    def made_by(self, index: int) -> tuple[str, ...]:
        entry = self.entries[index]
        if entry.table not in self.tables:
            return tuple(name for name, _ in self.outputs[index])
        table = self.tables[entry.table]
        extra = [name for name in (entry.status, entry.row) if name]
        made = [
            one
            for output, name in self.outputs[index]
            for one in table.names_made(table.output(output), name)
        ]
        return (*made, *extra)

    def visit(self, index: int) -> None:
        """Add the step of an entry after the steps it needs."""
        if index in self.steps:
            return
        numbers = [number for number, _ in self.under_way]
        if index in numbers:
            steps = self.under_way[numbers.index(index) :]
            self.cycle(steps, steps[0][1])
            return
        entry = self.entries[index]
        names = self.names_read(index)
        for name in entry.reads:
            if name not in names:
                self.fault(
                    "unknown-column",
                    f"input names {name!r}, and {self.what(index)} {'has no such input' if entry.table in self.tables else 'reads no such column'}",
                    entry.place,
                    did_you_mean(name, names) or f"it reads {listed(names)}",
                )
        read: list[Read] = []
        for name in names:
            wanted = entry.reads.get(name, name)
            self.under_way.append((index, wanted))
            found = self.read(index, name, wanted)
            self.under_way.pop()
            if found is not None:
                read.append(found)
        if len(read) < len(names):
            return
        if entry.table in self.formulas:
            self.steps[index] = FormulaStep(self.formulas[entry.table], tuple(read), self.made_by(index))
            return
        self.steps[index] = Step(
            self.tables[entry.table],
            tuple(read),
            self.outputs[index],
            entry.status,
            entry.row,
            entry.is_written,
        )

    def read(self, index: int, name: str, wanted: str) -> Read | None:
        """Return where a column comes from, after adding the step that makes it; None where there is a fault."""
        source = self.renamed.get(wanted, wanted)
        if source in self.source_names:
            return Read(name, source, True)
        maker = self.maker_of(index, name, wanted)
        if maker is None:
            self.unknown(wanted, index, name)
            return None
        faults = len(self.faults)
        self.visit(maker)
        return Read(name, wanted, False) if len(self.faults) == faults and maker in self.steps else None

    def cycle(self, steps: list[tuple[int, str]], wanted: str) -> None:
        """Tell a cycle once, with the place of each of its steps."""
        members = frozenset(index for index, _ in steps)
        if members in self.cycles:
            return
        self.cycles.add(members)
        path = " -> ".join([*(name for _, name in steps), wanted])
        places = tuple(place for index, _ in steps if (place := self.place_of(index)) is not None)
        self.faults.append(
            finding(
                "cycle",
                f"columns depend on themselves: {path}",
                places=places,
                table="" if places else self.entries[steps[0][0]].table,
                remedy=f"let one of them read a column of the source: {listed(self.source_names)}",
            )
        )

    def maker_of(self, index: int, name: str, wanted: str) -> int | None:
        """Return the number of the entry that makes a column; one is added where just one table has such an output."""
        maker = self.maker.get(wanted)
        if maker is not None:
            return maker
        entry = self.entries[index]
        if wanted in self.formulas:
            return self.formula_maker(entry, wanted)
        makers = [one for one, table in self.tables.items() if any(o.name == wanted for o in table.outputs)]
        reads_itself = makers == [entry.table] and wanted == name
        if len(makers) != 1 or reads_itself:
            return None
        if (listed_at := self.listed_without_renaming(makers[0])) is not None:
            # The entry makes this output too, and does not write it.
            self.outputs[listed_at] = (*self.outputs[listed_at], (wanted, wanted))
            self.maker[wanted] = listed_at
            if listed_at in self.steps:
                step = self.steps[listed_at]
                assert isinstance(step, Step)
                self.steps[listed_at] = replace(step, outputs=self.outputs[listed_at])
            return listed_at
        made = len(self.entries)
        self.entries.append(Entry(makers[0], is_written=False, place=entry.place))
        self.outputs.append(
            tuple((o.name, o.name) for o in self.tables[makers[0]].outputs if o.name not in self.maker)
        )
        for column in self.made_by(made):
            self.maker[column] = made
        return made

    def formula_maker(self, entry: Entry, name: str) -> int:
        """Return the number of the entry that makes a formula's column under its own name; one is added if need be."""
        listed_at = self.listed_without_renaming(name)
        if listed_at is not None:
            self.outputs[listed_at] = (*self.outputs[listed_at], (name, name))
            if listed_at in self.steps:
                step = self.steps[listed_at]
                assert isinstance(step, FormulaStep)
                self.steps[listed_at] = replace(step, made=(*step.made, name))
        else:
            listed_at = len(self.entries)
            self.entries.append(Entry(name, is_written=False, place=entry.place))
            self.outputs.append(((name, name),))
        self.maker[name] = listed_at
        return listed_at

    def listed_without_renaming(self, table: str) -> int | None:
        """Return the number of the first entry of a table that reads its columns by their own names; None: there is none."""
        return next(
            (number for number, entry in enumerate(self.entries) if entry.table == table and not entry.reads),
            None,
        )

    def unknown(self, wanted: str, index: int, name: str) -> None:
        entry = self.entries[index]
        candidates = [
            *self.source_names,
            *self.maker,
            *(one for one in self.formulas if one not in self.maker),
        ]
        near = near_name(wanted, candidates)
        if entry.table in self.formulas:
            formula, place = self.formulas[entry.table], self.place_of(index)
            here = [one.at for one in walk(formula.tree) if isinstance(one, ColumnName) and one.name == name]
            drawn = f"\n{pointed_at(formula.text, here[0])}" if here else ""
            is_quoted = bool(here) and formula.text[here[0] : here[0] + 1] == '"'
            text = f"; a text stands in single quotes: '{wanted}'" if is_quoted else ""
            self.faults.append(
                finding(
                    "unknown-column",
                    f"{wanted!r} is neither in the source nor made{drawn}",
                    table=entry.table,
                    places=(place,) if place else (),
                    remedy=(f"did you mean {near!r}?" if near else f"there are {listed(candidates, 20)}")
                    + text,
                )
            )
            return
        in_when = entry.table in self.tables and name not in {
            one.name for one in self.tables[entry.table].inputs
        }
        text = f"; in when, a text stands in single quotes: '{wanted}'" if in_when else ""
        said = f"did you mean {near!r}? Then say  " if near else "say which column it is:  "
        mended = replace(entry, reads={**entry.reads, name: near or "COLUMN"})
        self.fault(
            "unknown-column",
            f"table {entry.table!r} reads {wanted!r}, which is neither in the source nor made",
            entry.place,
            said + self.written(mended) + ("" if near else f"; there are {listed(candidates)}") + text,
        )
