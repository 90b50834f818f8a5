"""What lies in stores: browse, find, upload."""

from __future__ import annotations

from collections.abc import Iterable
from typing import IO, Any

import click

from pinecart.cli.frame import Cart, output_option, say
from pinecart.cli.words import age, files, size, table
from pinecart.client.places import store_and_path, tidied
from pinecart.json_object import JsonObject


@click.command()
@click.argument("location")
@click.option("--all", "everything", is_flag=True, help="All below, not only this level.")
@click.option("--folders", is_flag=True, help="Only folders and buckets.")
@click.option(
    "--match",
    default="",
    metavar="PATTERN",
    help="Of all below, only what matches, such as '*.flac'.",
)
@click.option("--totals", is_flag=True, help="Only how many files and bytes there are.")
@click.option("--head", "look", is_flag=True, help="One file: its size, metadata and first bytes.")
@click.option(
    "--save",
    type=click.File("wb"),
    metavar="FILE",
    help="Save one file to this machine; - is standard output.",
)
@click.option(
    "--versions", "past", is_flag=True, help="One file: the versions that its bucket keeps."
)
@click.option("--version", default="", metavar="ID", help="With --head or --save: this version.")
@click.option(
    "--zip", "archive", type=click.File("wb"), metavar="FILE", help="Save all below as one ZIP."
)
@click.option("--tree", is_flag=True, help="All below, drawn as a tree.")
@click.option(
    "--beside", metavar="LOCATION", help="Two places as one list: here, and this one as there."
)
@click.option("--different", is_flag=True, help="With --beside: only names that differ.")
@output_option
def browse(
    cart: Cart,
    location: str,
    everything: bool,
    folders: bool,
    match: str,
    totals: bool,
    look: bool,
    save: Any,
    past: bool,
    version: str,
    archive: Any,
    tree: bool,
    beside: str | None,
    different: bool,
) -> None:
    """See what lies at a location: this level, or --all below it; or look at one file, or save it.

    \b
    pinecart browse pine://office/larkfell/
    pinecart browse pine://posts/sheets/ --all --totals
    pinecart browse pine://posts/ --match "*.csv"
    pinecart browse pine://posts/survey.txt --head
    """
    location = cart.client.location(location)
    at = store_and_path(location)
    if beside:
        _show_sides(cart, location, cart.client.location(beside), different=different)
    elif archive:
        _write(archive, cart.client.archive(*at, []))
    elif save:
        _write(save, cart.client.save(*at, version))
    elif look:
        told = cart.client.head(*at, version)
        cart.show(told, lambda: _show_head(told))
    elif past:
        _show_versions(cart, location)
    else:
        below = everything or totals or tree or bool(match)
        found = cart.client.browse(*at, everything=below, match=match)
        if totals:
            _show_totals(cart, found)
            return
        entries = [e for e in found if not folders or e["kind"] != "file"]
        if tree:
            _show_tree(cart, entries, location)
        elif not at[1] and not everything and entries and entries[0]["kind"] == "bucket":
            _show_buckets(cart, at[0])
        else:
            _show_entries(cart, entries, location, match)


def _write(file: IO[bytes], pieces: Iterable[bytes]) -> None:
    for piece in pieces:
        file.write(piece)


def _show_versions(cart: Cart, location: str) -> None:
    kept = cart.client.versions(*store_and_path(location))
    rows = []
    for version in kept:
        length = "deleted" if version["is_removal"] else size(version["bytes"])
        now = "now" if version["is_current"] else ""
        rows.append([version["version"], length, _when(version["modified_ns"]), now])
    heads = ["version", "size", "changed (UTC)", ""]
    _show_table(cart, kept, heads, rows, f"No versions of {location} are kept.", numbers=[1])


def _show_totals(cart: Cart, found: Iterable[JsonObject]) -> None:
    sizes = [entry["bytes"] or 0 for entry in found]
    counted = {"objects": len(sizes), "bytes": sum(sizes)}
    words = f"{files(len(sizes))} · {size(sum(sizes))}"
    cart.show(counted, lambda: click.echo(words))


def _show_tree(cart: Cart, entries: list[JsonObject], location: str) -> None:
    lines = _tree([entry["key"] for entry in entries]) or [f"{location} is empty."]
    cart.show(entries, lambda: click.echo("\n".join(lines)))


def _show_buckets(cart: Cart, store: str) -> None:
    found = cart.client.buckets(store)
    state = {True: "empty", None: "may not be listed", False: ""}
    rows = [[b["name"], state[b["empty"]], ", ".join(b["jobs"]) or "no job"] for b in found]
    cart.show(found, lambda: table(["bucket", "", "used by"], rows))


def _show_entries(cart: Cart, entries: list[JsonObject], location: str, match: str) -> None:
    rows = []
    for entry in entries:
        length = size(entry["bytes"]) if entry["kind"] == "file" else entry["kind"]
        rows.append([entry["key"], length, entry["fault"] or _when(entry["modified_ns"])])
    empty = f"Nothing at {location} matches {match}." if match else f"{location} is empty."
    _show_table(cart, entries, ["name", "size", "changed (UTC)"], rows, empty, numbers=[1])


def _show_table(
    cart: Cart,
    found: Any,
    heads: list[str],
    rows: list[list[str]],
    empty: str,
    *,
    numbers: list[int],
) -> None:
    cart.show(found, lambda: table(heads, rows, numbers=numbers) if rows else say(empty))


def _show_sides(cart: Cart, here: str, there: str, *, different: bool) -> None:
    words = {
        "same-size": "same size",
        "differs": "▲ differs",
        "only-here": "only here",
        "only-there": "only there",
        "name-clash": "▲ name clash",
    }
    found = list(cart.client.sides(here, there, different=different))
    rows = [
        [
            e["key"],
            *("-" if n is None else size(n) for n in (e["here"], e["there"])),
            words[e["word"]],
        ]
        for e in found
    ]
    empty = "Both places have the same names and sizes." if different else "Both places are empty."
    cart.show(
        found,
        lambda: table(["name", "here", "there", ""], rows, numbers=[1, 2]) if rows else say(empty),
    )


def _tree(keys: list[str]) -> list[str]:
    """Names indented by their folders, each folder told once."""
    lines: list[str] = []
    above: list[str] = []
    for key in keys:
        *folders, last = key.split("/")
        same = next(
            (i for i, (a, b) in enumerate(zip(above, folders, strict=False)) if a != b),
            min(len(above), len(folders)),
        )
        lines += [f"{'  ' * i}{folders[i]}/" for i in range(same, len(folders))]
        lines += [f"{'  ' * len(folders)}{last}"] if last else []
        above = folders
    return lines


@click.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False))
@click.argument("location")
@output_option
def upload(cart: Cart, file: str, location: str) -> None:
    """Put one file of this machine at a location where nothing is yet.

    \b
    pinecart upload counts.csv pine://office/larkfell/sheets/counts.csv
    """
    name, path = store_and_path(cart.client.location(location))
    path += file.replace("\\", "/").rpartition("/")[2] if path.endswith("/") or not path else ""
    with open(file, "rb") as body:
        told = cart.client.upload(name, path, iter(lambda: body.read(1 << 20), b""))
    cart.show(told, lambda: say(f"{told['location']} has {size(told['bytes'])}."))


@click.command()
@click.argument("name")
@output_option
def find(cart: Cart, name: str) -> None:
    """A file, anywhere, any time: every place of the name, and every run that touched it there.

    NAME is part of a file's name, or one file's place: a location, or a path of this machine.

    \b
    pinecart find 2026-03-02-aldermurr
    pinecart find pine://posts/sheets/aldermurr.csv
    pinecart find "sheets*aldermurr.csv"
    """
    found = _found_at(cart, name) if "/" in tidied(name) else cart.client.find(name)
    if not found:
        cart.show(
            found,
            lambda: say(
                f"No run has touched a file with {name!r} in its name. Look in a store: "
                f"pinecart browse LOCATION --match '*{name}*'"
            ),
        )
        return

    cart.show(found, lambda: _show_touched(found))


def _show_touched(places: list[JsonObject]) -> None:
    """Each place, with the latest runs that touched it."""
    for place in places:
        click.echo(f"{place['from']}{place['key']} → {place['to']}  {size(place['bytes'])}")
        for touch in place["runs"][:10]:
            click.echo(
                f"  run {touch['run']} of {touch['job']}, {age(touch['at'])}: {_done_by(touch)}"
            )


def _done_by(touch: JsonObject) -> str:
    if touch["error"]:
        return str(touch["error"])
    done = "" if touch["done"] else "not done, "
    return f"{done}{touch['decision']}: {touch['reason']}"


def _found_at(cart: Cart, place: str) -> list[JsonObject]:
    """What is known of one file by its place, at either side."""
    at = cart.client.location(place).rstrip("/")
    found = cart.client.find(at.rpartition("/")[2])
    return [p for p in found if at in (p["from"] + p["key_id"], p["to"] + p["key_id"])]


def _show_head(told: JsonObject) -> None:
    facts = {
        "size": f"{told['bytes']:,} bytes",
        "changed": _when(told["modified_ns"]),
        "type": told["content_type"],
        "CRC-64": told["checksum"],
    }
    facts |= {"class": told["storage_class"], "version": told["version"]}
    facts |= {f"tag {k}": v for k, v in told["tags"].items()}
    for label, value in {**facts, **told["metadata"]}.items():
        if value:
            say(f"{label:<8} {value}")
    click.echo(told["text"] if told["text"] is not None else told["hex"])


def _when(modified_ns: int | None) -> str:
    from datetime import UTC, datetime

    return (
        datetime.fromtimestamp(modified_ns / 1e9, UTC).strftime("%Y-%m-%d %H:%M:%S")
        if modified_ns is not None
        else ""
    )
