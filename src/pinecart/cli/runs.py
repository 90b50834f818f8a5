"""Starting, watching and understanding runs."""

from __future__ import annotations

import json
import sys
import time
from typing import Any

import click

from pinecart.cli.following import follow, follow_quietly
from pinecart.cli.forms import Field, FormCommand
from pinecart.cli.frame import DONE, PROBLEMS, Cart, Words, exit_code, output_option, say
from pinecart.cli.previews import show_preview
from pinecart.cli.words import age, bytes_in, coloured, mark, size, table
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
    return f"{day}T00:00:00Z" if len(day) == len("2026-03-02") else day


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
    return f"{text} · {size(carried)}" if carried else text


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
    definition = ran_by["definition"]
    version = ran_by["version"]
    of = f", version {version}" if version else ""
    click.echo(f"{definition['title']} ({definition['job']}{of})")
    for sentence in ran_by["sentences"]:
        click.echo(f"  {sentence}")


def tell(run: JsonObject) -> None:
    number, held = run["id"], run["held"]
    ended = run["outcome"] or run["state"]
    click.echo(coloured(run["sentence"], ended))
    since = age(run["started_at"] or run["queued_at"])
    click.echo(f"Run {number} of {run['job']}: {run['cause']}, {since}")
    for leg in run["legs"]:
        source, destination = leg["from"], leg["to"]
        is_one_place = destination == source
        click.echo(f"  {source}" if is_one_place else f"  {source} → {destination}")
    click.echo()
    _tell_totals(run["totals"])
    for group in run.get("problem_groups", []):
        click.echo(f"\n▲ {group['objects']:,} × {group['code']}: {group['message']}")
    if held:
        _tell_held(number, held["lists"])
    if run["problems"]:
        click.echo(f"\nEach of them: pinecart run objects {number} --problems")


def _tell_totals(totals: dict[str, dict[str, int]]) -> None:
    """What was removed is told also where it is nothing."""
    rows = []
    for decision, total in totals.items():
        objects = total["objects"]
        length = size(total["bytes"])
        if objects or decision == "remove":
            rows.append([decision, f"{objects:,}", length])
    table(["decision", "files", "bytes"], rows, numbers=[1, 2])


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
            difference = found[name]
            click.echo(f"{words.format(**found)}: {difference['objects']:,}")
            for file in difference["files"][:20]:
                click.echo(f"  {file['key']}  {file['error'] or size(file['bytes'])}")

    cart.show(found, plain)


@run.command("keep")
@click.argument("number", type=int)
@click.argument("job")
@output_option
def run_keep(cart: Cart, number: int, job: str) -> None:
    """Keep a carry as a job, to run it again.

    \b
    pinecart run keep 12 sheets-home
    """
    made = cart.client.keep(number, job)
    words = f"Kept as job {job}. Next: pinecart job show {job}"
    cart.show(made, lambda: say(words))


@run.command("stop")
@click.argument("number", type=int)
@click.option("--at-once", is_flag=True, help="Nor is what is in flight finished.")
@output_option
def run_stop(cart: Cart, number: int, at_once: bool) -> None:
    """Stop a run cleanly: what is in flight is finished, the rest is left for another run.

    \b
    pinecart run stop 12
    """
    told = cart.client.stop(number, at_once=at_once)
    cart.show(
        told,
        lambda: say(
            f"Run {number} is told to stop. What it has carried stays; the next run goes on "
            "from there."
        ),
    )


@run.command("pause")
@click.argument("number", type=int)
@output_option
def run_pause(cart: Cart, number: int) -> None:
    """Pause a run: what is in flight is finished.

    \b
    pinecart run pause 12
    """
    told = cart.client.pause(number)
    words = f"Run {number} pauses. Go on with: pinecart run resume {number}"
    cart.show(told, lambda: say(words))


@run.command("resume")
@click.argument("number", type=int)
@click.option("--follow", "watch", is_flag=True, help="Watch it until it has ended.")
@output_option
def run_resume(cart: Cart, number: int, watch: bool) -> None:
    """Let a paused run go on.

    \b
    pinecart run resume 12 --follow
    """
    run = cart.client.resume(number)
    _going_on(cart, run, watch)


@run.command("exactly")
@click.argument("preview", type=int)
@click.option("--follow", "watch", is_flag=True, help="Watch it until it has ended.")
@output_option
def run_exactly(cart: Cart, preview: int, watch: bool) -> None:
    """Carry out just what a preview found. What is no longer as it was seen then is listed as
    overtaken, and left.

    \b
    pinecart run exactly 12 --follow
    """
    made = cart.client.start_exactly(preview)
    number = made["id"]
    if watch:
        tell_ended(cart, follow(cart, number, each=False))
        return
    words = f"Run {number} is queued. Watch it with: pinecart run follow {number}"
    cart.show(made, lambda: say(words))


@run.command("retry")
@click.argument("number", type=int)
@click.option("--follow", "watch", is_flag=True, help="Watch it until it has ended.")
@output_option
def run_retry(cart: Cart, number: int, watch: bool) -> None:
    """Do the same once more: what failed is tried again, what is done is found done.

    \b
    pinecart run retry 12 --follow
    """
    run = cart.client.retry(number)
    _going_on(cart, run, watch)


def _going_on(cart: Cart, run: JsonObject, watch: bool) -> None:
    if watch:
        ended = follow(cart, run["id"], each=False)
        tell_ended(cart, ended)
    number = run["id"]
    words = f"Run {number} is queued. Watch it with: pinecart run follow {number}"
    cart.show(run, lambda: say(words))


@run.command("release")
@click.argument("number", type=int)
@click.option("--digest", help="Of the list you saw; without, you are shown it and asked.")
@click.option("--why", default="", help="A reason, for the trail.")
@click.option("--follow", "watch", is_flag=True, help="Watch it until it has ended.")
@output_option
def run_release(cart: Cart, number: int, digest: str | None, why: str, watch: bool) -> None:
    """Say yes to what a run waits with.

    \b
    pinecart run release 12 --why "the old season was moved" --follow
    """
    found = cart.client.run(number)
    if not found["held"]:
        raise click.UsageError(
            f"Run {number} does not wait for anybody. See it with: pinecart run show {number}"
        )
    if digest is None:
        tell(found)
        if not sys.stdin.isatty():
            raise click.UsageError(
                f"Name the list that you saw: --digest {found['held']['digest']}"
            )
        click.confirm("\nGo on with exactly this?", abort=True, err=True)
    told = cart.client.release(number, digest or found["held"]["digest"], why=why)
    _going_on(cart, told, watch)


@run.command("decline")
@click.argument("number", type=int)
@click.option("--why", default="", help="A reason, for the trail.")
@output_option
def run_decline(cart: Cart, number: int, why: str) -> None:
    """Say no to what a run waits with: it is not done, and the run ends.

    \b
    pinecart run decline 12 --why "the disk was not mounted"
    """
    told = cart.client.decline(number, why=why)
    cart.show(told, lambda: say(f"Run {number} has ended; what it waited with was not done."))


@run.command("undo")
@click.argument("number", type=int)
@click.option("--preview", "only_preview", is_flag=True, help="Only show what would be undone.")
@click.option("--yes", is_flag=True, help="Don't ask.")
@output_option
def run_undo(cart: Cart, number: int, only_preview: bool, yes: bool) -> None:
    """Take back what a run did, as far as it still lies as the run left it.

    \b
    pinecart run undo 12 --preview
    """
    if only_preview or not yes:
        preview = cart.client.undo(number, preview=True)
        seen = follow_quietly(cart, preview, "previews")
        show_preview(cart, seen)
        if only_preview:
            sys.exit(PROBLEMS if seen["outcome"] == "failed" else DONE)
        if not sys.stdin.isatty():
            raise click.UsageError("Say --yes to do it.")
        click.confirm("Undo exactly this?", abort=True, err=True)
    undoing = cart.client.undo(number)["id"]
    run = follow(cart, undoing, each=False)
    tell_ended(cart, run)


@run.command("limit")
@click.argument("number", type=int)
@click.argument("rate")
@output_option
def run_limit(cart: Cart, number: int, rate: str) -> None:
    """Limit how fast a run moves bytes, from now on: a size per second, or none.

    \b
    pinecart run limit 12 "5 MiB"
    pinecart run limit 12 none
    """
    most = None if rate == "none" else bytes_in(rate)
    told = cart.client.limit(number, most)
    words = "as fast as it can"
    if told["rate"]:
        words = f"at most {size(told['rate'])} a second"
    cart.show(told, lambda: say(f"Run {number} moves {words} from now on."))
