"""Places and texts in the words of the Language Server Protocol."""

from __future__ import annotations

from pathlib import Path

from lsprotocol import types
from pygls.uris import to_fs_path
from pygls.workspace import PositionCodec, TextDocument

from kivvet.editor.diagnoses import Diagnosis
from kivvet.editor.layout import Symbol
from kivvet.editor.texts import Span, Text

_SEVERITIES = {
    "error": types.DiagnosticSeverity.Error,
    "warning": types.DiagnosticSeverity.Warning,
    "note": types.DiagnosticSeverity.Information,
}
SYMBOLS = {
    "table": types.SymbolKind.Class,
    "input": types.SymbolKind.Field,
    "output": types.SymbolKind.Property,
    "row": types.SymbolKind.Struct,
    "formula": types.SymbolKind.Function,
    "dataset": types.SymbolKind.Module,
    "part": types.SymbolKind.Object,
}
COMPLETIONS = {
    "keyword": types.CompletionItemKind.Keyword,
    "table": types.CompletionItemKind.Class,
    "formula": types.CompletionItemKind.Function,
    "dataset": types.CompletionItemKind.Module,
    "column": types.CompletionItemKind.Field,
    "class": types.CompletionItemKind.EnumMember,
    "value": types.CompletionItemKind.Value,
    "function": types.CompletionItemKind.Function,
    "file": types.CompletionItemKind.File,
}


def path_of(uri: str) -> Path | None:
    """Return the file of a URI; None where it is none on disk."""
    if not uri.startswith("file:"):
        return None
    said = to_fs_path(uri)
    try:
        return None if not said else Path(said).resolve()
    except (OSError, ValueError):
        return None


def offset_of(text: Text, position: types.Position, codec: PositionCodec) -> int:
    """Return the place of a position, whose characters are counted as the editor does."""
    span = text.line_span(position.line)
    units = 0
    for at in range(span.start, span.end):
        if units >= position.character:
            return at
        units += codec.client_num_units(text.text[at])
    return span.end


def position_of(text: Text, offset: int, codec: PositionCodec) -> types.Position:
    """Return the position of a place."""
    line, _ = text.position(min(offset, len(text.text)))
    start = text.line_starts[line]
    return types.Position(
        line, codec.client_num_units(text.text[start : min(offset, text.line_span(line).end)])
    )


def range_of(text: Text, span: Span, codec: PositionCodec) -> types.Range:
    """Return the range of a stretch."""
    if span.end <= text.line_span(text.position(span.start)[0]).end:
        return types.Range(position_of(text, span.start, codec), position_of(text, span.end, codec))
    end_line, at = text.position(span.end)
    end = types.Position(end_line, 0) if at == 0 else position_of(text, span.end, codec)
    return types.Range(position_of(text, span.start, codec), end)


def diagnostic_of(
    one: Diagnosis, text: Text, texts_of: dict[Path, Text], codec: PositionCodec
) -> types.Diagnostic:
    """Return a diagnosis; what is past is faded."""
    found = one.finding
    others = [
        types.DiagnosticRelatedInformation(
            types.Location(path.as_uri(), range_of(texts_of[path], span, codec)), said
        )
        for path, span, said in one.others
        if path in texts_of
    ]
    return types.Diagnostic(
        range=range_of(text, one.span, codec),
        message=one.message,
        severity=types.DiagnosticSeverity.Hint if one.is_past else _SEVERITIES[found.severity],
        code=found.kind,
        source="kivvet",
        tags=[types.DiagnosticTag.Unnecessary] if one.is_past else None,
        related_information=others or None,
    )


def symbol_of(one: Symbol, text: Text, codec: PositionCodec) -> types.DocumentSymbol:
    """Return a part of an outline."""
    return types.DocumentSymbol(
        name=one.name or "?",
        kind=SYMBOLS[one.kind],
        range=range_of(text, one.span, codec),
        selection_range=range_of(text, one.named_at, codec),
        detail=one.detail or None,
        children=[symbol_of(each, text, codec) for each in one.parts] or None,
    )


class Document(TextDocument):
    """A document whose lines end where the protocol says, and nowhere else."""

    @property
    def lines(self) -> tuple[str, ...]:
        text = Text(self.source)
        ends = [*text.line_starts[1:], len(text.text)]
        return tuple(text.text[start:end] for start, end in zip(text.line_starts, ends, strict=True))

    def _apply_incremental_change(self, change: types.TextDocumentContentChangePartial) -> None:
        text = Text(self.source)
        start = offset_of(text, change.range.start, self.position_codec)
        end = max(start, offset_of(text, change.range.end, self.position_codec))
        self._source = text.text[:start] + change.text + text.text[end:]
