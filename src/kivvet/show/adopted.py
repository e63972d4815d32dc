"""Rules taken over, on a terminal: what each became, what was proved on data, what was not taken."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from kivvet.books.asks.adopted import Adopted, RulesAdopted
from kivvet.books.asks.adopted_proof import Proof
from kivvet.core.words.wording import count, shell_word
from kivvet.show.terminal import print_columns, print_hint

_MOST_LINES = 40


def print_adopted(out: Console, made: RulesAdopted) -> None:
    """Print what was taken over."""
    proofs = {proof.name: proof for proof in made.proofs}
    for rule in made.rules:
        _print_rule(out, rule)
        if rule.name in proofs:
            _print_proof(out, proofs[rule.name])
        out.print()
    for said in made.left:
        print_columns(out, [("left", "yellow", 6)], said)
    for file in made.written:
        out.print(Text().append("written  ", "green").append(file))
    tables = " ".join(shell_word(rule.name) for rule in made.rules if rule.kind == "table")
    if made.written and tables:
        print_hint(out, f"what it never said: kivvet check {tables}", "dim")
    elif not made.written:
        print_hint(out, "to write it, give the same with --write", "dim")


def _print_rule(out: Console, one: Adopted) -> None:
    what = "table" if one.table is not None else "formula"
    where = f"  line {one.line}" if one.line else ""
    rows = "" if one.table is None else f", {count(one.table.n_rows, 'row')}"
    out.print(Text().append(one.name, "bold").append(f"  {what}{rows}{where}", "dim"))
    lines = one.text.rstrip("\n").split("\n")
    for line in lines[:_MOST_LINES]:
        out.print(Text(f"  {line}", "cyan"))
    if len(lines) > _MOST_LINES:
        out.print(Text(f"  ... and {len(lines) - _MOST_LINES:,} more lines", "dim"))
    for note in one.notes:
        print_columns(out, [("", "", 2), ("note", "yellow", 6)], note)


def _print_proof(out: Console, proof: Proof) -> None:
    rows = count(proof.rows, "row")
    if proof.differing:
        said, style = f"gives otherwise than before in {proof.differing:,} of {rows}", "red"
    else:
        said, style = f"gives what it gave before in all of {rows}", "green"
    print_columns(out, [("", "", 2), ("proved" if not proof.differing else "differs", style, 9)], said)
    if proof.column:
        what = (
            f"{proof.column} holds the same in all rows"
            if not proof.odd
            else f"{proof.column} holds something else in {count(proof.odd, 'row')}"
        )
        print_columns(out, [("", "", 2), ("column", "green" if not proof.odd else "yellow", 9)], what)
    for before, now, number in proof.pairs:
        out.print(Text(f"           {number:,}  {before} -> {now}"))
    for example in proof.examples:
        because = f": {example.why}" if example.why else ""
        out.print(
            Text(
                f"           row {example.row:,}: {example.before}, and the table gives {example.now}{because}",
                "dim",
            )
        )
    if proof.unmatched:
        said = f"{count(proof.unmatched, 'row')} get nothing: no branch holds there, and nothing is said for the rest"
        print_columns(out, [("", "", 2), ("gap", "yellow", 9)], said)
