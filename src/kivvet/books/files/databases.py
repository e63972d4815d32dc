"""The databases that a book names under ``[databases.NAME]``, and what a source, target or lookup says of a place in one."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from kivvet.core.read.file_keywords import PLACE_KEYWORDS, WRITTEN_PLACE_KEYWORDS
from kivvet.core.read.forms import FILLED, Keywords, options_of
from kivvet.core.read.options import Options, toml_text
from kivvet.core.words.errors import DataError
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import did_you_mean, listed
from kivvet.io.databases.places import DATABASE_ENDINGS, Database, InDatabase
from kivvet.io.stores.store import is_url, url_fault

_KEYWORDS: Keywords = {
    "path": FILLED.says("the file of the database"),
    "url_from": FILLED.says("the environment variable that holds its URL"),
    "url": FILLED.says("its URL, without a password"),
}
#: Of a ``[databases.NAME]``.
DATABASE_FORM = options_of(_KEYWORDS, one_of_these=_KEYWORDS)
_EXAMPLE = 'for example [databases.survey]  url_from = "SURVEY_DB"'


def read_databases(options: Options, folder: Path) -> tuple[dict[str, Database], list[Finding]]:
    """Return the databases of a book by name, and what is to be said of them; what is wrong is told to `options`."""
    given = options.by_name("databases", "databases are headings with a name each", _EXAMPLE)
    found: dict[str, Database] = {}
    said: list[Finding] = []
    for name, values in given.items():
        at = ("databases", name)
        if not isinstance(values, Mapping):
            options.faults.add(f"a database says where it is; found {values!r}", at, fix=_EXAMPLE)
            continue
        one = Options(values, options.faults, (*options.path, *at))
        one.unknown(_KEYWORDS, "a database")
        words = [word for word in _KEYWORDS if word in one]
        texts = {word: one.text(word, f"{word} is a text", fix=_EXAMPLE) for word in words}
        if len(words) != 1 or None in texts.values():
            if len(words) != 1:
                one.faults.add(
                    f"database {name} says where it is in {'no way' if not words else listed(words)}",
                    at,
                    fix='one of: path = "data/survey.db", url_from = "SURVEY_DB" (an environment variable)',
                )
            continue
        path = texts.get("path")
        if path is not None and not path.lower().endswith(DATABASE_ENDINGS):
            one.faults.add(
                f"{path!r} is no database by its name",
                (*at, "path"),
                fix=f"a file that ends in {', '.join(DATABASE_ENDINGS)}",
            )
            continue
        url = texts.get("url") or ""
        if _has_password(url):
            place = options.faults.locate((*options.path, *at, "url"))
            said.append(
                finding(
                    "secret",
                    f"the URL of database {name} holds a password, which all who see the book see",
                    places=(place,) if place else (),
                    remedy=f'keep it in an environment variable: url_from = "{name.upper()}_DB"',
                )
            )
        found[name] = Database(
            name, None if path is None else folder / path, texts.get("url_from") or "", url
        )
    return found, said


def _has_password(url: str) -> bool:
    try:
        return bool(urlsplit(url).password)
    except ValueError:
        return False


def is_in_database(given: Any) -> bool:
    """Whether a source, target or lookup is said to lie in a database."""
    return isinstance(given, Mapping)


def read_place(
    options: Options, word: str, databases: Mapping[str, Database], *, is_target: bool = False
) -> InDatabase | None:
    """Return the place in a database that is said under a word; what is wrong is told.

    Parameters
    ----------
    is_target : bool
        Whether it is written: a table or a view, and no query.
    """
    given = options.plain(word)
    at = (word,)
    keywords = WRITTEN_PLACE_KEYWORDS if is_target else PLACE_KEYWORDS
    one = Options(given, options.faults, (*options.path, word))
    one.unknown(keywords, f"a {word} in a database")
    name = one.text("database", "database is the name of one", fix='for example database = "survey"')
    if name is None or name not in databases:
        if name is not None:
            options.faults.add(
                f"the book names no database {name!r}",
                (*at, "database"),
                fix=did_you_mean(name, databases) or _EXAMPLE.removeprefix("for example "),
            )
        elif "database" not in one:
            options.fault(
                word,
                f"{word} names no database",
                f'for example {word} = {{ database = "survey", table = "samples" }}',
            )
        return None
    kinds = ("table", "view") if is_target else ("table", "query")
    texts = {
        each: one.text(each, f"{each} is a text", fix=f'for example {each} = "samples"') or ""
        for each in (*kinds, "schema", *(() if is_target else ("version",)))
    }
    if sum(bool(texts[each]) for each in kinds) != 1:
        options.fault(
            word,
            f"{word} says one of {' and '.join(kinds)}",
            f'for example {word} = {{ database = "{name}", table = "samples" }}',
        )
        return None
    beside = one.text("beside", 'beside is "table"', fix='beside = "table"') if is_target else None
    if beside is not None and (beside != "table" or not texts.get("view")):
        options.fault(
            word,
            "beside says that a view takes what it cannot make from a table beside it"
            if not texts.get("view")
            else f"beside is {beside!r}",
            f'for example {word} = {{ database = "{name}", view = "samples_classed", beside = "table" }}',
        )
        return None
    return InDatabase(
        databases[name],
        texts["table"] or texts.get("view", ""),
        texts["schema"],
        texts.get("query", ""),
        texts.get("version", ""),
        bool(texts.get("view")),
        beside is not None,
    )


def place_said(text: str, databases: Mapping[str, Database]) -> InDatabase | None:
    """Return the place that is said as ``DATABASE:TABLE``, the database being one that a book names or a file; None where it is said
    otherwise.

    Raises
    ------
    DataError
        If a database is named and no table of it, or a URL stands there.
    """
    if is_url(text) and not url_fault(text):  # of a store, which holds no password
        return None
    if is_url(text):
        raise DataError(
            "a URL is not given here, since it may hold a password",
            fix=f"name the database in book.toml, {_EXAMPLE.removeprefix('for example ')}, and say survey:TABLE",
        )
    name, colon, table = text.partition(":")
    database = databases.get(name)
    if database is None:
        found = _OF_FILE.fullmatch(text)
        if found is None or (not colon and name in databases):
            return None
        path, table = Path(found["path"]), found["table"] or ""
        database = Database(path.stem, path)
    if not table:
        from kivvet.io.databases.engines import engine_of

        names = engine_of(database).tables()
        raise DataError(
            "is a database, and none of its tables is named",
            place=Place(text.removesuffix(":")),
            expected=f"one of: {listed(names, 20)}" if names else "a table in it",
            fix=f"for example {text.removesuffix(':')}:{names[0]}" if names else None,
        )
    return _within_schema(InDatabase(database, table))


_OF_FILE = re.compile(
    rf"(?P<path>.+(?:{'|'.join(map(re.escape, DATABASE_ENDINGS))}))(?::(?P<table>.*))?", re.I | re.S
)


def target_said(text: str, databases: Mapping[str, Database]) -> InDatabase | None:
    """Return the place of a table to be written that is said as ``DATABASE:TABLE``, the database being one of a book; None where it
    is said otherwise.
    """
    name, _, table = text.partition(":")
    return InDatabase(databases[name], table) if name in databases and table else None


def place_text(place: InDatabase) -> str:
    """Return a place as book.toml names it."""
    said = {
        "database": place.database.name,
        "schema": place.schema,
        "view" if place.is_view else "table": place.table,
    }
    return "{ " + ", ".join(f"{word} = {toml_text(value)}" for word, value in said.items() if value) + " }"


def _within_schema(place: InDatabase) -> InDatabase:
    """Return a place whose table may be said with its schema and a dot."""
    schema, dot, table = place.table.partition(".")
    if dot and schema and table:
        from kivvet.io.databases.engines import engine_of

        if not engine_of(place.database).has_table(place):
            return replace(place, schema=schema, table=table)
    return place
