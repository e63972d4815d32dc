"""The command `kivvet`: a thin edge over the library; each subcommand is a module that is loaded on use."""

from __future__ import annotations

import errno
import io
import os
import sys
from importlib import import_module
from typing import TYPE_CHECKING, NoReturn

import click

from kivvet.cli.telling import asks_for_json, is_for_programs
from kivvet.show.hints import book_is

if TYPE_CHECKING:
    from kivvet.core.words.errors import KivvetError

_LONGEST_NAME = 200  # of a file, in messages
#: The commands by the order of work.
_STEPS = {
    "Start": ("new", "demo", "list"),
    "Look at data": ("add", "look", "formula"),
    "Draft and check rules": ("draft", "adopt", "check", "compare", "simplify", "mend"),
    "Apply": ("apply", "unmatched", "shares"),
    "Read the result": ("show", "summary", "chart", "explain"),
    "Change, and follow": ("impact", "status", "refresh", "watch"),
    "Edit": ("serve", "schema"),
    "Share": ("report", "export", "import", "history", "review", "merge", "pin", "pack"),
}
_COMMANDS = tuple(name for names in _STEPS.values() for name in names)

#: Those that write a target or a table.
_WRITING = (
    "apply",
    "refresh",
    "watch",
    "draft",
    "adopt",
    "add",
    "simplify",
    "mend",
    "review",
    "import",
    "pin",
    "pack",
)
_EPILOG = """\b
Examples:
  kivvet demo                      a river survey, from raw data to refreshed columns
  kivvet new my-rules              start a book
  kivvet check --book my-rules     prove its tables complete
  kivvet COMMAND --help            more on each
"""


class _Commands(click.Group):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_COMMANDS)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the commands step by step, as work goes, each with its line."""
        width = max(map(len, _COMMANDS))
        for step, names in _STEPS.items():
            with formatter.section(step):
                known = ((name, self.get_command(ctx, name)) for name in names)
                lines = [
                    (name.ljust(width), one.get_short_help_str(formatter.width))
                    for name, one in known
                    if one is not None
                ]
                formatter.write_dl(lines)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _COMMANDS:
            return None
        command: click.Command = import_module(f"kivvet.cli.{cmd_name}_command").command
        return command


@click.group(
    cls=_Commands,
    epilog=_EPILOG,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)
@click.version_option(package_name="kivvet", message="kivvet %(version)s")
def root() -> None:
    """Keep recoding rules in one shared place, prove that they leave no gap and no overlap, apply them
    to data as new columns, and bring those columns up to date when a rule changes.

    A book is a folder: book.toml names the datasets, tables/ holds one rule table a file.
    """


def main(arguments: list[str] | None = None) -> NoReturn:
    """Run the command line; end the process with 0 (no errors), 1 (errors) or 2 (wrong use, nothing to open)."""
    from kivvet.core.words.errors import KivvetError

    given = sys.argv[1:] if arguments is None else arguments
    book_is(None)
    is_json = asks_for_json(given)
    _write_all_signs(is_for_programs(given) or given[:1] == ["merge"])
    try:
        code = root.main(args=given, prog_name="kivvet", standalone_mode=False)
        sys.exit(code if isinstance(code, int) else 0)
    except click.ClickException as error:
        if is_json:
            click.echo(KivvetError(error.format_message()).to_json())
        else:
            from kivvet.show.terminal import harmless

            vars(error)["message"] = harmless(error.message)
            error.show()
        sys.exit(error.exit_code)
    except click.Abort:
        click.echo("stopped", err=True)
        sys.exit(130)
    except BrokenPipeError:  # whoever read the output has had enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(1)
    except KivvetError as error:
        if is_json:
            click.echo(error.to_json())
        else:
            from kivvet.show.errors import print_error

            print_error(error, writes=next(iter(given), "") in _WRITING)
        sys.exit(error.exit_code)
    except Exception as error:
        if isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EIO):
            sys.stdout = open(os.devnull, "w")  # noqa: SIM115, PTH123 (what is left to print has nowhere to go)
            click.echo(f"the output cannot be written: {error.strerror}", err=True)
            click.echo("  fix       make room, or write it elsewhere", err=True)
            sys.exit(1)
        if isinstance(error, OSError) and error.filename is not None:
            from kivvet.show.errors import print_error

            print_error(_unusable(error))
            sys.exit(2)
        if "KIVVET_TRACEBACK" in os.environ:
            raise
        click.echo(f"kivvet failed in a way it should not: {type(error).__name__}: {error}", err=True)
        click.echo("  fix       please report it; KIVVET_TRACEBACK=1 shows where it happened", err=True)
        sys.exit(1)


def _unusable(error: OSError) -> KivvetError:
    """Return the error for a file that the system does not let be used."""
    from kivvet.core.words.errors import UnopenableError

    name = os.fsdecode(error.filename)
    shown = name if len(name) <= _LONGEST_NAME else f"{name[:_LONGEST_NAME]}..."
    return UnopenableError(f"{shown}: {error.strerror}", fix="correct the path, or who may use it")


def _write_all_signs(are_for_programs: bool) -> None:
    """Let what programs read be UTF-8, whatever the machine is set to; signs that another output's encoding lacks are written
    as their numbers, so that no letter becomes another.
    """
    if isinstance(sys.stdout, io.TextIOWrapper):
        encoding = "utf-8" if are_for_programs else sys.stdout.encoding
        sys.stdout.reconfigure(encoding=encoding, errors="backslashreplace")
    if isinstance(sys.stderr, io.TextIOWrapper):
        sys.stderr.reconfigure(errors="backslashreplace")
