"""Workbooks that are none, are broken, or were made to do harm: each is refused in words, and takes neither time nor memory."""

import io
import zipfile

import pytest

from kivvet.core.words.errors import DataError
from tests.workbooks import edited_parts, grid, read, with_xlsxwriter

SHEET, BOOK = "xl/worksheets/sheet1.xml", "xl/workbook.xml"
FAR = b'<row r="1048576"><c r="XFD1048576"><v>1</v></c></row></sheetData>'
ODS_CELL = (
    b'<table:table-row table:number-rows-repeated="%b"><table:table-cell table:number-columns-repeated="%b" '
    b'office:value-type="float" office:value="1"><text:p>1</text:p></table:table-cell></table:table-row>'
)
ODS = (
    b'<?xml version="1.0"?>%b<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" '
    b'xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0">'
    b'<office:body><office:spreadsheet><table:table table:name="S">%b</table:table></office:spreadsheet></office:body>'
    b"</office:document-content>"
)
MANIFEST = b'<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0">%b</manifest:manifest>'


def plain(path):
    return with_xlsxwriter(path, {"S": grid(1, 1, [["a", "b"], [1, "x"]])})


def ods(path, content, manifest=b""):
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as package:
        package.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        package.writestr("META-INF/manifest.xml", MANIFEST % manifest)
        package.writestr("content.xml", content)
    return path


def with_sheet(change):
    return lambda path: edited_parts(plain(path), {SHEET: change})


def far(cell):
    return with_sheet(lambda text: text.replace(b"</sheetData>", FAR.replace(b'<c r="XFD1048576">', cell)))


def raw(content):
    def write(path):
        path.write_bytes(content)
        return path

    return write


def only_part(content):
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as package:
        package.writestr("a.txt", content)
    return buffer.getvalue()


OLD_FORM = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"
HOSTILE = {
    "empty.xlsx": (raw(b""), "the file is empty"),
    "text.xlsx": (raw(b"a,b\n1,2\n"), r"is no workbook, but text[\s\S]*such as text.csv"),
    "page.xls": (raw(b"<html><table>"), "is no workbook, but text"),
    "locked.xlsx": (raw(OLD_FORM + b"\0" * 600 + "EncryptedPackage".encode("utf-16-le")), "is protected by a password"),
    "older.xlsx": (raw(OLD_FORM + b"\0" * 900), "holds a workbook of the older form"),
    "torn.xls": (raw(OLD_FORM + bytes(range(256)) * 9), "is no workbook, or is damaged"),
    "junk.xlsx": (raw(b"PK\x03\x04" + b"\0" * 99), "is no workbook, or is damaged"),
    "cut.xlsx": (lambda path: raw(plain(path).read_bytes()[:-200])(path), "is no workbook, or is damaged"),
    "half.xlsx": (with_sheet(lambda text: text[: len(text) // 2]), "is no workbook, or is damaged"),
    "entity.xlsx": (
        lambda path: edited_parts(plain(path), {BOOK: lambda text: text.replace(b"<workbook", b'<!DOCTYPE a [<!ENTITY b "c">]><workbook', 1)}),
        "declares entities",
    ),
    "bomb.xlsx": (with_sheet(lambda text: text + b" " * (80 << 20)), r"unpacks to 80 MB[\s\S]*at most 4,096 MB"),
    "far.xlsx": (far(b'<c r="XFD1048576">'), "17,179,869,184 cells"),
    "far_tab.xlsx": (far(b'<c\tr="XFD1048576">'), "17,179,869,184 cells"),
    "far_single.xlsx": (far(b"<c r='XFD1048576'>"), "17,179,869,184 cells"),
    "far_later.xlsx": (far(b'<c s="0" r="XFD1048576">'), "17,179,869,184 cells"),
    "names.xlsx": (raw(only_part(b"x")), "is no workbook, or is damaged"),
    "repeated.ods": (lambda path: ods(path, ODS % (b"", ODS_CELL % (b"1000000", b"16000"))), "16,000,000,000 cells"),
    "repeated_oddly.ods": (lambda path: ods(path, ODS % (b"", ODS_CELL % (b"x", b"2"))), "is no workbook, or is damaged"),
    "entity.ods": (lambda path: ods(path, ODS % (b'<!DOCTYPE a [<!ENTITY b "c">]>', b"")), "declares entities"),
    "locked.ods": (lambda path: ods(path, ODS % (b"", b""), b"<manifest:encryption-data/>"), "is protected by a password"),
    "nothing.xlsx": (lambda path: with_xlsxwriter(path, {"S": {}}), "the sheet holds nothing"),
}  # fmt: skip


@pytest.mark.parametrize("name", HOSTILE)
def test_it_is_refused_in_words(tmp_path, run, name):
    write, said = HOSTILE[name]
    path = write(tmp_path / name)
    with pytest.raises(DataError, match=said):
        read(path)
    ran = run("look", name, cwd=tmp_path)
    assert ran.code in (1, 2)
    assert ran.err


def test_there_is_no_such_file(tmp_path):
    with pytest.raises(DataError, match="there is no such file"):
        read(tmp_path / "none.xlsx")


def test_elements_with_a_prefix_and_cells_without_a_place_are_read(tmp_path):
    def prefixed(text):
        text = text.replace(b'xmlns="http', b'xmlns:x="http', 1)
        for name in (
            b"worksheet",
            b"sheetData",
            b"row",
            b"c",
            b"v",
            b"dimension",
            b"sheetViews",
            b"sheetView",
            b"sheetFormatPr",
            b"pageMargins",
        ):
            for sign in (b" ", b">", b"/>"):
                text = text.replace(b"<" + name + sign, b"<x:" + name + sign)
            text = text.replace(b"</" + name + b">", b"</x:" + name + b">")
        return text.replace(b'<x:c r="B2" t="s">', b'<x:c r="B2" t="e">').replace(
            b"<x:v>2</x:v>", b"<x:v>#N/A</x:v>"
        )

    path = edited_parts(plain(tmp_path / "prefixed.xlsx"), {SHEET: prefixed})
    assert read(path)[1] == [{"a": 1, "b": "#N/A"}]
    bare = edited_parts(
        plain(tmp_path / "bare.xlsx"),
        {SHEET: lambda text: text.replace(b' r="A2"', b"").replace(b' r="B2"', b"")},
    )
    assert read(bare)[1] == [{"a": 1, "b": "x"}]


def test_programs_and_links_in_a_workbook_are_told_and_left(tmp_path):
    path = edited_parts(
        plain(tmp_path / "programs.xlsm"),
        {},
        {"xl/vbaProject.bin": b"x", "xl/externalLinks/externalLink1.xml": b"<x/>"},
    )
    said = [note.message for note in read(path)[0].notes]
    assert said == [
        "the workbook holds programs (macros), which are not run",
        "the workbook takes values from other files: they are read as it was last saved",
    ]
