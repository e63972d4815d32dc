"""From the list of columns a dataset wants to the steps that make them, in the order they need.

A name that a table or a formula reads is looked up as: what the entry says to read instead; a column of the
source; a column that another entry makes; a formula; an output that just one table of the book makes. What is
needed and not listed is computed too, and not written.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from kivvet.core.formulas.errors import pointed_at
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.tree import ColumnName, walk
from kivvet.core.run.class_planning import ClassPlanning
from kivvet.core.run.entries import Entry, entry_code, entry_text
from kivvet.core.run.formula_step import FormulaStep
from kivvet.core.run.plan import Plan
from kivvet.core.run.spread import spread_over
from kivvet.core.run.steps import Read, Step
from kivvet.core.run.table_step import TableStep
from kivvet.core.run.where import WHERE
from kivvet.core.tables.table import Table
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import did_you_mean, listed, near_name


def make_plan(
    entries: Sequence[Entry],
    tables: Mapping[str, Table],
    source_names: Iterable[str],
    renamed: Mapping[str, str] | None = None,
    unusable: Iterable[str] = (),
    formulas: Mapping[str, Formula] | None = None,
    *,
    where: Formula | None = None,
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
    where : Formula, optional
        The condition of the rows that are kept.
    in_python : bool
        Whether the entries were given in code, so that cures are written so.
    """
    named = dict(formulas or {})
    if where is not None:
        named[WHERE] = where
        entries = [*entries, Entry(WHERE, is_written=False, place=where.place)]
    planner = _Planner(
        entries, tables, tuple(source_names), renamed or {}, set(unusable), named, in_python=in_python
    )
    return planner.plan()


def _other_names(entry: Entry, tables: Mapping[str, Table]) -> Entry:
    """Return an entry with `over` that gives its columns other names."""
    if entry.table not in tables:
        return replace(entry, made_as=f"{entry.made_as or '{input}_{output}'}_2")
    kept = entry.keep or tuple((output.name, output.name) for output in tables[entry.table].outputs)
    return replace(
        entry,
        keep=tuple((output, f"{'{input}_{output}' if output == name else name}_2") for output, name in kept),
    )


class _Planner(ClassPlanning):
    def __init__(
        self,
        entries: Sequence[Entry],
        tables: Mapping[str, Table],
        source_names: tuple[str, ...],
        renamed: Mapping[str, str],
        unusable: set[str],
        formulas: Mapping[str, Formula],
        *,
        in_python: bool,
    ) -> None:
        self.tables = tables
        self.formulas = formulas
        self.source_names = source_names
        self.renamed = renamed
        self.unusable = unusable
        self.in_python = in_python
        self.faults: list[Finding] = []
        self.entries = [one for entry in entries if self.is_known(entry) for one in self.spread(entry)]
        self.outputs = [self.kept(entry) for entry in self.entries]
        self.by_class = {}
        self.flags = {}
        self.maker: dict[str, int] = {}
        self.reads: dict[int, tuple[Read, ...]] = {}  # by entry, in the order of computation
        self.under_way: list[tuple[int, str]] = []
        self.cycles: set[frozenset[int]] = set()

    def fault(self, kind: str, message: str, place: Place | None, fix: str = "", table: str = "") -> None:
        """Add a fault; `table` heads it where it has no place in a file."""
        places = (place,) if place else ()
        self.faults.append(finding(kind, message, places=places, remedy=fix, table="" if places else table))

    def spread(self, entry: Entry) -> list[Entry]:
        """Return the entries that one stands for."""
        if entry.over is None:
            return [entry]
        made, faults = spread_over(entry, self.tables, self.formulas, self.source_names)
        self.faults += faults
        return made

    def is_known(self, entry: Entry) -> bool:
        if entry.by_class is not None or entry.table in self.tables or entry.table in self.formulas:
            return True
        if entry.table not in self.unusable:
            formulas = [name for name in self.formulas if name != WHERE]
            known = [*self.tables, *formulas]
            self.fault(
                "unknown-column",
                f"{'columns' if not self.in_python else 'the call'} names {entry.table!r}, and no table{' or formula' if formulas else ''} has that name",
                entry.place,
                did_you_mean(entry.table, known)
                or f"{'there are' if formulas else 'tables:'} {listed(known)}",
            )
        return False

    def what(self, index: int) -> str:
        """Return what makes the columns of an entry, in words."""
        name = self.entries[index].table
        if index in self.by_class:
            return f"the entry with indicators of {name!r}"
        if name == WHERE:
            return "where"
        return f"{'table' if name in self.tables else 'formula'} {name!r}"

    def names_read(self, index: int) -> tuple[str, ...]:
        """Return the names that an entry's table or formula reads."""
        name = self.entries[index].table
        if index in self.by_class:
            return tuple(read.name for read in self.by_class[index].reads)
        return tuple(self.tables[name].reads) if name in self.tables else self.formulas[name].reads

    def place_of(self, index: int) -> Place | None:
        """Return where a step is defined: a formula in its own file, a table in the list of columns."""
        entry = self.entries[index]
        is_formula = entry.by_class is None and entry.table in self.formulas
        return self.formulas[entry.table].place if is_formula else entry.place

    def kept(self, entry: Entry) -> tuple[tuple[str, str], ...]:
        if entry.by_class is not None:
            return ()
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
        listed_entries = list(enumerate(self.entries))
        made = {index: self.registered(index) for index, entry in listed_entries if entry.by_class is None}
        for index, entry in listed_entries:
            if entry.by_class is not None:
                self.find_classes(index)
                made[index] = self.registered(index)
        for index in range(len(self.entries)):
            self.visit(index)
        written = [name for index, _ in listed_entries for name in made[index]]
        steps = tuple(map(self.step, self.reads))
        where = WHERE if any(WHERE in step.made_names for step in steps) else None
        return Plan(steps, tuple(written), where), self.faults

    def registered(self, index: int) -> list[str]:
        """Note the columns that an entry makes; return those that are written."""
        entry = self.entries[index]
        written: list[str] = []
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
        return written

    def step(self, index: int) -> Step:
        """Return the step of an entry."""
        entry, reads = self.entries[index], self.reads[index]
        if index in self.by_class:
            return replace(self.by_class[index], reads=reads)
        if entry.table in self.formulas:
            return FormulaStep(self.formulas[entry.table], reads, self.made_by(index))
        flags = tuple(self.flags.get(index, {}).items())
        return TableStep(self.tables[entry.table], reads, self.outputs[index], entry.status, entry.row, flags)

    def rename(self, index: int, name: str, other: str) -> str:
        """Return the cure for two columns of one name: the entry anew, with all that it says and the one name
        changed.
        """
        entry = self.entries[index]
        taken = {*self.source_names, *self.maker}
        free = next(one for one in (other, *(f"{other}_{n}" for n in range(2, 10_000))) if one not in taken)
        what = "rename it" if other.endswith("_class") else "rename one of them"
        if entry.by_class is not None:
            by_class = entry.by_class
            mended = (
                replace(by_class, rest=free)
                if name == by_class.rest
                else replace(by_class, name=f"{by_class.name}_2")
            )
            return f"{what}: {self.written(replace(entry, by_class=mended))}"
        if entry.whole is not None:
            return f"let the pattern of its names give another: {self.written(_other_names(entry.whole, self.tables))}"
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
        is_formula = entry.by_class is None and entry.table not in self.tables
        return (
            entry_code(entry, is_formula=is_formula)
            if self.in_python
            else entry_text(entry, is_formula=is_formula)
        )

    def made_by(self, index: int) -> tuple[str, ...]:
        entry = self.entries[index]
        if entry.by_class is not None:
            return self.by_class[index].names if index in self.by_class else ()
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
        if index in self.reads or (self.entries[index].by_class is not None and index not in self.by_class):
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
        columns = (
            {read.name: read.column for read in self.by_class[index].reads} if index in self.by_class else {}
        )
        for name in names:
            wanted = columns.get(name) or entry.reads.get(name, name)
            self.under_way.append((index, wanted))
            found = self.read(index, name, wanted)
            self.under_way.pop()
            if found is not None:
                read.append(found)
        if len(read) < len(names):
            return
        self.reads[index] = tuple(read)

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
        return Read(name, wanted, False) if len(self.faults) == faults and maker in self.reads else None

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
        """Return the number of the entry that makes a column; one is added where just one table has such an
        output.
        """
        maker = self.maker.get(wanted)
        if maker is not None:
            return maker
        entry = self.entries[index]
        if wanted in self.formulas and wanted != WHERE:
            return self.formula_maker(entry, wanted)
        makers = [one for one, table in self.tables.items() if any(o.name == wanted for o in table.outputs)]
        reads_itself = makers == [entry.table] and wanted == name
        if len(makers) != 1 or reads_itself:
            return None
        if (listed_at := self.listed_without_renaming(makers[0])) is not None:
            # The entry makes this output too, and does not write it.
            self.outputs[listed_at] = (*self.outputs[listed_at], (wanted, wanted))
            self.maker[wanted] = listed_at
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
        """Return the number of the entry that makes a formula's column under its own name; one is added if
        need be.
        """
        listed_at = self.listed_without_renaming(name)
        if listed_at is not None:
            self.outputs[listed_at] = (*self.outputs[listed_at], (name, name))
        else:
            listed_at = len(self.entries)
            self.entries.append(Entry(name, is_written=False, place=entry.place))
            self.outputs.append(((name, name),))
        self.maker[name] = listed_at
        return listed_at

    def listed_without_renaming(self, table: str) -> int | None:
        """Return the number of the first entry of a table that reads its columns by their own names; None:
        there is none.
        """
        return next(
            (
                number
                for number, entry in enumerate(self.entries)
                if entry.table == table and not entry.reads and entry.by_class is None
            ),
            None,
        )

    def unknown(self, wanted: str, index: int, name: str) -> None:
        entry = self.entries[index]
        candidates = [
            *self.source_names,
            *(one for one in self.maker if "\0" not in one),
            *(formula for formula in self.formulas if formula not in self.maker and "\0" not in formula),
        ]
        if entry.by_class is not None:
            outputs = [output.name for table in self.tables.values() for output in table.outputs]
            candidates = list(dict.fromkeys([*candidates, *outputs]))
        near = near_name(wanted, candidates)
        if entry.by_class is not None:
            self.fault(
                "unknown-column",
                f"{'indicators' if name.startswith('class') else name} names {wanted!r}, which is neither in the source nor made",
                entry.place,
                f"did you mean {near!r}?" if near else f"there are {listed(candidates, 20)}",
            )
            return
        if entry.table in self.formulas:
            formula, place = self.formulas[entry.table], self.place_of(index)
            here = [
                node.at for node in walk(formula.tree) if isinstance(node, ColumnName) and node.name == name
            ]
            drawn = f"\n{pointed_at(formula.text, here[0])}" if here else ""
            is_quoted = bool(here) and formula.text[here[0] : here[0] + 1] == '"'
            text = f"; a text stands in single quotes: '{wanted}'" if is_quoted else ""
            self.faults.append(
                finding(
                    "unknown-column",
                    f"{wanted!r} is neither in the source nor made{drawn}",
                    table=formula.name,
                    is_of_formula=True,
                    places=(place,) if place else (),
                    remedy=(f"did you mean {near!r}?" if near else f"there are {listed(candidates, 20)}")
                    + text,
                )
            )
            return
        in_when = entry.table in self.tables and name not in {
            input_.name for input_ in self.tables[entry.table].inputs
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
