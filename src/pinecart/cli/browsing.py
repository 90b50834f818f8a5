"""What lies in stores: browse, find, upload."""

from __future__ import annotations

from typing import Any

import click

from pinecart.cli.frame import Cart, output_option, say
from pinecart.cli.words import age, files, size, table
from pinecart.client.places import store_and_path, tidied


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
    name, path = store_and_path(location)
    if beside:
        _show_sides(cart, location, cart.client.location(beside), different=different)
        return
    if archive:
        for piece in cart.client.archive(name, path, []):
            archive.write(piece)
        return
    if save:
        for piece in cart.client.save(name, path, version):
            save.write(piece)
        return
    if look:
        told = cart.client.head(name, path, version)
        cart.show(told, lambda: _show_head(told))
        return
    if past:
        kept = cart.client.versions(name, path)
        lines = [
            [
                v["version"],
                "deleted" if v["is_removal"] else size(v["bytes"]),
                _when(v["modified_ns"]),
                "now" if v["is_current"] else "",
            ]
            for v in kept
        ]
        none = f"No versions of {location} are kept."
        cart.show(
            kept,
            lambda: (
                table(["version", "size", "changed (UTC)", ""], lines, numbers=[1])
                if lines
                else say(none)
            ),
        )
        return
    found = cart.client.browse(
        name, path, everything=everything or totals or tree or bool(match), match=match
    )
    if totals:
        n = total = 0
        for entry in found:
            n, total = n + 1, total + (entry["bytes"] or 0)
        cart.show({"objects": n, "bytes": total}, lambda: click.echo(f"{files(n)} · {size(total)}"))
        return
    entries = [e for e in found if not folders or e["kind"] != "file"]
    rows = [
        [
            e["key"],
            size(e["bytes"]) if e["kind"] == "file" else e["kind"],
            e["fault"] or _when(e["modified_ns"]),
        ]
        for e in entries
    ]
    if tree:
        cart.show(
            entries,
            lambda: click.echo(
                "\n".join(_tree([e["key"] for e in entries])) or f"{location} is empty."
            ),
        )
        return
    if not path and not everything and entries and entries[0]["kind"] == "bucket":
        entries = cart.client.buckets(name)
        lines = [
            [
                b["name"],
                {True: "empty", None: "may not be listed"}.get(b["empty"], ""),
                _used(b["jobs"]),
            ]
            for b in entries
        ]
        cart.show(entries, lambda: table(["bucket", "", "used by"], lines))
        return
    empty = f"Nothing at {location} matches {match}." if match else f"{location} is empty."
    cart.show(
        entries,
        lambda: table(["name", "size", "changed (UTC)"], rows, numbers=[1]) if rows else say(empty),
    )


def _used(jobs: list[str]) -> str:
    return ", ".join(jobs) or "no job"


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

    def plain() -> None:
        for place in found:
            click.echo(f"{place['from']}{place['key']} → {place['to']}  {size(place['bytes'])}")
            for touch in place["runs"][:10]:
                what = (
                    f"{'' if touch['done'] else 'not done, '}{touch['decision']}: {touch['reason']}"
                )
                what = touch["error"] or what
                click.echo(f"  run {touch['run']} of {touch['job']}, {age(touch['at'])}: {what}")

    cart.show(found, plain)


def _found_at(cart: Cart, place: str) -> list[dict[str, Any]]:
    """What is known of one file by its place, at either side."""
    at = cart.client.location(place).rstrip("/")
    found = cart.client.find(at.rpartition("/")[2])
    return [p for p in found if at in (p["from"] + p["key_id"], p["to"] + p["key_id"])]


def _show_head(told: dict[str, Any]) -> None:
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
