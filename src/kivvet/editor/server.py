"""The language server: what an editor asks over the open Language Server Protocol, answered by a session."""

from __future__ import annotations

import asyncio
import logging
import sys
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from lsprotocol import types
from pygls.exceptions import JsonRpcException, JsonRpcInvalidParams
from pygls.lsp.server import LanguageServer

from kivvet.editor.completions import completions_at
from kivvet.editor.diagnoses import Diagnosis
from kivvet.editor.hovers import hover_at
from kivvet.editor.layout import aligned, folds_of, outline_of
from kivvet.editor.occurrences import Occurrence, entity_at, occurrences
from kivvet.editor.protocol import (
    COMPLETIONS,
    Document,
    diagnostic_of,
    offset_of,
    path_of,
    position_of,
    range_of,
    symbol_of,
)
from kivvet.editor.renames import RenameError, rename
from kivvet.editor.session import Session
from kivvet.editor.texts import Edit, Span, Text
from kivvet.editor.where_named import definitions_of

#: Seconds after an edit before what is typed is checked, and before data is read for it.
_PAUSE, _PAUSE_FOR_DATA = 0.05, 0.8


class _NoLongerAskedError(Exception):
    """A check whose text was edited since."""


class KivvetServer(LanguageServer):
    """The server of one editor.

    Parameters
    ----------
    reads_data : bool
        Whether data is read in the background.
    """

    def __init__(self, version: str, *, reads_data: bool = True) -> None:
        super().__init__("kivvet", version)
        self.session = Session()
        self.reads_data = reads_data
        self.uris: dict[Path, str] = {}
        self.checks = ThreadPoolExecutor(1, "kivvet-check")
        self.data_checks = ThreadPoolExecutor(1, "kivvet-data")
        self.waiting: dict[Path, asyncio.Task[None]] = {}

    # What is open.

    def text_of(self, path: Path) -> Text:
        return self.session.texts.of(path)

    def place(self, uri: str, position: types.Position) -> tuple[Path, int]:
        """Return the file and the place of a request."""
        path = path_of(uri)
        if path is None:
            raise JsonRpcInvalidParams("the file is not on disk")
        return path, offset_of(self.text_of(path), position, self.workspace.position_codec)

    def uri(self, path: Path) -> str:
        return self.uris.get(path, path.as_uri())

    def range(self, path: Path, span: Span) -> types.Range:
        return range_of(self.text_of(path), span, self.workspace.position_codec)

    def edits(self, path: Path, edits: Iterable[Edit]) -> list[types.TextEdit]:
        return [types.TextEdit(self.range(path, edit.span), edit.text) for edit in edits]

    # Checks.

    def check_soon(self, path: Path, *, at_once: bool = False) -> None:
        """Check the book of a file after a moment in which nothing more is typed."""
        folder = self.session.folder_of(path)
        if folder is None:
            folder = next((one for one, files in self.session._files.items() if path in files), None)
        if folder is None:
            return
        if folder in self.waiting:
            self.waiting[folder].cancel()
        self.waiting[folder] = asyncio.get_running_loop().create_task(self._check(folder, at_once=at_once))

    async def _check(self, folder: Path, *, at_once: bool) -> None:
        loop = asyncio.get_running_loop()
        await asyncio.sleep(0 if at_once else _PAUSE)
        asked = self.session.texts.n_changes
        found = await loop.run_in_executor(self.checks, self.session.diagnose, folder)
        if asked == self.session.texts.n_changes:
            self.publish(found)
        if not self.reads_data:
            return
        await asyncio.sleep(0 if at_once else _PAUSE_FOR_DATA)
        asked = self.session.texts.n_changes

        def go_on(_: int) -> None:
            if asked != self.session.texts.n_changes:
                raise _NoLongerAskedError

        try:
            found = await loop.run_in_executor(self.data_checks, self.session.diagnose_data, folder, go_on)
        except _NoLongerAskedError:
            return
        if asked == self.session.texts.n_changes:
            self.publish(found)

    def publish(self, found: dict[Path, list[Diagnosis]]) -> None:
        """Tell the editor what is to be shown of some files."""
        texts: dict[Path, Text] = {}
        for one in (one for held in found.values() for one in held):
            for path in (one.path, *(other[0] for other in one.others)):
                texts.setdefault(path, self.text_of(path))
        for path, held in found.items():
            made = [diagnostic_of(one, texts[path], texts, self.workspace.position_codec) for one in held]
            self.text_document_publish_diagnostics(types.PublishDiagnosticsParams(self.uri(path), made))

    def report_server_error(self, error: Exception, source: Any) -> None:
        """Write down what went wrong; an editor is not bothered with it."""
        if not isinstance(error, JsonRpcException):
            logging.getLogger(__name__).error("%s: %s", type(error).__name__, error)


def made_server(version: str, *, reads_data: bool = True) -> KivvetServer:
    """Return a server that answers all that it can."""
    server = KivvetServer(version, reads_data=reads_data)
    session = server.session

    @server.feature(types.TEXT_DOCUMENT_DID_OPEN)
    def opened(params: types.DidOpenTextDocumentParams) -> None:
        about = params.text_document
        path = path_of(about.uri)
        if path is None:
            return
        server.workspace.text_documents[unquote(about.uri)] = Document(
            about.uri,
            about.text,
            about.version,
            about.language_id,
            position_codec=server.workspace.position_codec,
        )
        server.uris[path] = about.uri
        session.texts.put(path, about.text)
        server.check_soon(path, at_once=True)

    @server.feature(types.TEXT_DOCUMENT_DID_CHANGE)
    def changed(params: types.DidChangeTextDocumentParams) -> None:
        path = path_of(params.text_document.uri)
        if path is not None:
            session.texts.put(path, server.workspace.get_text_document(params.text_document.uri).source)
            server.check_soon(path)

    @server.feature(types.TEXT_DOCUMENT_DID_SAVE)
    def saved(params: types.DidSaveTextDocumentParams) -> None:
        path = path_of(params.text_document.uri)
        if path is not None:
            if path in session.texts.opened:
                session.texts.put(path, session.texts.of(path).text)
            server.check_soon(path, at_once=True)

    @server.feature(types.TEXT_DOCUMENT_DID_CLOSE)
    def closed(params: types.DidCloseTextDocumentParams) -> None:
        path = path_of(params.text_document.uri)
        if path is not None:
            session.texts.close(path)
            server.check_soon(path, at_once=True)

    @server.feature(types.WORKSPACE_DID_CHANGE_WATCHED_FILES)
    def changed_on_disk(params: types.DidChangeWatchedFilesParams) -> None:
        for path in filter(None, (path_of(change.uri) for change in params.changes)):
            server.check_soon(path, at_once=True)

    @server.feature(types.TEXT_DOCUMENT_HOVER)
    def hover(params: types.HoverParams) -> types.Hover | None:
        path, offset = server.place(params.text_document.uri, params.position)
        told = hover_at(session.books, path, offset, session.seen_of(session.folder_of(path)))
        if told is None:
            return None
        content = types.MarkupContent(types.MarkupKind.Markdown, told.markdown)
        return types.Hover(content, server.range(path, told.span))

    @server.feature(
        types.TEXT_DOCUMENT_COMPLETION, types.CompletionOptions(trigger_characters=['"', ".", "=", " ", ","])
    )
    def completion(params: types.CompletionParams) -> types.CompletionList:
        path, offset = server.place(params.text_document.uri, params.position)
        items = [
            types.CompletionItem(
                label=completion.label,
                kind=COMPLETIONS[completion.kind],
                detail=completion.detail or None,
                sort_text=f"{number:04d}",
                filter_text=server.text_of(path).text[completion.span.start : offset] + completion.label
                if completion.text != completion.label
                else None,
                text_edit=types.TextEdit(server.range(path, completion.span), completion.text),
            )
            for number, completion in enumerate(completions_at(session.books, path, offset))
        ]
        return types.CompletionList(is_incomplete=False, items=items)

    @server.feature(
        types.TEXT_DOCUMENT_CODE_ACTION,
        types.CodeActionOptions(code_action_kinds=[types.CodeActionKind.QuickFix]),
    )
    def code_actions(params: types.CodeActionParams) -> list[types.CodeAction]:
        path, start = server.place(params.text_document.uri, params.range.start)
        _, end = server.place(params.text_document.uri, params.range.end)
        made = []
        preferred: set[int] = set()
        for fix in session.fixes(path, Span(start, end)):
            text = server.text_of(fix.diagnosis.path)
            shown = diagnostic_of(fix.diagnosis, text, {}, server.workspace.position_codec)
            changes = {server.uri(each): server.edits(each, edits) for each, edits in fix.edits.items()}
            is_first = fix.is_whole and id(fix.diagnosis) not in preferred
            preferred |= {id(fix.diagnosis)} if is_first else set()
            made.append(
                types.CodeAction(
                    title=fix.title,
                    kind=types.CodeActionKind.QuickFix,
                    diagnostics=[shown],
                    is_preferred=is_first or None,
                    edit=types.WorkspaceEdit(changes=changes),
                )
            )
        return made

    def locations(found: Sequence[Occurrence]) -> list[types.Location]:
        return [types.Location(server.uri(one.path), server.range(one.path, one.span)) for one in found]

    @server.feature(types.TEXT_DOCUMENT_DEFINITION)
    def definition(params: types.DefinitionParams) -> list[types.Location]:
        path, offset = server.place(params.text_document.uri, params.position)
        return locations(definitions_of(session.books, path, offset))

    @server.feature(types.TEXT_DOCUMENT_REFERENCES)
    def references(params: types.ReferenceParams) -> list[types.Location]:
        path, offset = server.place(params.text_document.uri, params.position)
        found, folder = entity_at(session.books, path, offset), session.folder_of(path)
        book = None if folder is None else session.books.read(folder)
        if found is None or book is None:
            return []
        named = occurrences(session.books, book, found[0])
        return locations(
            [one for one in named if params.context.include_declaration or not one.is_definition]
        )

    @server.feature(types.TEXT_DOCUMENT_PREPARE_RENAME)
    def prepare_rename(params: types.PrepareRenameParams) -> types.PrepareRenamePlaceholder | None:
        path, offset = server.place(params.text_document.uri, params.position)
        found = entity_at(session.books, path, offset)
        if found is None:
            return None
        return types.PrepareRenamePlaceholder(server.range(path, found[1]), found[0].word)

    @server.feature(types.TEXT_DOCUMENT_RENAME, types.RenameOptions(prepare_provider=True))
    def renamed(params: types.RenameParams) -> types.WorkspaceEdit:
        path, offset = server.place(params.text_document.uri, params.position)
        found, folder = entity_at(session.books, path, offset), session.folder_of(path)
        if found is None or folder is None:
            raise JsonRpcInvalidParams("nothing that has a name stands here")
        try:
            made = rename(session.books, folder, found[0], params.new_name)
        except RenameError as error:
            raise JsonRpcInvalidParams(str(error)) from error
        changes: list[Any] = [
            types.TextDocumentEdit(
                types.OptionalVersionedTextDocumentIdentifier(uri=server.uri(each)),
                list(server.edits(each, edits)),
            )
            for each, edits in made.edits.items()
        ]
        changes += [
            types.RenameFile(old_uri=server.uri(before), new_uri=after.as_uri())
            for before, after in made.moves.items()
        ]
        return types.WorkspaceEdit(document_changes=changes)

    @server.feature(types.TEXT_DOCUMENT_FOLDING_RANGE)
    def folding(params: types.FoldingRangeParams) -> list[types.FoldingRange]:
        path = path_of(params.text_document.uri)
        if path is None or path.suffix != ".toml":
            return []
        return [types.FoldingRange(first, last) for first, last in folds_of(server.text_of(path))]

    @server.feature(types.TEXT_DOCUMENT_DOCUMENT_SYMBOL)
    def outline(params: types.DocumentSymbolParams) -> list[types.DocumentSymbol]:
        path = path_of(params.text_document.uri)
        if path is None:
            return []
        file, text = session.books.file(path), server.text_of(path)
        return [
            symbol_of(one, text, server.workspace.position_codec)
            for one in outline_of(text, file.kind, path.stem)
        ]

    @server.feature(types.TEXT_DOCUMENT_FORMATTING)
    def formatting(params: types.DocumentFormattingParams) -> list[types.TextEdit]:
        path = path_of(params.text_document.uri)
        if path is None or session.books.file(path).kind not in ("table", "formulas"):
            return []
        return server.edits(path, aligned(server.text_of(path).text))

    @server.feature(types.SHUTDOWN)
    def shut_down(_: None) -> None:
        session.texts.clear()

    return server


def serve(version: str, *, reads_data: bool = True) -> None:
    """Speak the protocol on standard input and output until the editor ends it."""
    logging.basicConfig(stream=sys.stderr, level=logging.ERROR, format="%(message)s")
    logging.getLogger("pygls").setLevel(
        logging.CRITICAL
    )  # what is refused is told to the editor, not written down
    server = made_server(version, reads_data=reads_data)
    try:
        server.start_io()
    finally:
        server.session.texts.clear()
        server.checks.shutdown(wait=False, cancel_futures=True)
        server.data_checks.shutdown(wait=False, cancel_futures=True)


__all__ = ["KivvetServer", "made_server", "position_of", "serve"]
