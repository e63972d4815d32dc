"""The language server over its real protocol: a client that behaves, one that does not, and a terminal editor."""

from __future__ import annotations

import asyncio
import json
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from lsprotocol import types
from pygls.exceptions import JsonRpcException
from pygls.lsp.client import LanguageClient

import kivvet
from tests.conftest import write_book

SERVE = [sys.executable, "-m", "kivvet", "serve"]
ROOT = Path(__file__).parent.parent


class Editor:
    """A client that keeps what it is told."""

    def __init__(self):
        self.client = LanguageClient("test", "1")
        self.told = {}
        self.news = asyncio.Event()

        @self.client.feature(types.TEXT_DOCUMENT_PUBLISH_DIAGNOSTICS)
        def published(params):
            self.told[params.uri] = params.diagnostics
            self.news.set()

    async def start(self, folder, *options, encodings=None):
        await self.client.start_io(*SERVE, *options)
        general = types.GeneralClientCapabilities(position_encodings=encodings)
        made = await self.client.initialize_async(
            types.InitializeParams(types.ClientCapabilities(general=general), root_uri=folder.as_uri())
        )
        self.client.initialized(types.InitializedParams())
        return made

    def open(self, path, text=None):
        held = path.read_text(encoding="utf-8") if text is None else text
        item = types.TextDocumentItem(path.as_uri(), "toml", 1, held)
        self.client.text_document_did_open(types.DidOpenTextDocumentParams(item))

    def type(self, path, edits):
        about = types.VersionedTextDocumentIdentifier(version=2, uri=path.as_uri())
        changes = [
            types.TextDocumentContentChangePartial(range=one.range, text=one.new_text) for one in edits
        ]
        self.client.text_document_did_change(types.DidChangeTextDocumentParams(about, changes))

    def whole(self, path, text):
        about = types.VersionedTextDocumentIdentifier(version=3, uri=path.as_uri())
        change = types.TextDocumentContentChangeWholeDocument(text)
        self.client.text_document_did_change(types.DidChangeTextDocumentParams(about, [change]))

    async def until(self, path, wanted):
        """Wait until what is told of a file is as wanted, and return it."""
        while not wanted(self.told.get(path.as_uri(), ())):
            self.news.clear()
            await asyncio.wait_for(self.news.wait(), 60)
        return self.told[path.as_uri()]

    async def stop(self):
        await self.client.shutdown_async(None)
        self.client.exit(None)
        process = self.client._server
        await asyncio.wait_for(process.wait(), 30)
        return process.returncode, (await process.stderr.read()).decode()


def run_with_editor(work):
    async def all_of_it():
        editor = Editor()
        try:
            return await asyncio.wait_for(work(editor), 120)
        finally:
            if editor.client._server is not None and editor.client._server.returncode is None:
                editor.client._server.kill()

    return asyncio.run(all_of_it())


def about(path):
    return types.TextDocumentIdentifier(path.as_uri())


def kinds(diagnostics):
    return [one.code for one in diagnostics]


def test_a_gap_is_told_where_it_stands_and_mended_by_a_quick_fix(survey):
    path = survey / "tables/nitrate_band.toml"

    async def work(editor):
        await editor.start(survey)
        editor.open(path)
        told = await editor.until(path, lambda found: "gap" in kinds(found))
        gap = next(one for one in told if one.code == "gap")
        assert (gap.range.start, gap.range.end) == (types.Position(6, 2), types.Position(6, 26))
        assert (
            gap.related_information[0].message == "row 3" and gap.severity == types.DiagnosticSeverity.Error
        )
        actions = await editor.client.text_document_code_action_async(
            types.CodeActionParams(about(path), gap.range, types.CodeActionContext([gap]))
        )
        assert actions[0].is_preferred and actions[0].title == "add the row >24 to <25: high"
        editor.type(path, actions[0].edit.changes[path.as_uri()])
        await editor.until(path, lambda found: not any(">24 to <25" in one.message for one in found))
        hover = await editor.client.text_document_hover_async(
            types.HoverParams(about(path), types.Position(6, 5))
        )
        assert "10 or more, and at most 24" in hover.contents.value
        completion = await editor.client.text_document_completion_async(
            types.CompletionParams(about(path), types.Position(6, 20))
        )
        assert [one.label for one in completion.items[:4]] == ["low", "moderate", "high", "very high"]
        return await editor.stop()

    assert run_with_editor(work) == (0, "")


def test_uses_are_found_and_names_changed_in_all_files(survey):
    path, book = survey / "tables/ph_class.toml", survey / "book.toml"

    async def work(editor):
        await editor.start(survey, "--no-data")
        editor.open(path)
        client = editor.client
        at = types.Position(7, 19)  # in "acidic"
        found = await client.text_document_references_async(
            types.ReferenceParams(types.ReferenceContext(include_declaration=True), about(path), at)
        )
        assert {Path(one.uri).name for one in found} == {"ph_class.toml", "visit.toml"}
        defined = await client.text_document_definition_async(types.DefinitionParams(about(path), at))
        assert [Path(one.uri).name for one in defined] == ["ph_class.toml"]
        asked = await client.text_document_prepare_rename_async(types.PrepareRenameParams(about(path), at))
        assert asked.placeholder == "acidic"
        made = await client.text_document_rename_async(types.RenameParams(about(path), at, "sour"))
        assert {Path(one.text_document.uri).name for one in made.document_changes} == {
            "ph_class.toml",
            "visit.toml",
        }
        with pytest.raises(JsonRpcException, match="there is a class 'neutral' already"):
            await client.text_document_rename_async(types.RenameParams(about(path), at, "neutral"))
        with pytest.raises(JsonRpcException, match="nothing that has a name"):
            await client.text_document_rename_async(
                types.RenameParams(about(path), types.Position(6, 0), "x")
            )
        moved = await client.text_document_rename_async(
            types.RenameParams(about(book), types.Position(13, 5), "acidity")
        )
        assert isinstance(moved.document_changes[-1], types.RenameFile)
        folds = await client.text_document_folding_range_async(types.FoldingRangeParams(about(path)))
        outline = await client.text_document_document_symbol_async(types.DocumentSymbolParams(about(path)))
        options = types.FormattingOptions(tab_size=2, insert_spaces=True)
        edits = await client.text_document_formatting_async(
            types.DocumentFormattingParams(about(path), options)
        )
        assert folds and len(outline[0].children) == 5 and not edits
        return await editor.stop()

    assert run_with_editor(work) == (0, "")


@pytest.mark.parametrize("encoding", ["utf-8", "utf-16", "utf-32"])
def test_positions_are_in_the_units_that_were_agreed_on(tmp_path, encoding):
    text = 'inputs.x = "text"\noutputs.y = "text"\nrows = [["😋é", "a"], ["😋é", "b"]]  # \u2028 \x85\n'
    folder = write_book(tmp_path / "book", {"tables/fun.toml": text}).resolve()
    path = folder / "tables/fun.toml"
    line = text.split("\n")[2]

    def units(part):
        size = {"utf-8": 1, "utf-16": 2, "utf-32": 4}[encoding]
        return (
            len(part.encode({"utf-8": "utf-8", "utf-16": "utf-16-le", "utf-32": "utf-32-le"}[encoding]))
            // size
        )

    async def work(editor):
        made = await editor.start(folder, "--no-data", encodings=[encoding])
        assert made.capabilities.position_encoding == encoding
        editor.open(path)
        told = await editor.until(path, lambda found: "conflict" in kinds(found))
        conflict = next(one for one in told if one.code == "conflict")
        second = line.index('["😋', line.index("], ["))
        assert conflict.range.start == types.Position(2, units(line[:second]))
        assert conflict.range.end == types.Position(2, units(line[: line.index("]]") + 1]))
        start = types.Position(2, units(line[: line.index('"b"') + 1]))
        end = types.Position(2, start.character + 1)
        editor.type(path, [types.TextEdit(types.Range(start, end), "a")])
        await editor.until(path, lambda found: "conflict" not in kinds(found) and "duplicate" in kinds(found))
        return await editor.stop()

    assert run_with_editor(work) == (0, "")


def test_files_outside_a_book_books_that_go_and_nonsense_disturb_nobody(survey, tmp_path):
    path, alone = survey / "tables/nitrate_band.toml", tmp_path / "alone.toml"
    alone.write_text("rows = [", encoding="utf-8")

    async def work(editor):
        await editor.start(survey, "--no-data")
        client = editor.client
        editor.open(alone)
        item = types.TextDocumentItem("untitled:Untitled-1", "toml", 1, "x = [")
        client.text_document_did_open(types.DidOpenTextDocumentParams(item))
        for where in (about(alone), types.TextDocumentIdentifier("file:///no/such/file.toml")):
            assert (
                await client.text_document_hover_async(types.HoverParams(where, types.Position(99, 99)))
                is None
            )
            found = await client.text_document_completion_async(
                types.CompletionParams(where, types.Position(0, 1))
            )
            assert not found.items
        with pytest.raises(JsonRpcException):
            await client.text_document_hover_async(
                types.HoverParams(types.TextDocumentIdentifier("untitled:Untitled-1"), types.Position(0, 0))
            )
        client.protocol.send_request("textDocument/hover", {"nonsense": True})
        with pytest.raises(JsonRpcException):
            await client.protocol.send_request_async("kivvet/nothing", None)
        editor.open(path)
        await editor.until(path, lambda found: "gap" in kinds(found))
        editor.whole(path, "inputs.nitrate = {")
        told = await editor.until(path, lambda found: "syntax" in kinds(found))
        faded = [one for one in told if one.tags == [types.DiagnosticTag.Unnecessary]]
        assert all(one.severity == types.DiagnosticSeverity.Hint for one in faded)
        shutil.rmtree(survey)
        client.text_document_did_close(types.DidCloseTextDocumentParams(about(path)))
        await editor.until(path, lambda found: not found)
        return await editor.stop()

    assert run_with_editor(work) == (0, "")


def framed(*messages):
    bodies = [one if isinstance(one, bytes) else json.dumps(one).encode() for one in messages]
    return b"".join(b"Content-Length: %d\r\n\r\n%s" % (len(one), one) for one in bodies)


@pytest.mark.parametrize(
    "sent",
    [
        b"",
        b"hello\r\n\r\n",
        framed(b"{not json"),
        framed({"jsonrpc": "2.0", "method": "textDocument/didChange", "params": 7}),
        framed({"jsonrpc": "2.0", "id": 1, "method": "initialize", "params": {"capabilities": {}}}, b"[]"),
        b"Content-Length: 99999\r\n\r\n{",
    ],
)
def test_a_client_that_sends_nonsense_or_dies_leaves_no_server_behind(sent):
    done = subprocess.run(SERVE, input=sent, capture_output=True, timeout=60, check=False)
    assert b"Traceback" not in done.stderr and done.returncode in (0, 1), done.stderr


def test_it_says_what_it_is_for(run, tmp_path, monkeypatch):
    assert "Language Server Protocol" in run("serve", "--help", cwd=tmp_path).out
    monkeypatch.setitem(sys.modules, "pygls.lsp.server", None)
    monkeypatch.delitem(sys.modules, "kivvet.editor.server", raising=False)
    with pytest.raises(kivvet.BookError, match=r"kivvet\[editor\]"):
        __import__("kivvet.editor", fromlist=["serve"]).serve("1")


SCRIPT = """
vim.cmd('luafile ' .. vim.env.SETUP)
vim.cmd('edit tables/nitrate_band.toml')
local function gaps()
  return vim.tbl_filter(function(one) return one.code == 'gap' end, vim.diagnostic.get(0))
end
assert(vim.wait(60000, function() return #gaps() == 2 end, 50), 'no gaps are shown')
local gap = gaps()[1]
vim.api.nvim_win_set_cursor(0, { gap.lnum + 1, gap.col })
local asked = vim.lsp.util.make_range_params()
asked.context = { diagnostics = {} }
local _, answer = next(vim.lsp.buf_request_sync(0, 'textDocument/codeAction', asked, 20000))
local action = answer.result[1]
vim.lsp.util.apply_workspace_edit(action.edit, 'utf-16')
vim.cmd('silent write')
assert(vim.wait(60000, function() return #gaps() == 1 end, 50), 'the gap is still there')
io.stdout:write('mended by: ' .. action.title)
vim.cmd('quitall!')
"""


@pytest.mark.skipif(shutil.which("nvim") is None, reason="Neovim is not installed")
def test_a_terminal_editor_shows_the_gaps_of_the_demo_and_mends_one(survey, tmp_path, monkeypatch):
    script = tmp_path / "script.lua"
    script.write_text(SCRIPT, encoding="utf-8")
    bin_folder = tmp_path / "bin"
    bin_folder.mkdir()
    (bin_folder / "kivvet").write_text(
        f'#!/bin/sh\nexec "{sys.executable}" -m kivvet "$@"\n', encoding="utf-8"
    )
    (bin_folder / "kivvet").chmod(0o755)
    monkeypatch.setenv("PATH", f"{bin_folder}:/usr/bin:/bin")
    monkeypatch.setenv("SETUP", str(ROOT / "examples/editors/neovim.lua"))
    before = len(kivvet.open_book(survey).check(["nitrate_band"], data=False).of_kind("gap"))
    done = subprocess.run(
        ["nvim", "--headless", "-u", "NONE", "-n", "-c", f"luafile {script}", "-c", "cquit"],
        cwd=survey, capture_output=True, text=True, timeout=150, check=False,
    )  # fmt: skip
    assert "mended by: add the row >24 to <25: high" in done.stdout, done.stdout + done.stderr
    after = kivvet.open_book(survey).check(["nitrate_band"], data=False).of_kind("gap")
    assert (before, len(after)) == (2, 1)
