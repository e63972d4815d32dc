"""Books as archive files (ZIP), to be handed on: the same bytes for the same rules, and opened with suspicion."""

from __future__ import annotations

import hashlib
import json
import shutil
import stat
import tempfile
import zipfile
import zlib
from collections.abc import Mapping
from pathlib import Path, PurePosixPath
from typing import Any

from kivvet.books.files.database_rows import rows_in_database
from kivvet.books.files.databases import read_databases
from kivvet.books.files.read_formulas import FORMULAS_FILE
from kivvet.books.files.read_table import files_beside
from kivvet.books.files.readers import read_toml
from kivvet.core.read.options import Faults, Options
from kivvet.core.words.errors import BookError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.files import replacing

#: What a pack holds besides the files of the book: their hashes.
MANIFEST = "pack.json"
PACK_ENDING = ".zip"
_BOOK_FILE = "book.toml"
_EPOCH = (1980, 1, 1, 0, 0, 0)  # the first moment that the format knows
_MOST_BYTES = 1 << 30
_MOST_FILES = 10_000
_LARGEST_MANIFEST = 1 << 24
_BYTES_AT_ONCE = 1 << 20


def write_pack(folder: Path, target: Path) -> tuple[str, ...]:
    """Write the rules of a book into an archive; return the files packed. Data and targets are no rules.

    Raises
    ------
    BookError
        If the rows of a table stand outside the book's folder, so that they cannot go with it, or what goes with it holds a
        password.
    OutputError
        If it cannot be written.
    """
    contents: dict[str, bytes] = {}
    _refuse_secrets(folder)
    for path in _files_of(folder):
        if path.parent.name == "tables" and (word := rows_in_database(path)):
            raise BookError(
                f"the {word} of table {path.stem} {'lies' if word == 'lookup' else 'lie'} in a database, which cannot go with it",
                place=Place(shown_path(path)),
                fix="write it to a file beside the table first",
            )
        try:
            name = path.resolve().relative_to(folder.resolve()).as_posix()
        except ValueError:
            raise BookError(
                "stands outside the folder of the book, so it cannot go with it",
                place=Place(shown_path(path)),
                fix="move it into the book's folder",
            ) from None
        contents[name] = path.read_bytes()
    hashes = {name: hashlib.sha256(content).hexdigest() for name, content in sorted(contents.items())}
    manifest = json.dumps({"version": 1, "files": hashes}, indent=1, sort_keys=True)
    with replacing(target) as beside, zipfile.ZipFile(beside, "w", zipfile.ZIP_STORED) as archive:
        for name, content in [(MANIFEST, manifest.encode()), *sorted(contents.items())]:
            entry = zipfile.ZipInfo(name, _EPOCH)
            entry.create_system = 3
            entry.external_attr = (stat.S_IFREG | 0o644) << 16
            archive.writestr(entry, content)
    return tuple(sorted(contents))


def _refuse_secrets(folder: Path) -> None:
    """Raise where the file of the book holds the password of a database."""
    document, _ = read_toml(folder / _BOOK_FILE)
    if document is not None:
        _, said = read_databases(Options(document.values, Faults(document.locate)), folder)
        for one in said:
            raise BookError(one.message, place=one.places[0] if one.places else None, fix=one.remedy)


def _files_of(folder: Path) -> list[Path]:
    found = [folder / _BOOK_FILE, folder / FORMULAS_FILE]
    for path in sorted((folder / "tables").glob("*.toml")):
        document, _ = read_toml(path)
        found += [path, *(() if document is None else files_beside(path, document.values))]
    return [path for path in dict.fromkeys(found) if path.is_file()]


def unpacked(pack: Path, within: Path) -> Path:
    """Return the folder of the book that an archive holds, unpacked below a folder once for each content.

    What was unpacked before is held against the archive again, and unpacked anew where it is another.

    Raises
    ------
    BookError
        If it is no such archive, was altered since it was packed, or holds or names what does not stay in its folder.
    """
    place = Place(shown_path(pack))
    try:
        folder = within / _digest_of(pack)
        with zipfile.ZipFile(pack) as archive:
            hashes = _hashes(archive, place)
            if _held(folder) != hashes:
                _unpack(archive, hashes, folder, place)
    except (
        OSError,
        zipfile.BadZipFile,
        zlib.error,
        NotImplementedError,
        RuntimeError,
        ValueError,
        EOFError,
    ) as error:
        why = error.strerror if isinstance(error, OSError) else error
        raise BookError(
            f"cannot be read as a pack: {why}", place=place, fix="make it with: kivvet pack"
        ) from error
    _refuse_outside(folder, place)
    return folder


def _digest_of(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()[:16]


def _held(folder: Path) -> dict[str, str] | None:
    """Return the hashes of the files of a folder by name; None where there is no such folder, or a link in it."""
    if not folder.is_dir():
        return None
    held = {}
    for path in sorted(folder.rglob("*")):
        if path.is_symlink():
            return None
        if path.is_file():
            with path.open("rb") as file:
                held[path.relative_to(folder).as_posix()] = hashlib.file_digest(file, "sha256").hexdigest()
    return held


def _hashes(archive: zipfile.ZipFile, place: Place) -> dict[str, str]:
    """Return the hashes of the files of an archive by name, if all of them would stay in a folder.

    Nothing but the list of them is read.
    """
    entries = [one for one in archive.infolist() if not one.is_dir()]
    total = sum(entry.file_size for entry in entries)
    if len(entries) > _MOST_FILES or total > _MOST_BYTES:
        raise BookError(
            f"holds {len(entries):,} files of {total:,} bytes, which no book has",
            place=place,
            expected=f"at most {_MOST_FILES:,} files of {_MOST_BYTES:,} bytes",
        )
    names: dict[str, str] = {}
    for entry in entries:
        path = PurePosixPath(entry.filename)
        is_link = stat.S_ISLNK(entry.external_attr >> 16)
        is_odd = any(sign in entry.filename for sign in "\\:") or not entry.filename.isprintable()
        if (
            path.is_absolute()
            or ".." in path.parts
            or is_odd
            or is_link
            or not path.parts
            or str(path) != entry.filename
        ):
            raise BookError(f"holds {entry.filename!r}, which would not stay in its folder", place=place)
        if (other := names.setdefault(entry.filename.casefold(), entry.filename)) is not entry.filename:
            raise BookError(f"holds {other!r} and {entry.filename!r}, which are one file", place=place)
    for name in names.values():
        if beside := [one for one in map(str, PurePosixPath(name).parents) if one.casefold() in names]:
            raise BookError(f"holds {name!r}, and {beside[0]!r} as a file too", place=place)
    is_small = any(entry.filename == MANIFEST and entry.file_size <= _LARGEST_MANIFEST for entry in entries)
    given = _plain_json(archive.read(MANIFEST)) if is_small else None
    hashes = given.get("files") if isinstance(given, dict) else None
    if not isinstance(hashes, dict) or given is None or given.get("version") != 1:
        raise BookError(
            "is no pack of a book, or of a newer Kivvet", place=place, fix="make it with: kivvet pack"
        )
    there = {entry.filename for entry in entries} - {MANIFEST}
    if odd := sorted({*map(str, hashes)} ^ there):
        raise _altered(odd[0], place)
    return {str(name): str(key) for name, key in hashes.items()}


def _plain_json(content: bytes) -> Any:
    try:
        return json.loads(content)
    except (ValueError, RecursionError):
        return None


def _altered(name: str, place: Place) -> BookError:
    return BookError(f"was altered since it was packed: {name}", place=place, fix="fetch it anew")


def _unpack(archive: zipfile.ZipFile, hashes: Mapping[str, str], folder: Path, place: Place) -> None:
    """Write the files of an archive below a folder, in place of what it held: all of them as they were packed, or none.

    No file is held in memory.
    """
    folder.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix=f"{folder.name}.", dir=folder.parent) as beside:
        made = Path(beside) / "pack"
        for name, key in hashes.items():
            path = made / name
            path.parent.mkdir(parents=True, exist_ok=True)
            digest = hashlib.sha256()
            left = archive.getinfo(name).file_size
            with archive.open(name) as packed, path.open("wb") as file:
                while content := packed.read(_BYTES_AT_ONCE):
                    digest.update(content)
                    file.write(content)
                    left -= len(content)
                    if left < 0:
                        raise BookError(f"{name!r} is larger than it says", place=place)
            if digest.hexdigest() != key:
                raise _altered(name, place)
        shutil.rmtree(folder, ignore_errors=True)
        try:
            made.rename(folder)
        except OSError:  # another process unpacked it at the same time
            if _held(folder) != hashes:
                raise


def _refuse_outside(folder: Path, place: Place) -> None:
    """Raise where a file of a pack names another that stands outside it."""
    for path in (*sorted((folder / "tables").glob("*.toml")), folder / FORMULAS_FILE):
        document, _ = read_toml(path) if path.is_file() else (None, [])
        values = {} if document is None else document.values
        of_formulas = [
            value for value in values.values() if isinstance(value, dict) and path.name == FORMULAS_FILE
        ]
        for definition in (values, *of_formulas):
            for file in files_beside(path, definition):
                if not file.resolve().is_relative_to(folder.resolve()):
                    raise BookError(
                        f"{path.stem} names a file outside the pack: {file.name}",
                        place=place,
                        fix="pack the book whose folder holds all its files",
                    )
