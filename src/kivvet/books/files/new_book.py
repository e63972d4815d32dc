"""Starting a book."""

from __future__ import annotations

import json
from pathlib import Path

from kivvet.books.files.open_book import BOOK_FILE
from kivvet.core.words.errors import BookError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.files import replacing_all, unwritable

_BOOK = """\
title = {title}

# A dataset: where its rows come from, which columns to add, where to write them.
# [datasets.samples]
# source  = "data/samples.csv"            # .csv .tsv .csv.gz .parquet
# target  = "out/samples.parquet"         # .csv .tsv .parquet
# types   = {{ site = "text" }}             # how to read columns; 007 stays 007
# columns = ["size_class"]                # the tables to apply
"""

_IGNORED = """\
# what belongs to this machine alone; without it, history is lost and nothing else
.kivvet/
"""

_TABLE = """\
title = "Size class"
inputs.size_mm = {{ type = "number", step = 0.1, domain = ">= 0" }}
outputs.size_class = {{ type = "text", width = 12 }}
missing = {{ size_class = "unknown" }}

rows = [
  ["< 2",       "fine"],
  ["2 to <63",  "coarse"],
  [">= 63",     "very coarse"],
]
"""


def write_new_book(folder: Path, title: str | None = None) -> list[Path]:
    """Write a book with one small table into a folder; return the files written.

    Raises
    ------
    BookError
        If the folder holds a book already.
    OutputError
        If it cannot be written.
    """
    if (folder / BOOK_FILE).exists():
        raise BookError(
            "holds a book already",
            place=Place(shown_path(folder)),
            fix="choose another folder, or work on that one",
        )
    title_text = json.dumps(title or folder.resolve().name, ensure_ascii=False)
    contents = {
        folder / BOOK_FILE: _BOOK.format(title=title_text),
        folder / "tables" / "size_class.toml": _TABLE.format(),
    }
    if not (folder / ".gitignore").exists():
        contents[folder / ".gitignore"] = _IGNORED
    try:
        if folder.exists() and not folder.is_dir():
            raise NotADirectoryError(20, "is a file, not a folder")
        for path in contents:
            if path.exists():
                raise FileExistsError(17, f"{path.relative_to(folder).as_posix()} is there already")
    except OSError as error:
        raise unwritable(folder, error) from error
    with replacing_all(tuple(contents)) as parts:
        for part, text in zip(parts, contents.values(), strict=True):
            part.write_text(text, encoding="utf-8")
    return list(contents)
