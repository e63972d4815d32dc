"""A book as one file, to be handed on."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from kivvet.books.files.packs import PACK_ENDING, write_pack
from kivvet.core.words.errors import BookError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


def pack_book(book: OpenBook, target: str | Path) -> tuple[str, ...]:
    """Write the rules of a book into an archive; see `Book.pack`."""
    path = Path(target)
    book.need_readable()
    if path.suffix.lower() != PACK_ENDING:
        raise BookError(
            "a pack is a ZIP file", place=Place(shown_path(path)), fix=f"name it {path.stem or 'rules'}.zip"
        )
    return write_pack(book.folder, path)
