"""kivvet schema"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from kivvet.cli.options import Command, option, say
from kivvet.cli.telling import Form, forms

if TYPE_CHECKING:
    from rich.console import Console

    from kivvet import Schema


@click.command("schema", cls=Command, short_help="The JSON Schemas of a book's files, for editors.")
@click.argument("names", nargs=-1, metavar="[NAME]...")
@option("--to", "A folder; each schema is a file in it.", metavar="FOLDER")
@forms("json")
def command(names: tuple[str, ...], to: str | None, form: Form) -> None:
    """Print a JSON Schema (2020-12): of book.toml (book), the files in tables (table), formulas.toml (formulas), pins.json (pins), of a
    run in the history that a team keeps (run), and of what commands print with --json (output). With --to write them into a
    folder, without names all; editors with TOML support then complete keywords, and mark what cannot be.

    \b
    Examples:
      kivvet schema                     which there are
      kivvet schema table               one of them, as JSON
      kivvet schema --to schemas        all of them, as files
    """
    from kivvet import schema, schemas

    made = tuple(schema(name) for name in dict.fromkeys(names)) if names else schemas()
    paths = {} if to is None else {one.name: one.write(Path(to)) for one in made}

    def told(_: Console) -> None:
        if to is None and len(names) == 1:
            say(made[0].text, nl=False)
            return
        for one in made:
            say(f"{paths.get(one.name, one.name)!s}  {one.of}")

    form.tell(made, told, values=lambda: {"version": 1, "schemas": [_values(one, paths) for one in made]})


def _values(one: Schema, paths: dict[str, Path]) -> dict[str, object]:
    return {**one.as_dict(), "path": str(paths[one.name]) if one.name in paths else None}
