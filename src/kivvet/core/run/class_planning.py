"""Planning columns by class: which classes a column can have, and the columns that tell them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import replace

from kivvet.core.classify.compiled import compile_table
from kivvet.core.classify.outcomes import STATUSES
from kivvet.core.formulas.domain import Domain, domain_of
from kivvet.core.formulas.formula import Formula
from kivvet.core.run.class_names import (
    MOST_CLASSES,
    classes_of_formula,
    declared_classes,
    names_by_class,
)
from kivvet.core.run.class_step import ClassStep
from kivvet.core.run.entries import Entry
from kivvet.core.run.steps import Read
from kivvet.core.tables.table import UNFINISHED, Table
from kivvet.core.words.places import Place
from kivvet.core.words.values import Value, write_value
from kivvet.core.words.wording import listed


class ClassPlanning(ABC):
    """What a planner knows and does for the entries with one column for each class.

    Attributes
    ----------
    tables, formulas : mapping
    source_names : tuple of str
    renamed : mapping of str to str
    entries : list of Entry
    outputs : list of tuples of (str, str)
        By entry of a table, the outputs and the names of their columns.
    maker : dict of str to int
        By column the number of the entry that makes it.
    by_class : dict of int to ClassStep
        By entry; where its reads come from is found later.
    flags : dict of int to (dict of str to str)
        By entry of a table, by output: what the names of the columns of true and false begin with.
    """

    tables: Mapping[str, Table]
    formulas: Mapping[str, Formula]
    source_names: tuple[str, ...]
    renamed: Mapping[str, str]
    entries: list[Entry]
    outputs: list[tuple[tuple[str, str], ...]]
    maker: dict[str, int]
    by_class: dict[int, ClassStep]
    flags: dict[int, dict[str, str]]

    @abstractmethod
    def fault(self, kind: str, message: str, place: Place | None, fix: str = "", table: str = "") -> None:
        """Add a fault."""

    @abstractmethod
    def maker_of(self, index: int, name: str, wanted: str) -> int | None:
        """Return the number of the entry that makes a column."""

    @abstractmethod
    def unknown(self, wanted: str, index: int, name: str) -> None:
        """Tell that there is no such column."""

    @abstractmethod
    def written(self, entry: Entry) -> str:
        """Return an entry as whoever gave it writes it."""

    def find_classes(self, index: int) -> None:
        """Note the step of an entry with one column for each class: the classes, and what it reads."""
        entry = self.entries[index]
        by_class = entry.by_class
        assert by_class is not None
        column = entry.table
        reads = [Read("class", column, False)]
        classes: tuple[Value, ...] | None = None
        why = ""
        source = self.renamed.get(column, column)
        maker = None if source in self.source_names else self.maker_of(index, "class", column)
        if source in self.source_names:
            classes = by_class.classes or declared_classes(column, self.tables.values())
        elif maker is None:
            self.unknown(column, index, "class")
            return
        else:
            classes, flags, why = self.classes_made(maker, column)
            if flags:
                reads = [Read(f"class {number}", name, False) for number, name in enumerate(flags)]
            if classes is not None and by_class.classes and tuple(by_class.classes) != classes:
                why = f"its classes are known: {listed(map(write_value, classes))}"
                self.fault(
                    "syntax", f"classes are named for {column!r}, and {why}", entry.place, "leave classes out"
                )
                return
            classes = classes or by_class.classes or None
        if not classes or len(classes) > MOST_CLASSES:
            self.fault(
                "syntax",
                f"{column!r} may have any value{f': {why}' if why else ''}; columns come from the classes that it can have"
                if not classes
                else f"{column!r} has {len(classes):,} classes, and a column for each of at most {MOST_CLASSES:,} is made",
                entry.place,
                f'name them: {{ indicators = "{column}", classes = ["...", "..."] }}'
                if not classes
                else "join classes by a table first",
            )
            return
        names = names_by_class(by_class.name, column, by_class.amount, classes)
        for name in dict.fromkeys(names):
            same = [write_value(one) for one, made in zip(classes, names, strict=True) if made == name]
            if len(same) > 1:
                better = by_class.name.replace("{class}", "{number}_{class}")
                mended = replace(entry, by_class=replace(by_class, name=better))
                self.fault(
                    "unknown-column",
                    f"{listed(map(repr, same))} of {column!r} would both be called {name!r}",
                    entry.place,
                    f"number them: {self.written(mended)}",
                )
                return
        if by_class.amount is not None:
            reads.append(Read("amount", by_class.amount, False))
        made = (*names, *([by_class.rest] if by_class.rest else []))
        self.by_class[index] = ClassStep(column, by_class, classes, made, tuple(reads), entry.place)

    def classes_made(self, maker: int, column: str) -> tuple[tuple[Value, ...] | None, list[str], str]:
        """Return the classes of a column that an entry makes; where a row may have several, the columns of true and
        false that tell each; and why there are none.
        """
        entry = self.entries[maker]
        if entry.by_class is not None:
            return None, [], "it is itself one of the columns by class"
        if entry.table in self.formulas:
            return classes_of_formula(self.formulas[entry.table], self.domain_made), [], ""
        table = self.tables[entry.table]
        if column == entry.status:
            return _statuses(table), [], ""
        output = next((one for one, name in self.outputs[maker] if name == column), None)
        if output is None:
            return None, [], f"table {entry.table!r} makes it with others" if column != entry.row else ""
        about = table.output(output)
        if table.match != "every":
            if table.lookup is None and table.computed(about):
                return None, [], f"some results of table {entry.table!r} are formulas"
            return table.classes(about), [], ""
        base = self.flags.setdefault(maker, {}).setdefault(output, f"\0{column}")
        flags = list(table.names_made(replace(about, combine="flags"), base))
        self.maker.update(dict.fromkeys(flags, maker))
        return table.classes(about), flags, ""

    def domain_made(self, column: str) -> Domain | None:
        """Return the classes that a column made by a table can have, or the values of a formula."""
        maker = self.maker.get(column)
        if maker is None and column not in self.formulas:
            return None
        name = column if maker is None else self.entries[maker].table
        if name in self.formulas:
            return domain_of(self.formulas[name].tree, self.domain_made)
        assert maker is not None
        table = self.tables.get(name)
        output = next((one for one, made in self.outputs[maker] if made == column), None)
        if table is None or output is None or table.match == "every" or table.output(output).type != "text":
            return None
        if table.lookup is None and table.computed(table.output(output)):
            return None
        classes = table.classes(table.output(output))
        return Domain(tuple(map(str, classes))) if 0 < len(classes) <= MOST_CLASSES else None


def _statuses(table: Table) -> tuple[Value, ...]:
    """Return how the rows of data can be decided by a table."""
    has_periods = any(input_.period is not None for input_ in table.inputs)
    blank = (
        any(UNFINISHED in row.results for row in table.rows)
        if table.lookup is None
        else bool(compile_table(table).outcomes.unfinished.any())
    )
    never = {
        "several": table.match != "every",
        "no-period": not has_periods,
        "unfinished": not blank,
    }
    return tuple(status for status in STATUSES if not never.get(status))
