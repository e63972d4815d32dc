"""kivvet demo"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, option, say


@click.command("demo", cls=Command, short_help="Run the whole story on a made-up river survey.")
@click.argument("folder", type=click.Path(path_type=Path), default=Path("river-survey"))
@option("--only-files")
def command(folder: Path, only_files: bool) -> None:
    """Write a river survey to FOLDER (river-survey, unless named) and run the whole story on it: check,
    mend, apply, change a mapping, status, refresh.

    \b
    Examples:
      kivvet demo
      kivvet demo try-it --only-files     then do the steps yourself
    """
    from kivvet.demo.story import Story, write_survey
    from kivvet.show.demo import print_ending, print_step
    from kivvet.show.terminal import console

    if only_files:
        for path in write_survey(folder):
            say(f"written  {path}")
        return
    out = console()
    Story(folder, lambda title, typed, result: print_step(out, title, typed, result)).run()
    print_ending(out, folder)
