"""What whole books cost: a history of 5,000 runs, 75 and 300 tables, rows that overlap at random. Each command is a process of its own;
there is no way by hand, so targets are seconds.
"""

from __future__ import annotations

import itertools
import random
import sqlite3
import sys
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from tempfile import TemporaryDirectory

import kivvet
from benchmarks.lines import Line
from benchmarks.processes import cost_of
from kivvet.demo.story import write_survey

_N_RUNS = 5_000
_KIVVET = [sys.executable, "-m", "kivvet"]


def figures() -> Iterator[Line]:
    """Yield the seconds of each command with its target."""
    with TemporaryDirectory() as name:
        folder = Path(name)
        yield _told(
            "history of 5,000 runs, the last 20 of each dataset",
            ["history", "--book", str(_with_history(folder / "runs"))],
            1.0,
        )
        for n_tables, n_datasets, target in ((75, 12, 10.0), (300, 50, 30.0)):
            book = _book(folder / str(n_tables), n_tables, n_datasets)
            page = book / "report.html"
            title = f"report of {n_tables} tables and {n_datasets} datasets"
            yield _told(title, ["report", "--book", str(book), "--to", str(page)], target)
            size = page.stat().st_size / 1e6
            yield Line("the size of that page", size, "MB", target=8 if n_tables == 75 else None)
        for command, target in (
            (["check", "t000", "--no-data"], 1.2),
            (["explain", "t000", "--set", "x=3"], 1.2),
            (["status"], 1.2),
        ):
            yield _told(f"{command[0]} of a book of 300 tables", [*command, "--book", str(book)], target)
        yield _told(
            "check of 2,000 rows by 8 inputs that overlap at random",
            ["check", "--no-data", "--book", str(_overlapping(folder / "o"))],
            5.0,
        )


def _told(title: str, command: list[str], target: float) -> Line:
    return Line(title, cost_of([*_KIVVET, *command], allowed=(0, 1)).wall, target=target)


def _with_history(folder: Path) -> Path:
    """Return a book whose journal holds many runs, by two versions of its rules in turn."""
    write_survey(folder)
    for table, before, now in (("method", '"PR"', '"PR | ZZ"'), ("month", "October", "Oct")):
        kivvet.open_book(folder).apply_dataset("top_loads")
        path = folder / f"tables/{table}.toml"
        path.write_text(path.read_text().replace(before, now, 1))
    with closing(sqlite3.connect(folder / ".kivvet/journal.sqlite")) as journal:
        names = "dataset, action, record, who, note, said"
        rows = journal.execute(f"SELECT at, {names} FROM runs").fetchall()
        made = [
            (
                f"2020-{1 + n // 500:02d}-{1 + n % 28:02d}{rows[n % len(rows)][0][10:]}",
                *rows[n % len(rows)][1:],
            )
            for n in range(_N_RUNS)
        ]
        journal.executemany(f"INSERT INTO runs (at, {names}) VALUES (?, ?, ?, ?, ?, ?, ?)", made)
        journal.commit()
    return folder


def _book(folder: Path, n_tables: int, n_datasets: int) -> Path:
    """Return a book of bins, mappings, rules and lookups, and datasets of 2,000 rows that apply them, applied once."""
    rng = random.Random(5)
    (folder / "tables").mkdir(parents=True)
    (folder / "data").mkdir()
    codes = [f"K{number:03d}" for number in range(200)]
    for number in range(n_tables):
        name = f"t{number:03d}"
        text, rows = _table(number % 4, name, codes, rng.choice([30, 60, 149]))
        (folder / f"tables/{name}.toml").write_text(text)
        if rows:
            (folder / f"tables/{name}.csv").write_text(rows)
    book = ['title = "many tables"']
    for number in range(n_datasets):
        applied = ", ".join(f'"t{table:03d}"' for table in range(number, n_tables, n_datasets))
        book.append(
            f'[datasets.d{number:02d}]\nsource = "data/d{number:02d}.csv"\ntarget = "out/d{number:02d}.parquet"\ncolumns = [{applied}]'
        )
        lines = (f"{rng.random() * 30:.1f},{rng.random() * 10:.1f},{rng.choice(codes)}" for _ in range(2_000))
        (folder / f"data/d{number:02d}.csv").write_text("\n".join(["x,y,code", *lines]) + "\n")
    (folder / "book.toml").write_text("\n".join(book) + "\n")
    cost_of([*_KIVVET, "apply", "--book", str(folder)])
    return folder


def _table(shape: int, name: str, codes: list[str], n_values: int) -> tuple[str, str]:
    """Return the text of a table, and of the file of its rows where it has one."""
    if shape == 0:
        bounds = [2.5 * number for number in range(1, 12)]
        ranges = [
            f"< {bounds[0]}",
            *(f"{a} to <{b}" for a, b in itertools.pairwise(bounds)),
            f">= {bounds[-1]}",
        ]
        rows = ",\n  ".join(f'["{one}", "c{place}"]' for place, one in enumerate(ranges))
        return f'inputs.x = "number"\noutputs.{name} = "text"\nrows = [\n  {rows}\n]\n', ""
    if shape == 1:
        head = f'inputs.code = "text"\noutputs.{name} = "text"\notherwise = {{ {name} = "other" }}\nrows = "{name}.csv"\n'
        return head, f"code,{name}\n" + "".join(
            f"{one},g{place % 7}\n" for place, one in enumerate(codes[:n_values])
        )
    if shape == 2:
        cells = ", ".join(
            f'["{x}", "{y}", "{x[0]}{y[0]}"]' for x in ("< 10", ">= 10") for y in ("< 5", ">= 5")
        )
        return (
            f'inputs.x = "number"\ninputs.y = "number"\noutputs.{name} = "text"\nrows = [["x", "y", "{name}"], {cells}]\n',
            "",
        )
    head = f'inputs.code = "text"\noutputs.{name} = "text"\noutputs.{name}_w = "number"\notherwise = {{ {name} = "none" }}\nlookup = "{name}.csv"\n'
    return head, f"code,{name},{name}_w\n" + "".join(
        f"{one},g{place % 5},{place / 4}\n" for place, one in enumerate(codes)
    )


def _overlapping(folder: Path, n_rows: int = 2_000, n_inputs: int = 8) -> Path:
    """Return a book of one table whose rows are random ranges."""
    rng = random.Random(3)
    names = [f"x{number}" for number in range(n_inputs)]

    def cell() -> str:
        low = rng.randint(0, 90)
        return "any" if rng.random() < 0.3 else f"{low} to <{low + rng.randint(5, 40)}"

    lines = [
        ",".join([*names, "y"]),
        *(",".join([*(cell() for _ in names), f"c{rng.randrange(6)}"]) for _ in range(n_rows)),
    ]
    (folder / "tables").mkdir(parents=True)
    (folder / "book.toml").write_text('title = "overlaps"\n')
    inputs = "".join(f'inputs.{one} = "number"\n' for one in names)
    (folder / "tables/t.toml").write_text(f'{inputs}outputs.y = "text"\nrows = "t.csv"\n')
    (folder / "tables/t.csv").write_text("\n".join(lines) + "\n")
    return folder
