"""kivvet merge"""

from __future__ import annotations

import sys
from pathlib import Path

import click

from kivvet.cli.options import Command, option
from kivvet.cli.telling import Form, forms


@click.command("merge", cls=Command, short_help="Merge two versions of a table by what they mean.")
@click.argument("base", type=click.Path(path_type=Path))
@click.argument("ours", type=click.Path(path_type=Path))
@click.argument("theirs", type=click.Path(path_type=Path))
@option("--path", type=click.Path(path_type=Path), metavar="FILE")
@option("--called", nargs=2, metavar="OURS THEIRS", default=("ours", "theirs"))
@option("--write", "Write the merged text over OURS, as version controls want it.")
@forms("json")
def command(
    base: Path,
    ours: Path,
    theirs: Path,
    path: Path | None,
    called: tuple[str, str],
    write: bool,
    form: Form,
) -> None:
    """Merge OURS and THEIRS, which both come from BASE: the TOML file of a table, or the CSV file of its rows.

    Lines are merged one by one, and cells where both changed one line. Then it is proven that the merged table gives
    everywhere what each side changed. Where both changed the same values to different results, these are told as regions.
    Without --write the merged text is printed. It ends with 1 where something is left to decide.

    \b
    Examples:
      kivvet merge base.toml mine.toml yours.toml --path tables/quality.toml > tables/quality.toml
      git config merge.kivvet.driver "kivvet merge %O %A %B --path %P --write"
      echo "tables/* merge=kivvet" >> .gitattributes
    """
    from kivvet.book import merge
    from kivvet.show.merged import print_merged
    from kivvet.show.terminal import console

    merged = merge(base, ours, theirs, path=path, called=called)
    if write:
        merged.write(ours)
    if write or not form.is_text:
        form.tell(merged, lambda out: print_merged(out, merged))
    else:
        click.echo(merged.text, nl=False)
        print_merged(console(stderr=True), merged)
    sys.exit(0 if merged.is_clean else 1)
