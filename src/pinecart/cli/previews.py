"""What a run of a job would do, and why: previews, and one file explained."""

from __future__ import annotations

import sys
from typing import Any

import click

from pinecart.cli.following import follow_quietly
from pinecart.cli.frame import PROBLEMS, Cart, output_option, say
from pinecart.cli.words import size, span, table
from pinecart.json_object import JsonObject

wait_option = click.option(
    "--wait", is_flag=True, help="Begin only once no run of the job is under way."
)


def part_options(command: Any) -> Any:
    """Which of a job's files."""
    for option in (
        click.option("--leg", type=click.IntRange(1), help="Only this leg, counted from 1."),
        click.option("--prefix", help="Only files whose names begin so."),
        click.option("--only", multiple=True, metavar="NAME", help="Only this file; again: more."),
        click.option(
            "--first",
            type=click.IntRange(1),
            metavar="N",
            help="Copy or replace N files, and do nothing else.",
        ),
    ):
        command = option(command)
    return command


def part_of(given: JsonObject) -> JsonObject:
    """The part of the job that was asked for, of those options that were given; empty means all of
    it.
    """
    part = {name: given[name] for name in ("first", "prefix", "leg") if given[name]}
    if given["only"]:
        part["only"] = list(given["only"])
    return part


@click.command()
@click.argument("job")
@part_options
@wait_option
@click.option("--by-folder", is_flag=True, help="Gathered: a line for each folder.")
@output_option
def preview(cart: Cart, job: str, wait: bool, by_folder: bool, **part: Any) -> None:
    """What a run of a job, or of a part of it, would do, file by file, without doing it.

    \b
    pinecart preview dawn
    pinecart preview dawn --prefix 2026-W10/
    """
    begun = cart.client.start_preview(job, wait=wait, **part_of(part))
    run = follow_quietly(cart, begun, "previews")
    if by_folder:
        _show_folders(cart, run)
    else:
        show_preview(cart, run)
    has_failed = run["outcome"] == "failed"
    if not has_failed:
        say(f"To do exactly this: pinecart run exactly {run['id']} --follow")
    sys.exit(PROBLEMS if has_failed else 0)


def _show_level(leg: JsonObject) -> None:
    """Its folders with their counts, then the files that lie in none."""
    rows = []
    for folder in leg["folders"]:
        row = _folder_row(folder["key"], folder["totals"])
        rows.append(row)
    for file in leg["files"]:
        counts = _one_in(file["decision"])
        rows.append([*counts, file["key"]])
    number = leg["leg"]
    click.echo(f"leg {number}")
    columns = len(COUNTED)
    heads = [*COUNTED, "folder"]
    table(heads, rows, numbers=range(columns), flexible=columns)


def _show_folders(cart: Cart, run: JsonObject) -> None:
    """The first level of each leg; what lies in none is one line."""
    number = run["id"]
    count = len(run["legs"])
    legs: list[JsonObject] = []
    for leg in range(1, count + 1):
        folders = cart.client.preview_folders(number, leg=leg)
        files = list(cart.client.objects(number, of="previews", leg=leg, level=True))
        legs.append({"leg": leg, "folders": folders, "files": files})

    def plain() -> None:
        _show_head(run)
        for leg in legs:
            _show_level(leg)

    cart.show(run | {"gathered": legs}, plain)


COUNTED = ("remove", "replace", "copy", "clear", "refuse")


def _folder_row(name: str, totals: JsonObject) -> list[str]:
    counts = [totals[decision]["objects"] for decision in COUNTED]
    return [*(f"{count:,}" if count else "" for count in counts), name]


def _one_in(decision: str) -> list[str]:
    return ["1" if decision == column else "" for column in COUNTED]


@click.command()
@click.argument("job")
@click.argument("key")
@output_option
def explain(cart: Cart, job: str, key: str) -> None:
    """Why a file is carried, or isn't: each rule in its order, and the one that decided.

    \b
    pinecart explain dawn recordings/north-fell/2026-03-02-dawn.flac
    """
    found = cart.client.explain(job, key)

    def plain() -> None:
        for one in found:
            places = one["places"]
            click.echo(f"{places['from']} → {places['to']}")
            for step in one["steps"]:
                _tell_step(step)
            for record in one["records"][:10]:
                _tell_record(record)

    cart.show(found, plain)


LEFT_WORDS = {
    "same": "unchanged",
    "recognised": "there already, proven equal",
    "foreign": "only there",
    "gone": "gone at the source",
    "left-out": "left out by name",
    "later": "left for a whole run",
    "other-size": "left out by size",
    "other-time": "left out by time",
    "exists": "there under this name",
    "not-younger": "no younger than the youngest there",
    "too-young": "touched a moment ago",
}


def _named(o: JsonObject) -> str:
    """Its name there; and its name at the source, where that is another."""
    if o["message"].startswith("from ") and not o["error"]:
        return f"{o['key']} ({o['message']})"
    return str(o["key"])


def _left_words(reasons: dict[str, int]) -> list[str]:
    """How many objects are left, of each reason."""
    words = []
    for reason, n in sorted(reasons.items()):
        decision, _, why = reason.partition(" ")
        if decision == "leave":
            words.append(f"{n:,} {LEFT_WORDS.get(why, why)}")
    return words


def _decided(item: JsonObject) -> list[str]:
    return [
        item["decision"],
        item["reason"],
        size(item["bytes"]),
        _named(item),
    ]


def _tell_step(step: JsonObject) -> None:
    """A rule, and what it said; marked where it decided."""
    sign = "→" if step["decides"] else " "
    rule = step["rule"].replace("_", " ")
    words = step["words"]
    click.echo(f"{sign} {rule:<12} {words}")


def _tell_record(record: JsonObject) -> None:
    """What a run did to the file."""
    run = record["run"]
    reason = record["reason"]
    did = f"{record['decision']}, {reason}"
    said = record["error"] or record["proof"]
    if said == reason:
        said = ""
    line = f"  run {run:<8} {did} {said}"
    click.echo(line.rstrip())


def _estimated(estimate: JsonObject) -> list[str]:
    """What the run would take: time by the job's past, requests, and their price."""
    lines = []
    seconds = estimate["seconds"]
    by = estimate["by_runs"]
    if seconds is not None:
        about = span(max(1, seconds))
        runs = "its last run" if by == 1 else f"{by} of its runs"
        lines.append(f"It would take about {about}, by {runs}.")
    for store in estimate["stores"]:
        name = store["store"]
        count = store["requests"]
        cost = store["cost"]
        requests = "one request" if count == 1 else f"{count:,} requests"
        line = f"About {requests} to {name}"
        if cost is not None:
            line += f", which cost {cost}"
        lines.append(f"{line}.")
    return lines


def _show_head(run: JsonObject) -> None:
    """What would happen in one sentence, how long it would take, and what to think of before."""
    click.echo(run["sentence"])
    for words in _estimated(run["estimate"]):
        click.echo(words)
    for words in run["cautions"]:
        click.echo(f"○ {words}")


def show_preview(cart: Cart, run: JsonObject) -> None:
    """Removals first, then replacements, then copies."""
    objects = list(cart.client.objects(run["id"], of="previews"))
    order = {"remove": 0, "replace": 1, "copy": 2}
    objects.sort(key=lambda o: order.get(o["decision"], 3))

    def plain() -> None:
        _show_head(run)
        message = run["message"]
        if message and run["outcome"] != "failed":
            click.echo(f"▲ {message}")
        rows = [_decided(item) for item in objects]
        if rows:
            table(["decision", "reason", "size", "file"], rows, numbers=[2], flexible=3)
        left = _left_words(run["reasons"])
        if left:
            click.echo(f"Left as they are: {', '.join(left)}")

    cart.show(run | {"objects": objects}, plain)
