"""Files of CSV described in the form of the W3C's CSV on the Web: what is said of a file that was written reads the same values back,
and what others say is followed, or told.
"""

import json

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import kivvet
from kivvet.core.columns.field_form import FieldForm
from kivvet.io.csv_metadata import datatype, metadata_beside
from tests.conftest import write_book

TABLE = """inputs.x = "number"
outputs.band = "text"
rows = [["< 1.5", "low"], ["1.5 to < 3", "a|b"], [">= 3", "high (very)"]]
missing = { band = "low" }
"""
SITES = "site;since;deep;name\n0007;01.02.2024;1.234,5;Ada\n0042;31.12.2025;-;Bo\n"
SITE = """lookup = "sites.csv"
delimiter = ";"
decimal = ","
thousands = "."
missing_words = { deep = ["-"] }
types = { since = { type = "date", pattern = "%d.%m.%Y" } }
inputs = { site = "text", since = { type = "date" } }
outputs = { deep = "number" }
"""
DATA = {
    "plain": ("id,x,day,ok,n\n1,0.5,2026-01-02,true,7\n2,,2026-02-03,false,\n3,4,,,8\n", ""),
    "forms": (
        "id;x;day;ok;n\na;1.234,5;02.01.2026;ja;-9\nb;-9;03.02.2026;nein;12\nc;0,25;;;12\n",
        (
            'delimiter = ";"\ndecimal = ","\nthousands = "."\nmissing_words = ["-9"]\n'
            'types = { day = { type = "date", pattern = "%d.%m.%Y" }, ok = { type = "boolean", true = ["ja"], false = ["nein"] } }\n'
        ),
    ),
    "times": (
        'id,x,day,ok,n\n"a, b",1,2026-01-02T03:04,n/a,1\nc,2,2026-01-02T03:04:05,y,2\n',
        'types = { day = "datetime", ok = { type = "boolean", true = ["y"], false = ["n"] } }\nmissing_words = { ok = ["n/a"] }\n',
    ),
    "keyed": (
        "id,x,day,ok,n\n007,1,,,1\n008,2,,,2\n",
        'types = { id = "text", day = "date" }\nkey = ["id"]\n',
    ),
}
WRITTEN = {
    "as named": "",
    "semicolons": 'written_as = { delimiter = ";", decimal = ",", dates = "%d/%m/%Y", times = "%Y-%m-%d %H:%M:%S" }\n',
    "bytes": 'written_as = { encoding = "utf-16" }\n',
}


def book_of(folder, how):
    text, options = DATA[how]
    dataset = f'source = "d.csv"\n{options}columns = ["band", "next_day", "half"]\n'
    return write_book(
        folder,
        {
            "d.csv": text,
            "tables/band.toml": TABLE,
            "tables/site.toml": SITE,
            "tables/sites.csv": SITES,
            "formulas.toml": 'half = "x / 2"\nnext_day = "day"\n',
            "book.toml": f'[datasets.typed]\n{dataset}target = "out/typed.parquet"\n'
            + "".join(
                f'[datasets."{name}"]\n{dataset}target = "out/{name}.csv"\n{written}'
                for name, written in WRITTEN.items()
            ),
        },
    )


@pytest.mark.parametrize("how", DATA)
def test_what_is_described_reads_as_the_values_that_were_written(tmp_path, how):
    folder = book_of(tmp_path, how)
    book = kivvet.open_book(folder)
    for name in book.datasets:
        book.apply_dataset(name)
    typed = pq.read_table(folder / "out/typed.parquet")
    for name in WRITTEN:
        book.describe([name]).save(folder / f"out/{name}.csv-metadata.json")
        added = book.add(f"again {name}", folder / f"out/{name}.csv")
        assert f"{name}.csv-metadata.json" in added.remarks[0]
        again = kivvet.open_book(folder)
        again.apply_dataset(f"again {name}")
        read = pq.read_table(folder / f"out/again {name}.parquet")
        assert read.column_names == typed.column_names
        for column in typed.column_names:
            kinds = [read.schema.field(column).type, typed.schema.field(column).type]
            kind = kinds[1].value_type if pa.types.is_dictionary(kinds[1]) else kinds[1]
            assert (
                read.column(column).cast(kind).to_pylist() == typed.column(column).cast(kind).to_pylist()
            ), (
                name,
                column,
            )
        assert again.datasets[f"again {name}"].key == book.datasets["typed"].key


def test_a_lookup_is_described_with_all_its_columns_and_its_key(tmp_path):
    folder = book_of(tmp_path, "plain")
    book = kivvet.open_book(folder)
    book.describe(["site", "as named"]).save(folder / "all.json")
    made = json.loads((folder / "all.json").read_text())
    assert [one["url"] for one in made["tables"]] == ["tables/sites.csv", "out/as named.csv"]
    schema = made["tables"][0]["tableSchema"]
    assert made["tables"][0]["dialect"] == {"delimiter": ";"}
    assert schema["primaryKey"] == ["site", "since"]
    assert schema["columns"] == [
        {"name": "site", "titles": "site", "datatype": "string"},
        {"name": "since", "titles": "since", "datatype": {"base": "date", "format": "dd.MM.yyyy"}},
        {
            "name": "deep",
            "titles": "deep",
            "datatype": {"base": "double", "format": {"decimalChar": ",", "groupChar": "."}},
            "null": ["", "-"],
        },
        {"name": "name", "titles": "name", "datatype": "string"},
    ]
    band = made["tables"][1]["tableSchema"]["columns"][-3]
    assert band["datatype"] == {"base": "string", "format": r"low|a\|b|high\ \(very\)"}


@pytest.mark.parametrize(
    ("name", "said"),
    [
        ("typed", "dataset typed is not written as CSV"),
        ("band", "table band looks nothing up in a file of CSV"),
        ("bandd", "there is no dataset and no table 'bandd'"),
    ],
)
def test_what_needs_no_description_says_so(tmp_path, name, said, run):
    folder = book_of(tmp_path, "plain")
    ran = run("export", "x.json", name, cwd=folder)
    assert ran.code == 2
    assert said in ran.err
    assert not (folder / "x.json").exists()
    ran = run("export", "book.toml.json", "as named", cwd=folder)
    assert ran.code == 0
    assert "out/as named.csv: 8 columns" in " ".join(ran.out.split())
    (folder / "other.json").write_text("{}")
    ran = run("export", "other.json", "as named", cwd=folder)
    assert ran.code == 2
    assert "is no description of CSV that Kivvet made" in ran.err


@pytest.mark.parametrize(
    ("form", "kind", "expected"),
    [
        (FieldForm(unit="mg"), "number", "string"),
        (FieldForm(is_share=True), "number", "string"),
        (FieldForm(true_words=("a", "b"), false_words=("c",)), "boolean", "string"),
        (FieldForm(pattern="%d %B %Y"), "date", "string"),
        (FieldForm(pattern="%d.%m.%Y"), "date", {"base": "date", "format": "dd.MM.yyyy"}),
        (FieldForm(is_zoned=True), "datetime", "dateTimeStamp"),
        (FieldForm(), "decimal", "decimal"),
        (FieldForm(), "integer", "integer"),
    ],
)
def test_forms_that_the_standard_cannot_say_are_texts(form, kind, expected):
    assert datatype(kind, form) == expected


def metadata(columns, **others):
    return json.dumps(
        {
            "@context": "http://www.w3.org/ns/csvw",
            "url": "d.csv",
            "tableSchema": {"columns": columns},
            **others,
        }
    )


READ = {
    "types of all kinds": (
        metadata(
            [
                {"titles": "a", "datatype": "nonNegativeInteger"},
                {"titles": {"en": ["b"]}, "datatype": {"base": "decimal", "format": {"decimalChar": ","}}},
                {"name": "c", "datatype": {"base": "date", "format": "d.M.yyyy"}, "null": ["-", "NA"]},
                {"virtual": True, "propertyUrl": "x"},
            ],
            dialect={"delimiter": ";"},
        ),
        "a;b;c\n1;2,5;3.4.2026\n2;3;NA\n",
        {"a": "integer", "b": "number", "c": "date"},
        (),
    ),
    "a format nobody reads": (
        metadata([{"titles": "a", "datatype": {"base": "date", "format": "QQ yy"}}]),
        "a\nQ1 26\n",
        {"a": "text"},
        ("column a: the format 'QQ yy' is not read",),
    ),
    "other columns": (
        metadata([{"titles": "a", "datatype": "integer"}, {"titles": "z", "datatype": "integer"}]),
        "a,b\n1,2\n",
        {"a": "integer"},
        ("describes z, which the file does not have", "says nothing of b"),
    ),
    "no headings": (
        metadata([{"name": "a", "datatype": "integer"}, {"name": "b"}], dialect={"header": False}),
        "1,x\n2,y\n",
        {"a": "integer", "b": "text"},
        (),
    ),
    "shapes that make no sense": (
        metadata(7, dialect=[1], notes={"x": 1}),
        "a,b\n1,2\n",
        {},
        ("says nothing of a, b",),
    ),
    "columns of nothing": (
        metadata([None, 4, {"titles": [], "datatype": ["x"]}, {"titles": "a", "null": 7}], primaryKey=3),
        "a,b\n1,2\n",
        {"a": "text"},
        ("describes",),
    ),
}


@pytest.mark.parametrize("case", READ)
def test_what_others_describe_is_followed_or_told(tmp_path, case):
    text, data, types, remarks = READ[case]
    (tmp_path / "d.csv").write_text(data)
    (tmp_path / "d.csv-metadata.json").write_text(text)
    folder = write_book(tmp_path / "book", {})
    added = kivvet.open_book(folder).add("d", tmp_path / "d.csv")
    dataset = kivvet.open_book(folder).datasets["d"]
    assert dict(dataset.types) == types
    said = "\n".join(added.remarks)
    for remark in remarks:
        assert remark in said
    kivvet.open_book(folder).apply_dataset("d")
    assert pq.read_table(folder / "out/d.parquet").num_rows == 2 - (
        case in ("a format nobody reads", "other columns", "shapes that make no sense", "columns of nothing")
    )
    assert kivvet.open_book(folder).look(tmp_path / "d.csv").read_as.by == "d.csv-metadata.json"


@pytest.mark.parametrize(
    "text",
    ["", "[1]", "{", "[" * 100_000, "\udcff", '"x"', '{"a": ' * 5_000],
    ids=["empty", "list", "cut", "deep", "bytes", "text", "nested"],
)
def test_a_description_that_is_none_is_an_error_that_names_it(tmp_path, text, run):
    (tmp_path / "d.csv").write_text("a\n1\n")
    (tmp_path / "d.csv-metadata.json").write_bytes(text.encode("utf-8", "surrogateescape"))
    ran = run("look", "d.csv", cwd=tmp_path)
    assert ran.code == 1
    assert "d.csv-metadata.json" in ran.err
    assert "take it away" in ran.err
    assert "Traceback" not in ran.err


def test_a_description_of_the_folder_is_only_of_the_files_it_names(tmp_path):
    (tmp_path / "csv-metadata.json").write_text(metadata([{"titles": "a"}]))
    assert metadata_beside(tmp_path / "other.csv") is None
    assert metadata_beside(tmp_path / "d.csv").fields.types == {"a": "text"}
