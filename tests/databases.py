"""Databases for tests: files of two engines, and a PostgreSQL server on a free port, started once where Debian's package is there."""

import os
import pwd
import shutil
import socket
import sqlite3
import subprocess
import tempfile
import time
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from urllib.parse import quote

import duckdb
import pytest

from kivvet.io.databases.engines import close_all

ENGINES = ("sqlite", "duckdb", "postgresql")

PASSWORD = "s3cret pw@/:%"


def free_port():
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return free.getsockname()[1]


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

    port = free_port()
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


@contextmanager
def other_server():
    """Give the URL of a database of MariaDB on a free port of this machine; skips where none is installed."""
    if shutil.which("mariadbd") is None or shutil.which("mariadb-install-db") is None:
        pytest.skip("no MariaDB server is installed here")
    import pymysql

    base = Path(tempfile.mkdtemp(prefix="my-", dir="/tmp"))
    user = ()
    if os.getuid() == 0:
        name = "mysql" if any(one.pw_name == "mysql" for one in pwd.getpwall()) else "root"
        shutil.chown(base, name)
        user = (f"--user={name}",)
    port = free_port()
    asked = ("--no-defaults", *user, f"--datadir={base / 'data'}")
    subprocess.run(
        ["mariadb-install-db", *asked, "--auth-root-authentication-method=normal", "--skip-test-db"],
        check=True,
        capture_output=True,
    )
    server = subprocess.Popen(
        [
            "mariadbd",
            *asked,
            f"--socket={base / 's'}",
            f"--pid-file={base / 'pid'}",
            "--bind-address=127.0.0.1",
            f"--port={port}",
        ],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    try:
        for _ in range(300):
            with suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=1):
                break
            time.sleep(0.1)
        with pymysql.connect(unix_socket=str(base / "s"), user="root") as connection:
            cursor = connection.cursor()
            cursor.execute("CREATE DATABASE survey")
            cursor.execute("CREATE USER k@'127.0.0.1' IDENTIFIED BY %s", (PASSWORD,))
            cursor.execute("GRANT ALL ON survey.* TO k@'127.0.0.1'")
        yield f"mysql://k:{quote(PASSWORD, safe='')}@127.0.0.1:{port}/survey"
    finally:
        server.kill()
        server.wait()
        shutil.rmtree(base, ignore_errors=True)


@pytest.fixture(scope="session")
def sql_server():
    with cluster() as url:
        yield url


@pytest.fixture(scope="session")
def other_sql_server():
    with other_server() as url:
        yield url


class Held:
    """A database of a test: what the book says of it, and statements run beside Kivvet."""

    def __init__(self, engine, folder, url):
        self.engine, self.url = engine, url
        self.path = folder / f"survey{'.db' if engine == 'sqlite' else '.duckdb'}"
        self.entry = 'url_from = "SURVEY_DB"' if engine == "postgresql" else f'path = "{self.path.name}"'

    def run(self, *statements):
        """Run statements; return the rows of the last."""
        close_all()  # a file of duckdb is open in one place only
        if self.engine == "postgresql":
            import psycopg

            with psycopg.connect(self.url, autocommit=True) as connection:
                found = [connection.execute(one) for one in statements][-1]
                return [] if found.description is None else found.fetchall()
        connect = sqlite3.connect if self.engine == "sqlite" else duckdb.connect
        with closing(connect(str(self.path))) as connection:
            found = [connection.execute(one) for one in statements][-1].fetchall()
            if self.engine == "sqlite":
                connection.commit()
            return found


@pytest.fixture(params=ENGINES)
def held(request, tmp_path, monkeypatch):
    url = ""
    if request.param == "postgresql":
        import psycopg

        url = request.getfixturevalue("sql_server")
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute("DROP SCHEMA public CASCADE")
            connection.execute("CREATE SCHEMA public")
        monkeypatch.setenv("SURVEY_DB", url)
    (tmp_path / "book").mkdir()
    yield Held(request.param, tmp_path / "book", url)
    close_all()


def book_with(held, datasets, **files):
    """Write a book with the database and some datasets; return its folder."""
    text = f"[databases.survey]\n{held.entry}\n{datasets}"
    from tests.conftest import write_book

    write_book(held.path.parent, {"book.toml": text, **files})
    return held.path.parent
