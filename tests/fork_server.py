"""Serves `kivvet` to shell lines of tests: a process that has everything loaded forks for each command, so that a page of
fifty commands does not load everything fifty times. What runs is the command itself, with the caller's folder, environment,
input and output.

    python -m tests.fork_server SOCKET
"""

import importlib
import json
import os
import pkgutil
import signal
import socket
import sys
import traceback
from pathlib import Path

from kivvet.__main__ import _NoPandas

_LONGEST = 1 << 20
CLIENT = """#!{python} -IS
import json, os, socket, sys
to = socket.socket(socket.AF_UNIX)
to.connect({path!r})
asked = json.dumps([sys.argv[1:], os.getcwd(), dict(os.environ)]).encode()
socket.send_fds(to, [len(asked).to_bytes(4, "little") + asked], [0, 1, 2])
os._exit(int.from_bytes(to.recv(4), "little"))
"""


def write_client(folder: Path, path: Path) -> None:
    """Write a command `kivvet` that asks the server at a socket."""
    client = folder / "kivvet"
    client.write_text(CLIENT.format(python=sys.executable, path=str(path)))
    client.chmod(0o755)


def load() -> None:
    """Load all that a command may need; nothing is run, so that no thread is there to be lost by a fork."""
    for package in ("kivvet.cli", "kivvet.show", "kivvet.pages", "kivvet.books.asks", "kivvet.books.runs"):
        for module in pkgutil.iter_modules(importlib.import_module(package).__path__, f"{package}."):
            importlib.import_module(module.name)
    for name in ("pyarrow.csv", "pyarrow.parquet", "pyarrow.dataset", "pyarrow.json", "jinja2"):
        importlib.import_module(name)


def serve(path: str) -> None:
    """Answer until the process that started this one ends."""
    listening = socket.socket(socket.AF_UNIX)
    listening.bind(path)
    listening.listen(64)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    print("ready", flush=True)
    while True:
        to, _ = listening.accept()
        if os.fork() == 0:
            signal.signal(signal.SIGCHLD, signal.SIG_DFL)
            listening.close()
            answer(to)
        to.close()


def answer(to: socket.socket) -> None:
    """Run one command in a process of its own, and tell how it ended."""
    said, given, _, _ = socket.recv_fds(to, _LONGEST, 3)
    while len(said) < 4 + int.from_bytes(said[:4], "little"):
        said += to.recv(_LONGEST)
    arguments, folder, environment = json.loads(said[4:])
    child = os.fork()
    if child:
        _, status = os.waitpid(child, 0)
        to.send((os.waitstatus_to_exitcode(status) % 256).to_bytes(4, "little"))
        os._exit(0)
    to.close()
    for place, one in enumerate(given):
        os.dup2(one, place)
    sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115
    sys.stdout = open(1, "w", encoding="utf-8", closefd=False)  # noqa: SIM115
    sys.stderr = open(2, "w", encoding="utf-8", closefd=False)  # noqa: SIM115
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(environment)
    run(arguments)


def run(arguments: list[str]) -> None:
    from kivvet.cli.main import main

    code = 1
    try:
        main(arguments)
    except SystemExit as ending:
        code = ending.code if isinstance(ending.code, int) else int(ending.code is not None)
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)


if __name__ == "__main__":
    sys.meta_path.insert(0, _NoPandas())
    load()
    serve(sys.argv[1])
