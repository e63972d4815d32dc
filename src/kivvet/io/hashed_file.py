"""A file that is written from its beginning: the hash of its bytes is known at the end, and most of them are on their way to the disk by then."""

from __future__ import annotations

import io
import os
from contextlib import suppress
from pathlib import Path
from typing import Any

import xxhash

_BYTES_TO_SEND = 1 << 24


class HashedFile(io.BufferedWriter):
    """Such a file.

    Attributes
    ----------
    digest : xxhash.xxh3_128
        Of all that was written.
    at : int
        Bytes that were.
    """

    def __init__(self, path: Path) -> None:
        super().__init__(io.FileIO(path, "w"))
        self.digest = xxhash.xxh3_128()
        self.at = self._sent = 0

    def write(self, content: Any) -> int:
        self.digest.update(content)
        n_bytes = super().write(content)
        self.at += n_bytes
        if self.at - self._sent >= _BYTES_TO_SEND:
            self._send()
        return n_bytes

    def _send(self) -> None:
        """Let the system begin to bring to the disk what was written, for which the end would wait otherwise.

        That a part of a file is not needed soon makes it do so (`posix_fadvise`); pages that are still to be brought there
        stay in memory.
        """
        if hasattr(os, "posix_fadvise"):
            self.flush()
            with suppress(OSError):  # where it cannot be asked for, the end waits
                os.posix_fadvise(self.fileno(), self._sent, self.at - self._sent, os.POSIX_FADV_DONTNEED)
        self._sent = self.at
