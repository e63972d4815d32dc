"""Databases for tests: files of two engines, and a PostgreSQL server on a free port, started once where Debian's package is there."""

import os
import pwd
import shutil
import socket
import subprocess
import tempfile
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import quote

import pytest

PASSWORD = "s3cret pw@/:%"


def server_programs():
    """Return the folder of the server's programs; None where it is not installed."""
    for folder in sorted(Path("/usr/lib/postgresql").glob("*/bin"), reverse=True):
        if (folder / "initdb").exists():
            return folder
    return None


@contextmanager
def cluster():
    """Give the URL of a server that ends with the block; it refuses to run as root, so another user runs it then."""
    programs = server_programs()
    if programs is None:
        pytest.skip("no PostgreSQL server is installed")
    base = Path(tempfile.mkdtemp(prefix="pg-"))  # short: the path of a socket holds 107 bytes
    as_other = []
    if os.geteuid() == 0:
        user = pwd.getpwnam("postgres")
        os.chown(base, user.pw_uid, user.pw_gid)
        as_other = ["runuser", "-u", "postgres", "--"]
    (base / "pw").write_text(PASSWORD)
    (base / "pw").chmod(0o644)

    def run(*command):
        subprocess.run(
            [*as_other, *map(str, command)],
            cwd=base,
            check=True,
            stdin=subprocess.DEVNULL,
            capture_output=True,
        )

    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    run(
        *(programs / "initdb", "-D", base / "data", "-U", "kivvet", "-A", "scram-sha-256"),
        *("--pwfile", base / "pw", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync"),
    )
    options = f"-p {port} -c listen_addresses=127.0.0.1 -k {base} -c fsync=off -c synchronous_commit=off"
    run(
        programs / "pg_ctl", "-D", base / "data", "-l", base / "log", "-o", options, "-w", "-t", "60", "start"
    )
    try:
        yield f"postgresql://kivvet:{quote(PASSWORD, safe='')}@127.0.0.1:{port}/postgres"
    finally:
        run(programs / "pg_ctl", "-D", base / "data", "-m", "immediate", "-w", "stop")
        shutil.rmtree(base, ignore_errors=True)
