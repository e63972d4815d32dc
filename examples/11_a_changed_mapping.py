"""A changed mapping, and what moves: a limit is raised, seen before it is written, then everything follows.

The book is copied, so that this can be run again. Nothing is written before `refresh`; afterwards nothing is stale.
"""

import shutil
from pathlib import Path
from tempfile import TemporaryDirectory

import kivvet

with TemporaryDirectory() as scratch:
    folder = Path(scratch) / "field_book"
    shutil.copytree(
        Path(__file__).parent / "field_book", folder, ignore=shutil.ignore_patterns("out", ".kivvet")
    )
    kivvet.open_book(folder).apply_dataset("samples")

    table = folder / "tables/status.toml"
    text = table.read_text(encoding="utf-8")
    table.write_text(text.replace("4 to <7", "4 to <8").replace(">= 7", ">= 8"), encoding="utf-8")

    book = kivvet.open_book(folder)
    print("difference:", book.compare("status", "last", data=False).summary)
    (samples,) = [one for one in book.impact().datasets if one.dataset == "samples"]
    for column in samples.columns:
        for move in column.moves[:3]:
            if column.column == "status":
                print(
                    f"would move: {move.count} of {column.rows} from {move.before} to {move.after}, such as row {move.example.row}"
                )
    print(
        "before:    ", *[f"{one.dataset} {one.state};" for one in book.status() if one.dataset == "samples"]
    )
    for one in book.refresh(["samples"]):
        print(
            "refreshed: ", ", ".join(sorted({column for reason in one.reasons for column in reason.columns}))
        )
    print(
        "after:     ",
        *[
            f"{one.dataset} {one.state};"
            for one in kivvet.open_book(folder).status()
            if one.dataset == "samples"
        ],
    )
