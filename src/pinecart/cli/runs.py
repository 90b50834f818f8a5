"""Starting, watching and understanding runs."""

from __future__ import annotations

import json
import sys
import time
from typing import Any

import click

from pinecart.cli.following import follow
from pinecart.cli.forms import Field, FormCommand
from pinecart.cli.frame import Cart, Words, exit_code, output_option, say
from pinecart.cli.words import age, coloured, mark, size, table
from pinecart.json_object import JsonObject


def tell_ended(cart: Cart, run: JsonObject) -> None:
    cart.show(run, lambda: tell(run))
    sys.exit(exit_code(run))


@click.group(cls=Words)
def run() -> None:
    """What was done, is being done, and went wrong.

    \b
    pinecart run list --job dawn
    """


@run.command("list")
@click.option("--job", default="", help="Only runs of this job.")
@click.option(
    "--state", default="", help="Only runs in this state or with this outcome, such as 'failed'."
)
@click.option("--since", default="", help="Ended then or later, such as 2026-03-02.")
@click.option("--until", default="", help="Ended before, such as 2026-03-09.")
@click.option("--limit", default=20, show_default=True, help="How many.")
@output_option
def run_list(cart: Cart, job: str, state: str, since: str, until: str, limit: int) -> None:
    """Runs, newest first.

    \b
    pinecart run list --state problems
    """
    found = cart.client.runs(
        job=job, state=state, since=_start_of(since), until=_start_of(until), limit=limit
    )
    rows = [
        [
            str(r["id"]),
            r["job"],
            mark(r),
            _did(r),
            age(r["ended_at"] or r["started_at"] or r["queued_at"]),
            r["cause"],
        ]
        for r in found
    ]
    heads = ["run", "job", "state", "acted on", "when", "why"]
    cart.show(
        found,
        lambda: (
            table(heads, rows, numbers=[0], flexible=5)
            if rows
            else say("No such runs. Start one with: pinecart start JOB")
        ),
    )


def _start_of(day: str) -> str:
    """A day alone stands for its beginning, in UTC."""
    if len(day) == len("2026-03-02"):
        return f"{day}T00:00:00Z"
    return day


def _did(run: JsonObject) -> str:
    """What it acted on: `12 copied, 3 removed · 4.1 MiB`."""
    words = {"copy": "copied", "replace": "replaced", "remove": "removed", "clear": "cleared"}
    totals = run["totals"]
    told = []
    for decision, word in words.items():
        objects = totals[decision]["objects"]
        if objects:
            told.append(f"{objects:,} {word}")
    if not told:
        return "-"
    text = ", ".join(told)
    carried = totals["copy"]["bytes"] + totals["replace"]["bytes"]
    if carried:
        return f"{text} · {size(carried)}"
    return text


@run.command("show")
@click.argument("number", type=int)
@click.option("--definition", is_flag=True, help="The definition that it ran by.")
@output_option
def run_show(cart: Cart, number: int, definition: bool) -> None:
    """One run: did it work, and what went wrong.

    \b
    pinecart run show 12
    """
    if definition:
        ran_by = cart.client.ran_by(number)
        cart.show(ran_by, lambda: _tell_definition(ran_by))
        return
    found = cart.client.run(number)
    cart.show(found, lambda: tell(found))


def _tell_definition(ran_by: JsonObject) -> None:
    """The definition as it was when the run began, which the job may have left since: its title,
    version, and what it says.
    """
    definition = ran_by["definition"]
    title = definition["title"]
    job = definition["job"]
    version = ran_by["version"]
    if version:
        job += f", version {version}"
    click.echo(f"{title} ({job})")
    for sentence in ran_by["sentences"]:
        click.echo(f"  {sentence}")


def _tell_difference(what: str, difference: JsonObject) -> None:
    """How many, and the first of them."""
    objects = difference["objects"]
    count = f"{objects:,}"
    if objects > MOST_COUNTED:
        count = f"{MOST_COUNTED:,}+"
    click.echo(f"{what}: {count}")
    for file in difference["files"][:20]:
        key = file["key"]
        said = file["error"] or size(file["bytes"])
        click.echo(f"  {key}  {said}")


def tell(run: JsonObject) -> None:
    number = run["id"]
    held = run["held"]
    ended = run["outcome"] or run["state"]
    click.echo(coloured(run["sentence"], ended))
    since = age(run["started_at"] or run["queued_at"])
    click.echo(f"Run {number} of {run['job']}: {run['cause']}, {since}")
    for leg in run["legs"]:
        source = leg["from"]
        destination = leg["to"]
        way = f"  {source}"
        if destination != source:
            way += f" → {destination}"
        click.echo(way)
    for words in run.get("unusual", []):
        click.echo(f"▲ Unusual: {words}")
    click.echo()
    _tell_totals(run["totals"])
    for group in run.get("problem_groups", []):
        count = group["objects"]
        code = group["code"]
        click.echo(f"\n▲ {count:,} × {code}: {group['message']}")
    if held:
        _tell_held(number, held["lists"])
    if run["problems"]:
        click.echo(f"\nEach of them: pinecart run objects {number} --problems")


def _tell_totals(totals: dict[str, dict[str, int]]) -> None:
    """What was removed is told also where it is nothing."""
    heads = ["decision", "files", "bytes"]
    rows = []
    for decision, total in totals.items():
        objects = total["objects"]
        if objects or decision == "remove":
            length = size(total["bytes"])
            rows.append([decision, f"{objects:,}", length])
    table(heads, rows, numbers=[1, 2])


def _tell_held(number: int, lists: list[JsonObject]) -> None:
    """What waits for a yes, and how to give it."""
    has_objects = False
    for held in lists:
        line = f"\n◆ {held['message']}"
        if held["objects"]:
            has_objects = True
            length = size(held["bytes"])
            line += f" ({length})"
        click.echo(line)
    if has_objects:
        click.echo(f"\nSee the list:  pinecart run objects {number} --held")
    click.echo(f"Go on:         pinecart run release {number}")
    click.echo(f"Cancel:        pinecart run decline {number}")


@run.command("follow")
@click.argument("number", type=int)
@click.option("--each", is_flag=True, help="A line for every file.")
@output_option
def run_follow(cart: Cart, number: int, each: bool) -> None:
    """Watch a run until it has ended. Ctrl-C stops watching, not the run.

    \b
    pinecart run follow 12
    """
    run = follow(cart, number, each=each)
    tell_ended(cart, run)


@run.command("objects")
@click.argument("number", type=int)
@click.option(
    "--decision",
    default="",
    help="Only these: a decision or a reason, such as 'replace' or 'changed-there'.",
)
@click.option("--problems", is_flag=True, help="Only those that are problems.")
@click.option("--held", is_flag=True, help="Only those that wait for a person's yes.")
@output_option
def run_objects(cart: Cart, number: int, decision: str, problems: bool, held: bool) -> None:
    """What was done to each file.

    \b
    pinecart run objects 12 --problems
    """
    found = list(cart.client.objects(number, decision=decision, problems=problems, held=held))
    rows = [
        [o["decision"], o["reason"], size(o["bytes"]), o["proof"] or o["error"], o["key"]]
        for o in found
    ]
    heads = ["decision", "reason", "size", "proof", "file"]
    cart.show(
        found,
        lambda: (
            table(heads, rows, numbers=[2], flexible=4)
            if rows
            else say("No such files: nothing was done to any.")
        ),
    )


@run.command("log")
@click.argument("number", type=int)
@click.option("--follow", "watch", is_flag=True, help="Go on as it grows, until the run has ended.")
@click.option(
    "--level",
    type=click.Choice(["info", "warning", "error"]),
    default="info",
    show_default=True,
    help="Lines of this level or a worse one.",
)
@click.option("--text", default="", help="Only lines with this in them.")
@output_option
def run_log(cart: Cart, number: int, watch: bool, level: str, text: str) -> None:
    """A run's log; with --json as JSON lines.

    \b
    pinecart run log 12 --follow
    pinecart run log 12 --level warning --text aldermurr
    """
    after = 0
    while True:
        ended = cart.client.run(number)["state"] == "ended"
        before = after
        lines, after = cart.client.log(number, after=after, level=level, text=text)
        for line in lines:
            extra = " ".join(
                f"{k}={v}"
                for k, v in line.items()
                if k not in ("at", "level", "run", "action", "message") and v != ""
            )
            click.echo(
                json.dumps(line, ensure_ascii=False)
                if cart.as_json
                else f"{line['at'][11:23]}  {line['message']}  {extra}".rstrip()
            )
        is_all = not lines and after == before
        if is_all and (ended or not watch):
            return
        if is_all:
            time.sleep(0.5)


def _report_fields(forms: JsonObject) -> list[Field]:
    formats = [{"value": f["name"], "title": f["title"]} for f in forms["report_formats"]]
    return [
        {
            "name": "as",
            "type": "choice",
            "title": "Format",
            "help": "Its format.",
            "example": "",
            "default": formats[0]["value"],
            "choices": formats,
        }
    ]


@run.command("report", cls=FormCommand, fields=_report_fields)
@click.argument("number", type=int)
@click.option(
    "--output", "-o", type=click.File("w"), default="-", help="A file; without, standard output."
)
@click.pass_obj
def run_report(cart: Cart, number: int, output: Any, **options: Any) -> None:
    """A run's report: every file, its action, bytes, seconds, checksum, proof, error.

    \b
    pinecart run report 12 --as csv -o run-12.csv
    """
    kind = _report_fields(cart.forms)[0]
    wanted = options["as"] or kind["default"]
    for piece in cart.client.report(number, wanted):
        output.write(piece)


@run.command("report-schema")
def run_report_schema() -> None:
    """The JSON Schema of a line of a report as JSON lines.

    \b
    pinecart run report-schema > report.schema.json
    """
    schema = click.get_current_context().obj.client.report_schema()
    click.echo(json.dumps(schema, indent=2))


MOST_COUNTED = 10_000
DIFFERENCES = {
    "new_problems": "▲ Problems that run {other} didn't have",
    "gone_problems": "✓ Problems of run {other} that are gone",
    "carried_here": "Carried in run {run}, and not in {other}",
    "carried_there": "Carried in run {other}, and not in {run}",
}


@run.command("compare")
@click.argument("number", type=int)
@click.argument("other", type=int, required=False)
@output_option
def run_compare(cart: Cart, number: int, other: int | None) -> None:
    """What a run carried and another didn't; which problems are new. Without OTHER: the run of its
    job before it.

    \b
    pinecart run compare 12
    """
    found = cart.client.compare(number, other)

    def plain() -> None:
        for name, words in DIFFERENCES.items():
            what = words.format(**found)
            _tell_difference(what, found[name])

    cart.show(found, plain)
