"""kivvet serve"""

from __future__ import annotations

import sys

import click

from kivvet.cli.options import Command, option


@click.command("serve", cls=Command, short_help="Tell an editor what is wrong while rules are typed.")
@option("--no-data")
def command(no_data: bool) -> None:
    """Speak the Language Server Protocol on standard input and output: an editor starts it, and shows what is wrong where it
    stands, with quick fixes, what a condition means and how much data meets it, names to complete, where things are defined
    and used, and renames them in the whole book. It is no command to be typed; docs/editors.md has the few lines that editors need.

    \b
    Examples:
      kivvet serve
      kivvet serve --no-data       never read data for it
    """
    from kivvet import __version__
    from kivvet.editor import serve

    if sys.stdin.isatty():
        raise click.UsageError("this is for editors, which start it themselves: see docs/editors.md")
    serve(__version__, reads_data=not no_data)
