"""What an editor is told as rules are typed; nothing here speaks a protocol but the server."""

from __future__ import annotations

from kivvet.core.words.errors import BookError


def serve(version: str, *, reads_data: bool = True) -> None:
    """Speak the Language Server Protocol on standard input and output until the editor ends it.

    Parameters
    ----------
    version : str
        What the server says it is.
    reads_data : bool
        Whether data is read in the background.

    Raises
    ------
    BookError
        If the packages for it are not installed.
    """
    try:
        from kivvet.editor.server import serve as speak
    except ImportError as error:
        if error.name is None or error.name.partition(".")[0] not in (
            "pygls",
            "lsprotocol",
            "cattrs",
            "attrs",
        ):
            raise
        raise BookError(
            "speaking with editors needs more packages", fix='pip install "kivvet[editor]"'
        ) from error
    speak(version, reads_data=reads_data)
