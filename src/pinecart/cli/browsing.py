"""What lies in stores: browse, find, upload."""

from __future__ import annotations

from collections.abc import Iterable
from typing import IO, Any

import click

from pinecart.cli.frame import Cart, output_option, say
from pinecart.cli.words import age, files, size, table
from pinecart.client.places import store_and_path, tidied
from pinecart.json_object import JsonObject

PIECE = 1 << 20  # bytes read at once from a file that is sent


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
    store, path = store_and_path(location)
    kept = cart.client.versions(store, path)
    heads = ["version", "size", "changed (UTC)", ""]
    rows = []
    for version in kept:
        length = "deleted"
        if not version["is_removal"]:
            length = size(version["bytes"])
        changed = _when(version["modified_ns"])
        now = "now" if version["is_current"] else ""
        rows.append([version["version"], length, changed, now])
    empty = f"No versions of {location} are kept."
    _show_table(cart, kept, heads, rows, empty, numbers=[1])


def _show_totals(cart: Cart, found: Iterable[JsonObject]) -> None:
    """How many and how large, without a row for each. What has no size, such as a folder, counts as
    a file of none.
    """
    objects = length = 0
    for entry in found:
        objects += 1
        length += entry["bytes"] or 0
    counted = {"objects": objects, "bytes": length}
    words = f"{files(objects)} · {size(length)}"
    cart.show(counted, lambda: click.echo(words))


def _show_tree(cart: Cart, entries: list[JsonObject], location: str) -> None:
    lines = _tree([entry["key"] for entry in entries]) or [f"{location} is empty."]
    cart.show(entries, lambda: click.echo("\n".join(lines)))


def _show_buckets(cart: Cart, store: str) -> None:
    found = cart.client.buckets(store)
    state = {True: "empty", None: "may not be listed", False: ""}
    rows = []
    for bucket in found:
        is_empty = bucket["empty"]
        jobs = ", ".join(bucket["jobs"])
        rows.append([bucket["name"], state[is_empty], jobs or "no job"])
    heads = ["bucket", "", "used by"]
    cart.show(found, lambda: table(heads, rows))


def _show_entries(cart: Cart, entries: list[JsonObject], location: str, match: str) -> None:
    heads = ["name", "size", "changed (UTC)"]
    rows = []
    for entry in entries:
        length = entry["kind"]
        if length == "file":
            length = size(entry["bytes"])
        changed = entry["fault"]
        if not changed:
            changed = _when(entry["modified_ns"])
        rows.append([entry["key"], length, changed])
    empty = f"{location} is empty."
    if match:
        empty = f"Nothing at {location} matches {match}."
    _show_table(cart, entries, heads, rows, empty, numbers=[1])


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
        depth = len(folders)
        for level in range(_in_common(above, folders), depth):
            indent = "  " * level
            lines.append(f"{indent}{folders[level]}/")
        if last:
            indent = "  " * depth
            lines.append(f"{indent}{last}")
        above = folders
    return lines


def _in_common(above: list[str], folders: list[str]) -> int:
    """How many folders two paths have in common, from the top."""
    common = 0
    for old, new in zip(above, folders, strict=False):
        if old != new:
            break
        common += 1
    return common


@click.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False))
@click.argument("location")
@output_option
def upload(cart: Cart, file: str, location: str) -> None:
    """Put one file of this machine at a location where nothing is yet.

    \b
    pinecart upload counts.csv pine://office/larkfell/sheets/counts.csv
    """
    place = cart.client.location(location)
    name, path = store_and_path(place)
    if path.endswith("/") or not path:
        path += file.replace("\\", "/").rpartition("/")[2]
    with open(file, "rb") as body:
        pieces = iter(lambda: body.read(PIECE), b"")
        told = cart.client.upload(name, path, pieces)
    length = size(told["bytes"])
    cart.show(told, lambda: say(f"{told['location']} has {length}."))


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


@click.command()
@click.argument("location")
@output_option
def lineage(cart: Cart, location: str) -> None:
    """Where one file came from, or went to: every run that touched it, with checksum and proof.

    \b
    pinecart lineage pine://office/larkfell/dawn/2026-03-02-aldermurr.flac
    """
    found = _found_at(cart, location)

    def plain() -> None:
        rows = []
        for way, touch in _ways_of(found):
            run = str(touch["run"])
            when = age(touch["at"])
            done = _done_by(touch)
            proven = [touch["checksum"], touch["proof"]]
            rows.append([run, touch["job"], when, done, *proven, way])
        heads = ["run", "job", "when", "what", "checksum", "proof", "from → to"]
        table(heads, rows, numbers=[0], flexible=6)

    if not found:
        say(f"No run has touched {location}. See what lies there: pinecart browse {location}")
    cart.show(found, plain if found else lambda: None)


def _ways_of(places: list[JsonObject]) -> list[tuple[str, JsonObject]]:
    """(from → to, what a run did), the newest first."""
    ways = []
    for place in places:
        key = place["key"]
        source = place["from"] + key
        destination = place["to"] + key
        for touch in place["runs"]:
            ways.append((f"{source} → {destination}", touch))
    ways.sort(key=lambda way: way[1]["run"], reverse=True)
    return ways


def _show_touched(places: list[JsonObject]) -> None:
    """Each place, with the latest runs that touched it."""
    for place in places:
        source = place["from"] + place["key"]
        destination = place["to"]
        length = size(place["bytes"])
        click.echo(f"{source} → {destination}  {length}")
        for touch in place["runs"][:10]:
            run = touch["run"]
            job = touch["job"]
            when = age(touch["at"])
            done = _done_by(touch)
            click.echo(f"  run {run} of {job}, {when}: {done}")


def _done_by(touch: JsonObject) -> str:
    """What a run did with the file: the problem, where there was one; else what was decided and
    why, and whether it came to that.
    """
    if touch["error"]:
        return str(touch["error"])
    done = "" if touch["done"] else "not done, "
    return f"{done}{touch['decision']}: {touch['reason']}"


def _found_at(cart: Cart, place: str) -> list[JsonObject]:
    """What is known of one file by its place, at either side."""
    at = cart.client.location(place).rstrip("/")
    _, _, name = at.rpartition("/")
    found = []
    for candidate in cart.client.find(name):
        key = candidate["key_id"]
        if at in (candidate["from"] + key, candidate["to"] + key):
            found.append(candidate)
    return found


def _show_head(told: JsonObject) -> None:
    facts = {
        "size": f"{told['bytes']:,} bytes",
        "changed": _when(told["modified_ns"]),
        "type": told["content_type"],
        "CRC-64": told["checksum"],
    }
    facts["class"] = told["storage_class"]
    facts["version"] = told["version"]
    for name, value in told["tags"].items():
        facts[f"tag {name}"] = value
    facts |= told["metadata"]
    for label, value in facts.items():
        if value:
            say(f"{label:<8} {value}")
    text = told["text"]
    click.echo(told["hex"] if text is None else text)


def _when(modified_ns: int | None) -> str:
    from datetime import UTC, datetime

    if modified_ns is not None:
        return datetime.fromtimestamp(modified_ns / 1e9, UTC).strftime("%Y-%m-%d %H:%M:%S")
    return ""
