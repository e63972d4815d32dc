"""The command line as a process of its own: python -m kivvet, or the command `kivvet`."""

from __future__ import annotations

import gc
import os
import sys
from importlib.abc import MetaPathFinder
from typing import NoReturn

#: Objects made before circles of them are sought. What a command makes it needs until it ends, and to look through all
#: of that time and again costs a tenth of the start.
_OBJECTS_BETWEEN = 100_000
#: Arrays come and go with each batch. In small pages the system gives the same memory again; large ones it clears anew, and
#: a virtual machine has to fetch them from its host, which took up to two fifths of a command's time.
_IN_SMALL_PAGES = {"ARROW_DEFAULT_MEMORY_POOL": "system", "NUMPY_MADVISE_HUGEPAGE": "0"}


class _NoPandas(MetaPathFinder):
    """Lets pandas be not there: to see whether it was given one of its frames Arrow loads it, for half a second, and a
    command is given none.
    """

    def find_spec(self, fullname: str, *_: object) -> None:
        if fullname == "pandas":
            raise ModuleNotFoundError("a command needs no pandas", name=fullname)


def main() -> NoReturn:
    """Run the command line."""
    sys.meta_path.insert(0, _NoPandas())
    gc.set_threshold(_OBJECTS_BETWEEN, 50, 100)
    for name, value in _IN_SMALL_PAGES.items():
        os.environ.setdefault(name, value)
    from kivvet.cli.main import main as run

    try:
        run()
    except SystemExit as ended:
        _end(ended)


def _end(ended: SystemExit) -> NoReturn:
    """End the process: the system takes back at once what it holds, where letting go of it object by object takes a tenth
    of a second. What could not be written is told as ever; and whoever watches the process sees it end as any other.
    """
    if _is_watched():
        raise ended
    try:
        for stream in (sys.stdout, sys.stderr):
            if stream is not None:  # closed by whoever started it
                stream.flush()
    except (OSError, ValueError):
        raise ended from None
    os._exit(ended.code if isinstance(ended.code, int) else int(ended.code is not None))


def _is_watched() -> bool:
    """Whether a profiler, a debugger or a measure of coverage waits for the end."""
    tools = getattr(sys, "monitoring", None)
    has_tool = tools is not None and any(tools.get_tool(number) for number in range(6))
    return has_tool or sys.gettrace() is not None or sys.getprofile() is not None or bool(sys.flags.inspect)


if __name__ == "__main__":
    main()
