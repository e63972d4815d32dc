"""Books as archive files (ZIP), to be handed on: the same bytes for the same rules, and opened with suspicion."""

from __future__ import annotations

import hashlib
import json
import stat
import zipfile
from collections.abc import Mapping
from pathlib import Path, PurePosixPath

from kivvet.books.files.read_formulas import FORMULAS_FILE
from kivvet.books.files.read_table import files_beside
from kivvet.books.files.readers import read_toml
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


def write_pack(folder: Path, target: Path) -> tuple[str, ...]:
    """Write the rules of a book into an archive; return the files packed. Data and targets are no rules.

    Raises
    ------
    BookError
        If the rows of a table stand outside the book's folder, so that they cannot go with it.
    OutputError
        If it cannot be written.
    """
    contents: dict[str, bytes] = {}
    for path in _files_of(folder):
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


def _files_of(folder: Path) -> list[Path]:
    found = [folder / _BOOK_FILE, folder / FORMULAS_FILE]
    for path in sorted((folder / "tables").glob("*.toml")):
        document, _ = read_toml(path)
        found += [path, *(() if document is None else files_beside(path, document.values))]
    return [path for path in dict.fromkeys(found) if path.is_file()]


def unpacked(pack: Path, within: Path) -> Path:
    """Return the folder of the book that an archive holds, unpacked below a folder once for each content.

    Raises
    ------
    BookError
        If it is no such archive, was altered since it was packed, or holds what would not stay in its folder.
    """
    place = Place(shown_path(pack))
    try:
        digest = hashlib.sha256(pack.read_bytes()).hexdigest()[:16]
        folder = within / digest
        if (folder / MANIFEST).is_file():
            return folder
        with zipfile.ZipFile(pack) as archive:
            contents = _checked(archive, place)
    except (OSError, zipfile.BadZipFile, NotImplementedError, RuntimeError, ValueError) as error:
        raise BookError(
            f"cannot be read as a pack: {error}", place=place, fix="make it with: kivvet pack"
        ) from error
    for name, content in contents.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        if name != MANIFEST:
            path.write_bytes(content)
    (folder / MANIFEST).write_bytes(contents[MANIFEST])  # last: it says that all is there
    return folder


def _checked(archive: zipfile.ZipFile, place: Place) -> Mapping[str, bytes]:
    """Return the contents of an archive by name, if all of them are as they were packed, and stay in their folder."""
    entries = [one for one in archive.infolist() if not one.is_dir()]
    total = sum(one.file_size for one in entries)
    if len(entries) > _MOST_FILES or total > _MOST_BYTES:
        raise BookError(
            f"holds {len(entries):,} files of {total:,} bytes, which no book has",
            place=place,
            expected=f"at most {_MOST_FILES:,} files of {_MOST_BYTES:,} bytes",
        )
    for one in entries:
        path = PurePosixPath(one.filename)
        is_link = stat.S_ISLNK(one.external_attr >> 16)
        if path.is_absolute() or ".." in path.parts or "\\" in one.filename or ":" in one.filename or is_link:
            raise BookError(f"holds {one.filename!r}, which would not stay in its folder", place=place)
    contents: dict[str, bytes] = {}
    for one in entries:
        with archive.open(one) as file:
            content = file.read(one.file_size + 1)
        if len(content) != one.file_size:
            raise BookError(f"{one.filename!r} is larger than it says", place=place)
        contents[one.filename] = content
    given = json.loads(contents[MANIFEST]) if MANIFEST in contents else None
    hashes = given.get("files") if isinstance(given, dict) else None
    if not isinstance(hashes, dict) or given is None or given.get("version") != 1:
        raise BookError(
            "is no pack of a book, or of a newer Kivvet", place=place, fix="make it with: kivvet pack"
        )
    actual = {
        name: hashlib.sha256(content).hexdigest() for name, content in contents.items() if name != MANIFEST
    }
    if altered := sorted(name for name in {**hashes, **actual} if hashes.get(name) != actual.get(name)):
        raise BookError(f"was altered since it was packed: {altered[0]}", place=place, fix="fetch it anew")
    return contents
