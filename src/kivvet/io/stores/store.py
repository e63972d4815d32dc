"""Places in object stores, as URLs name them: opened through Arrow's file systems, told apart by what the store says of each.

An object is put as a whole and seen at once, so that no reader meets a half of it. What a store says of one (its ETag, where it has
one, its size and its time) tells its content from any other without a look at it.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from fnmatch import translate
from functools import lru_cache
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING

import xxhash

from kivvet.core.words.errors import KivvetError, OutputError, UnopenableError
from kivvet.core.words.places import Place
from kivvet.io.files import FileMarks, FileState

if TYPE_CHECKING:
    from pyarrow.fs import FileSystem

#: The schemes of URLs whose stores Arrow opens; of these S3 is held against a server by the tests.
SCHEMES = ("s3", "gs", "gcs", "abfs", "abfss")
_URL = re.compile(r"([A-Za-z][A-Za-z0-9+.-]+)://(.*)", re.DOTALL)
_ENDPOINTS = ("AWS_ENDPOINT_URL_S3", "AWS_ENDPOINT_URL")
_REGIONS = ("AWS_REGION", "AWS_DEFAULT_REGION")
_ATTEMPTS = 3
_SECONDS_TO_CONNECT = 10
_SECONDS_TO_RETRY = 30


def is_url(text: str) -> bool:
    """Whether a text is a URL, of whatever scheme."""
    return _URL.match(text) is not None


def url_fault(text: str) -> str:
    """Return what keeps a URL from naming a place in a store; empty where nothing does."""
    match = _URL.match(text)
    if match is None or match[1].lower() not in SCHEMES:
        return f"{text} is no URL of an object store that is known here"
    bucket, _, key = match[2].partition("/")
    if "@" in bucket and not match[1].lower().startswith("abfs"):
        return "a URL of a store holds no keys: the environment does, as the store's own programs read it"
    return "" if bucket and key else f"{text} names no object: a bucket, a stroke, and what is in it"


@dataclass(frozen=True)
class InStore:
    """An object of a store, or all below a name in it.

    Attributes
    ----------
    url : str
        Such as ``s3://bucket/folder/name.parquet``, with neither keys nor a query.
    """

    url: str

    @property
    def name(self) -> str:
        """The last part of what it is called."""
        return self.url.rstrip("/").rsplit("/", 1)[-1]

    @property
    def shown(self) -> str:
        """It as messages name it."""
        return self.url

    @property
    def suffix(self) -> str:
        return PurePosixPath(self.name).suffix

    @property
    def scheme(self) -> str:
        return self.url.split("://", 1)[0].lower()

    @property
    def place(self) -> Place:
        return Place(self.url)

    def child(self, name: str) -> InStore:
        """Return what is called so below it."""
        return InStore(f"{self.url.rstrip('/')}/{name}")

    @property
    def opened(self) -> tuple[FileSystem, str]:
        """The file system that it lies in, and what it is called there."""
        with told(self, UnopenableError, "cannot be reached"):
            return _opened(self.url, *(os.environ.get(name, "") for name in (*_ENDPOINTS, *_REGIONS)))

    def marks(self) -> FileMarks | None:
        """Return what the store says of it; None where there is no such object."""
        try:
            return self._marks()
        except UnopenableError as error:
            if isinstance(error.__cause__, FileNotFoundError):
                return None
            raise

    def _marks(self) -> FileMarks:
        system, key = self.opened
        with told(self, UnopenableError, "cannot be read"):
            with system.open_input_stream(key, compression=None) as stream:
                said = {str(name).lower(): _text(value) for name, value in (stream.metadata() or {}).items()}
            if "etag" in said and "last-modified" in said:
                when = int(parsedate_as_ns(said["last-modified"]))
                return FileMarks(
                    int(said["content-length"]), when, xxhash.xxh3_64_intdigest(said["etag"].encode()) >> 1
                )
            about = system.get_file_info(key)
            return FileMarks(int(about.size), int(about.mtime_ns or 0), 0)

    def identity(self) -> FileState:
        """Return what tells its content from any other; `UnopenableError` where there is no such object."""
        marks = self._marks()
        said = (marks.size, marks.inode) if marks.inode else (marks.size, marks.modified_ns)
        return FileState(xxhash.xxh3_128_hexdigest(repr(said).encode()), marks)

    def holds(self, name: str = "") -> bool:
        """Whether something is there: the object itself, or something below a name in it."""
        from pyarrow.fs import FileType

        system, key = (self.child(name) if name else self).opened
        with told(self, UnopenableError, "cannot be read"):
            return bool(system.get_file_info(key).type != FileType.NotFound)

    def below(self) -> list[tuple[str, float]]:
        """Return the objects below it in order: what each is called there, and when it was written, in seconds."""
        from pyarrow.fs import FileSelector, FileType

        system, key = self.opened
        key = key.rstrip("/")
        with told(self, UnopenableError, "cannot be listed"):
            found = system.get_file_info(FileSelector(key, recursive=True, allow_not_found=True))
            return sorted(
                (one.path[len(key) + 1 :], (one.mtime_ns or 0) / 1e9)
                for one in found
                if one.type == FileType.File
            )

    def remove(self) -> None:
        """Remove the object, if it is there."""
        system, key = self.opened
        with told(self, OutputError, "cannot be removed"):
            try:
                system.delete_file(key)
            except FileNotFoundError:
                return

    def put(self, path: Path) -> None:
        """Put what a file holds in the place of the object, as a whole."""
        from pyarrow.fs import LocalFileSystem, copy_files

        system, key = self.opened
        with told(self, OutputError, "cannot be written"):
            copy_files(str(path), key, LocalFileSystem(), system)

    def fetch(self, path: Path) -> None:
        """Write what the object holds to a file."""
        from pyarrow.fs import LocalFileSystem, copy_files

        system, key = self.opened
        with told(self, UnopenableError, "cannot be read"):
            copy_files(key, str(path), system, LocalFileSystem())

    def __str__(self) -> str:
        return self.url


def matching(pattern: InStore) -> list[InStore]:
    """Return the objects that a pattern stands for, in order of their names; all below a name that ends as a folder does.

    ``*`` and ``?`` stand for signs of one part of a name, ``**`` for parts of it, as in patterns of files.
    """
    fixed = re.split(r"[^/]*[*?\[]", pattern.url, maxsplit=1)[0]
    folder = InStore(fixed.rstrip("/"))
    names = [name for name, _ in folder.below()]
    if pattern.url.endswith("/"):
        return [folder.child(name) for name in names]
    parts = pattern.url[len(fixed.rstrip("/")) + 1 :].split("/")
    return [folder.child(name) for name in names if _meets(name.split("/"), parts)]


def _meets(names: list[str], parts: list[str]) -> bool:
    if not parts:
        return not names
    if parts[0] == "**":
        return any(_meets(names[number:], parts[1:]) for number in range(len(names) + 1))
    return (
        bool(names)
        and not names[0].startswith(".")
        and re.fullmatch(translate(parts[0]), names[0]) is not None
        and _meets(names[1:], parts[1:])
    )


@contextmanager
def told(place: InStore, kind: type[KivvetError], what: str) -> Iterator[None]:
    """Turn what a file system raises into an error of ours."""
    try:
        yield
    except FileNotFoundError as error:
        raise kind("there is no such object", place=place.place, fix="correct the URL") from error
    except (OSError, ValueError, NotImplementedError) as error:
        raise kind(
            f"{what}: {_plain(str(error))}",
            place=place.place,
            fix="see that the store can be reached, and that the environment holds its keys "
            "(of S3: AWS_ACCESS_KEY_ID, AWS_SECRET_ACCESS_KEY, AWS_REGION; AWS_ENDPOINT_URL of another server)",
        ) from error


def _plain(said: str) -> str:
    """Return what a file system says without what it says for its makers."""
    said = said.strip().split("\n")[0]
    match = re.search(r"AWS Error (\w+).*? operation: (.*?)(?:; Details: .*|\(Request ID.*)?$", said)
    return said[:300] if match is None else f"{match[2].strip()} ({match[1]})"


@lru_cache(64)
def _opened(url: str, *of_environment: str) -> tuple[FileSystem, str]:
    from pyarrow.fs import FileSystem

    scheme, rest = url.split("://", 1)
    if scheme.lower() != "s3":
        found, key = FileSystem.from_uri(url)
        return found, key
    return _s3(*of_environment), rest


@lru_cache(8)
def _s3(*of_environment: str) -> FileSystem:
    from pyarrow.fs import AwsStandardS3RetryStrategy, S3FileSystem

    own_endpoint, endpoint, own_region, region = of_environment
    server = own_endpoint or endpoint
    scheme, _, host = server.rpartition("://")
    return S3FileSystem(
        endpoint_override=host.rstrip("/") or None,
        scheme=scheme or None,
        region=own_region or region or ("us-east-1" if server else None),
        connect_timeout=_SECONDS_TO_CONNECT,
        retry_strategy=AwsStandardS3RetryStrategy(max_attempts=_ATTEMPTS),
    )


def lake_options() -> dict[str, str]:
    """Return what the package of lakes has to be told of a store besides what it reads of the environment."""
    patience = {
        "connect_timeout": f"{_SECONDS_TO_CONNECT}s",
        "max_retries": str(_ATTEMPTS),
        "retry_timeout": f"{_SECONDS_TO_RETRY}s",
    }
    server = next((os.environ[name] for name in _ENDPOINTS if os.environ.get(name)), "")
    if not server:
        return patience
    region = next((os.environ[name] for name in _REGIONS if os.environ.get(name)), "us-east-1")
    return {
        **patience,
        "AWS_ENDPOINT_URL": server,
        "AWS_REGION": region,
        "AWS_ALLOW_HTTP": str(server.startswith("http://")).lower(),
    }


def parsedate_as_ns(text: str) -> int:
    """Return the moment that a text of HTTP or of ISO 8601 says, in nanoseconds."""
    from datetime import datetime
    from email.utils import parsedate_to_datetime

    try:
        when = datetime.fromisoformat(text)
    except ValueError:
        when = parsedate_to_datetime(text)
    return int(when.timestamp() * 1_000_000_000)


def _text(value: bytes | str) -> str:
    return value.decode(errors="replace") if isinstance(value, bytes) else value
