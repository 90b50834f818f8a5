"""What holds for the whole service."""

from __future__ import annotations

from typing import Any

import click

from pinecart.cli.frame import Cart, Words, output_option, say
from pinecart.cli.words import size, table
from pinecart.json_object import JsonObject


@click.group(cls=Words)
def settings() -> None:
    """What holds for the whole service: named values in places, limits, and what is kept.

    \b
    pinecart settings show
    """


@settings.command("show")
@output_option
def settings_show(cart: Cart) -> None:
    """What {name} in a job's places stands for, and above which limits a run asks first.

    \b
    pinecart settings show
    """
    _tell(cart, cart.client.settings())


@settings.command("change")
@click.option("--value", "values", multiple=True, metavar="NAME=VALUE", help="Set a named value.")
@click.option("--forget", "gone", multiple=True, metavar="NAME", help="Forget a named value.")
@click.option(
    "--limit", "limits", multiple=True, metavar="LIMIT=NUMBER", help="As settings show names it."
)
@click.option("--keep", multiple=True, metavar="WHAT=DAYS", help="Such as records=90; 0: always.")
@output_option
def settings_change(
    cart: Cart,
    values: tuple[str, ...],
    gone: tuple[str, ...],
    limits: tuple[str, ...],
    keep: tuple[str, ...],
) -> None:
    """Change them, from the next run on.

    \b
    pinecart settings change --value site=north-fell --limit removals=50
    """
    before = cart.client.settings()
    asked: JsonObject = {}
    if values or gone:
        kept = {name: v for name, v in before["values"].items() if name not in gone}
        named = [line.partition("=")[0] for line in values]
        asked["values"] = [f"{name}={v}" for name, v in kept.items() if name not in named]
        asked["values"] += values
    if limits:
        asked["guards"] = before["guards"] | dict(map(_limit, limits))
    if keep:
        asked["keep"] = before["keep"] | dict(map(_limit, keep))
    if not asked:
        raise click.UsageError("Say what to change: --value, --forget, --limit or --keep.")
    _tell(cart, cart.client.change_settings(asked))


@settings.command("room")
@output_option
def settings_room(cart: Cart) -> None:
    """What takes how much room in the state folder, and how long it is kept.

    \b
    pinecart settings room
    """
    found = cart.client.room()
    rows = [[one["what"], size(one["bytes"]), _kept(one["days"])] for one in found]
    cart.show(found, lambda: table(["what", "room", "kept for"], rows, numbers=[1]))


@settings.command("go-on")
@output_option
def settings_go_on(cart: Cart) -> None:
    """After a restore: jobs start by themselves again. Runs that were under way stay paused.

    \b
    pinecart settings go-on
    """
    cart.client.go_on_after_restore()
    cart.show({}, lambda: say("Jobs start by themselves again. See: pinecart run list"))


def _kept(days: int | None) -> str:
    if days is None:
        return ""
    if days:
        return f"{days} days"
    return "without end"


def _limit(text: str) -> tuple[str, Any]:
    """A limit's name and its number, of NAME=NUMBER. Raises UsageError where it is no whole
    number.
    """
    name, _, number = text.partition("=")
    if not number.isdecimal():
        raise click.UsageError(f"{text!r}: write a limit as removals=50.")
    return name, int(number)


def _tell(cart: Cart, told: JsonObject) -> None:
    values = told["values"]
    guards = told["guards"]
    keep = told["keep"]

    def plain() -> None:
        if not values:
            say("There are no named values. Set one with: pinecart settings change --value …")
        for name, value in values.items():
            click.echo(f"{{{name}}} is {value}")
        for name, number in guards.items():
            label = name.ljust(22)
            click.echo(f"{label} {number:,}")
        for name, days in keep.items():
            label = name.ljust(22)
            kept = _kept(days)
            click.echo(f"{label} kept for {kept}")

    cart.show(told, plain)
