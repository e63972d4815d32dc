"""Folders for a moment, where the system keeps temporary files: what is checked before it takes its place is written there."""

from __future__ import annotations

import errno
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from kivvet.core.words.errors import OutputError
from kivvet.core.words.places import Place

_HAS_NO_ROOM = (errno.ENOSPC, errno.EFBIG, errno.EDQUOT, errno.EROFS)


@contextmanager
def scratch_folder() -> Iterator[Path]:
    """Give an empty folder, which goes with all that is in it when the block ends.

    Raises
    ------
    OutputError
        If there is no place for temporary files, or no room in it.
    """
    try:
        folder = tempfile.TemporaryDirectory(prefix="kivvet-")
    except OSError as error:
        raise _no_room("the system's folder for temporary files", error) from error
    with folder as name:
        try:
            yield Path(name)
        except OSError as error:
            if error.errno not in _HAS_NO_ROOM:
                raise
            raise _no_room(tempfile.gettempdir(), error) from error


def _no_room(where: str, error: OSError) -> OutputError:
    return OutputError(
        f"cannot be written: {error.strerror}",
        place=Place(where),
        fix="see that this folder of temporary files has room, or name another by TMPDIR; nothing was changed",
    )
