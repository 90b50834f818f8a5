"""The trail: who did what."""

from __future__ import annotations

import sys
from typing import IO, Any

import click

from pinecart.cli.frame import PROBLEMS, Cart, Words, output_option
from pinecart.cli.words import table
from pinecart.json_object import JsonObject


@click.group(cls=Words)
def trail() -> None:
    """Who did what.

    \b
    pinecart trail list
    """


@trail.command("list")
@click.option("--who", default="", help="Only what this person did.")
@click.option(
    "--what", default="", help="Only this, such as job.changed; job for all that begins so."
)
@click.option("--which", default="", help="Only where this is in the name of what it was done to.")
@click.option(
    "--since", default="", metavar="DATE", help="Only from this day on (UTC), such as 2026-03-02."
)
@click.option("--until", default="", metavar="DATE", help="Only up to this day.")
@click.option("--limit", default=50, show_default=True, help="How many lines.")
@output_option
def trail_list(cart: Cart, limit: int, **asked: str) -> None:
    """Who did what, newest first; of a change, what was before and after.

    \b
    pinecart trail list --who wren --what job
    """
    given = {name: value for name, value in asked.items() if value}
    lines = cart.client.trail(limit=limit, **given)

    def plain() -> None:
        heads = ["at (UTC)", "who", "from", "what", "which", "facts"]
        rows = [_row_of(line) for line in lines]
        table(heads, rows, flexible=5)

    cart.show(lines, plain)


@trail.command("verify")
@click.option("--head", default="", metavar="LINES:DIGEST", help="A head that was kept elsewhere.")
@output_option
def trail_verify(cart: Cart, head: str) -> None:
    """Whether every line is as it was written, and none is missing, added or exchanged.

    That its end was cut shows only against a head that was kept elsewhere.

    \b
    pinecart trail verify --head 1204:5f0c…
    """
    lines, _, digest = head.partition(":")
    if head and not (lines.isdigit() and digest):
        raise click.UsageError(f"{head!r} is no head: write it as LINES:DIGEST.")
    found = cart.client.verify_trail(int(lines) if head else None, digest)

    def plain() -> None:
        if found["is_whole"]:
            count = found["lines"]
            click.echo(f"✓ Whole: {count:,} lines, each as it was written.")
        for fault in found["faults"]:
            number = fault["number"]
            words = fault["words"]
            click.echo(f"✗ line {number:,}: {words}")
        signed = found["signed"]
        if signed:
            head = f"{signed['lines']}:{signed['digest']}"
            click.echo(f"Head signed {signed['at']}: {head}")

    cart.show(found, plain)
    sys.exit(0 if found["is_whole"] else PROBLEMS)


@trail.command("export")
@click.option(
    "--output", "-o", type=click.File("wb"), default="-", help="A file; without, standard output."
)
@click.pass_obj
def trail_export(cart: Cart, output: IO[bytes]) -> None:
    """The whole trail with its chain, as JSON lines, signed by the service.

    \b
    pinecart trail export -o trail.jsonl
    """
    for piece in cart.client.export_trail():
        output.write(piece)


@trail.command("key")
@output_option
def trail_key(cart: Cart) -> None:
    """What it takes to verify an export without the service (docs/operations.md has the script).

    Whoever has the chain's key could make a chain anew, though never a signature: keep it safe.

    \b
    pinecart trail key --json
    """
    keys = cart.client.trail_key()
    lines = [f"chain key   {keys['chain_key']}", f"public key  {keys['public_key']}"]
    cart.show(keys, lambda: click.echo("\n".join(lines)))


def _row_of(line: JsonObject) -> list[str]:
    return [
        line["at"][:19].replace("T", " "),
        line["who"],
        line["address"],
        line["action"],
        line["subject"],
        _facts(line["facts"]),
    ]


def _facts(facts: JsonObject) -> str:
    """Of a change, `field: before → after`; other facts as they are."""
    before = facts.get("before")
    after = facts.get("after")
    if isinstance(before, dict) and isinstance(after, dict):
        return _changes(before, after)
    told = []
    for name, value in facts.items():
        if value not in ("", None, [], {}):
            told.append(f"{name} {_text(value)}")
    return ", ".join(told)


def _changes(before: JsonObject, after: JsonObject) -> str:
    """Each field that was or is there, before and after; a field that is only on one side has
    nothing on the other.
    """
    changes = []
    for field in before | after:
        old = _text(before.get(field))
        new = _text(after.get(field))
        changes.append(f"{field}: {old} → {new}")
    return "; ".join(changes) or "nothing differs"


def _text(value: Any) -> str:
    if isinstance(value, list):
        return ", ".join(map(_text, value)) or "none"
    if value in (None, ""):
        return "none"
    return str(value)
