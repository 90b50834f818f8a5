"""What lies in a place, summed up."""

from __future__ import annotations

import sys
from datetime import UTC, datetime

import click

from pinecart.cli.following import follow_quietly
from pinecart.cli.frame import PROBLEMS, Cart, output_option, say
from pinecart.cli.words import size, table
from pinecart.json_object import JsonObject


@click.command()
@click.argument("place")
@click.option("--folder", default="", help="Of an inventory by its number: this folder of it.")
@click.option("--largest", is_flag=True, help="The largest files instead.")
@output_option
def inventory(cart: Cart, place: str, folder: str, largest: bool) -> None:
    """Count what lies in a place: by folder, age and kind, and the largest files. PLACE may also be
    the number of an inventory that was taken before.

    \b
    pinecart inventory pine://office/larkfell/
    pinecart inventory 14 --folder dawn/
    """
    number = int(place) if place.isdigit() else _taken(cart, place)
    found = cart.client.inventory(number, folder)
    cart.show(found, lambda: _largest(found) if largest else _told(found))


def _taken(cart: Cart, place: str) -> int:
    """The number of an inventory that was taken just now. It waits for its end, and ends with it
    where that isn't clean.
    """
    begun = cart.client.take_inventory(cart.client.location(place))
    ended = follow_quietly(cart, begun, "inventories")
    if ended["outcome"] != "clean":
        click.echo(ended["sentence"], err=True)
        sys.exit(PROBLEMS)
    return int(ended["id"])


def _tell_sums(title: str, sums: list[JsonObject]) -> None:
    rows = []
    for one in sums:
        count = one["objects"]
        length = size(one["bytes"])
        rows.append([f"{count:,}", length, one["name"]])
    heads = ["files", "bytes", title]
    click.echo()
    table(heads, rows, numbers=[0, 1], flexible=2)


def _told(found: JsonObject) -> None:
    click.echo(found["sentence"])
    folder = found["folder"]
    if folder is None:
        say("What it counted is cleared away. Take another.")
        return
    rows = []
    for one in found["inside"]:
        objects = f"{one['objects']:,}"
        length = size(one["bytes"])
        newest = _day(one["newest_ns"])
        rows.append([objects, length, newest, one["key"]])
    folders, objects, total = folder["others"]
    if folders:
        others = f"{folders:,} smaller folders"
        rows.append([f"{objects:,}", size(total), "", others])
    if rows:
        click.echo()
        table(["files", "bytes", "newest", "folder"], rows, numbers=[0, 1], flexible=3)
    _tell_sums("last changed within", found["ages"])
    _tell_sums("kind", found["kinds"][:15])
    number = found["id"]
    say(f"\nThe largest: pinecart inventory {number} --largest")


def _largest(found: JsonObject) -> None:
    rows = [[size(one["bytes"]), _day(one["modified_ns"]), one["key"]] for one in found["largest"]]
    table(["bytes", "changed", "file"], rows, numbers=[0], flexible=2)


def _day(ns: int) -> str:
    if ns:
        return f"{datetime.fromtimestamp(ns / 1e9, UTC):%Y-%m-%d}"
    return "-"
