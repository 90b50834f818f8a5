"""Jobs: define, change, preview, and when they are due."""

from __future__ import annotations

import sys
from typing import Any

import click

from pinecart.cli.following import follow_quietly
from pinecart.cli.forms import Field, FormCommand, given_values
from pinecart.cli.frame import PROBLEMS, Cart, Words, output_option, say
from pinecart.cli.words import age, mark, size, span, table
from pinecart.json_object import JsonObject


@click.group(cls=Words)
def job() -> None:
    """What to transfer, by which rules, and when.

    \b
    pinecart job define dawn.yaml
    """


def _read(file: Any) -> JsonObject:
    import yaml

    try:
        found = yaml.safe_load(file)
    except yaml.YAMLError as exc:
        raise click.UsageError(f"{file.name} is no YAML: {exc}") from exc
    if not isinstance(found, dict):
        raise click.UsageError(
            f"{file.name} holds no job: it must have the keys job, legs and so on. See: "
            "pinecart job define --help"
        )
    return found


def option_fields(forms: JsonObject, use: str) -> list[Field]:
    """The options of a job ("job"), a one-off transfer ("carry") or removal ("remove")."""
    return [option for option in forms["job_options"] if use in option["used_in"]]


def _trigger_fields(forms: JsonObject) -> list[Field]:
    """Each once, also where several kinds have it."""
    found: dict[str, Field] = {}
    for kind in forms["triggers"]:
        for field in kind["fields"]:
            found.setdefault(field["name"], field)
    return list(found.values())


def _job_fields(forms: JsonObject) -> list[Field]:
    return [*option_fields(forms, "job"), *_trigger_fields(forms)]


def job_options(command: Any) -> Any:
    """What every job may be given; the rest the service describes."""
    for option in (
        click.option("--why", help="Why it exists."),
        click.option("--title", help="A free title."),
        click.option("--label", "labels", multiple=True, help="A label; may be given again."),
        click.option("--to", "to", help="Where to put: pine://STORE/PATH."),
        click.option("--from", "from_", help="Where to take from: pine://STORE/PATH."),
    ):
        command = option(command)
    return command


def _definition(cart: Cart, old: JsonObject | None, options: JsonObject) -> JsonObject:
    """A definition from options, over an old one if there is one."""
    made: JsonObject = dict(old or {})
    first, *others = made.get("legs") or [{}]
    of_jobs = option_fields(cart.forms, "job")
    fields = [field for field in of_jobs if not field["is_of_leg"]]
    made |= given_values(fields, options)
    for key in ("why", "title"):
        text = options[key]
        if text:
            made[key] = text
    labels = options["labels"]
    if labels:
        made["labels"] = list(labels)
    made |= _schedule(cart, made.get("schedule"), options)
    made["legs"] = [first | _leg(cart, options), *others]
    return made


def _leg(cart: Cart, options: JsonObject) -> JsonObject:
    """What the options say of the leg."""
    fields = [field for field in option_fields(cart.forms, "job") if field["is_of_leg"]]
    leg = given_values(fields, options)
    if options["from_"]:
        leg["from"] = cart.client.location(options["from_"])
    if options["to"]:
        leg["to"] = cart.client.location(options["to"])
    return leg


def _schedule(cart: Cart, old: JsonObject | None, options: JsonObject) -> JsonObject:
    """The trigger of which fields were given, over the old one if that is of the same kind."""
    kinds = cart.forms["triggers"]
    usual = kinds[0]["kind"]
    old_kind = old.get("kind", usual) if old else None
    for kind in kinds:
        name = kind["kind"]
        given = given_values(kind["fields"], options)
        is_named = any(field["is_needed"] and field["name"] in given for field in kind["fields"])
        if is_named or (given and name == old_kind):
            kept = old if old and name == old_kind else {}
            named = {} if name == usual else {"kind": name}
            return {"schedule": kept | named | given}
    return {}


@job.command("define", cls=FormCommand, fields=_job_fields)
@click.argument("name_or_file")
@job_options
@click.option("--check", is_flag=True, help="Only check it, and say what it would do.")
@output_option
def job_define(cart: Cart, name_or_file: str, check: bool, **options: Any) -> None:
    """Define a job, from a file (YAML) or from options.

    \b
    pinecart job define dawn.yaml
    pinecart job define dawn --from pine://posts/ --to pine://office/larkfell/ \\
        --cron "30 5 * * *" --zone Europe/London
    \b
    A job file:
      job: dawn
      intent: renew
      legs:
        - from: pine://posts/
          to: pine://office/larkfell/
          leave-out: ["*.tmp"]
      schedule: {cron: "30 5 * * *", zone: Europe/London}
    """
    if name_or_file.endswith((".yaml", ".yml")) or name_or_file == "-":
        with click.open_file(name_or_file) as file:
            definition = _read(file)
    else:
        definition = {"job": name_or_file, **_definition(cart, None, options)}
    if check:
        checked = cart.client.check_job(definition)
        cart.show(checked, lambda: _tell_checked(checked))
        return
    made = cart.client.define_job(definition)
    cart.show(
        made,
        lambda: say(
            f"Saved {made['job']}. Next: pinecart preview {made['job']}, or pinecart start "
            f"{made['job']} --follow"
        ),
    )


@job.command("change", cls=FormCommand, fields=_job_fields)
@click.argument("name")
@click.argument("file", type=click.File(), required=False)
@job_options
@click.option("--no-schedule", is_flag=True, help="No longer run by the clock.")
@output_option
def job_change(cart: Cart, name: str, file: Any, no_schedule: bool, **options: Any) -> None:
    """Change a job, by a file that replaces its definition or by options over it.

    \b
    pinecart job change dawn --cron "0 6 * * *" --zone Europe/London
    """
    old = cart.client.job(name)["definition"]
    definition = _read(file) if file else _definition(cart, old, options)
    if no_schedule:
        definition["schedule"] = None
    made = cart.client.change_job(name, definition)
    version = made["version"]
    cart.show(made, lambda: say(f"Saved {name}, version {version}."))


@job.command("check")
@click.argument("name_or_file")
@output_option
def job_check(cart: Cart, name_or_file: str) -> None:
    """Look a job, or a job file, over without running it: all that is wrong at once. Exit 1 when
    something can't go well.

    \b
    pinecart job check dawn
    pinecart job check dawn.yaml
    """
    if name_or_file.endswith((".yaml", ".yml")) or name_or_file == "-":
        with click.open_file(name_or_file) as file:
            definition = _read(file)
    else:
        definition = cart.client.job(name_or_file)["definition"]
    looked = cart.client.look_over_job(definition)
    findings = looked["findings"]

    def plain() -> None:
        _tell_checked(looked)
        for finding in findings:
            sign = "✗" if finding["is_problem"] else "▲"
            click.echo(f"{sign} {finding['message']} ({finding['code']})")
        if not findings:
            click.echo("✓ Its stores answer, and nothing is in its way.")

    cart.show(looked, plain)
    sys.exit(PROBLEMS if any(finding["is_problem"] for finding in findings) else 0)


@job.command("list")
@click.option("--find", default="", help="Only those with this in name, title, why or places.")
@click.option("--label", default="", help="Only those with this label.")
@click.option("--store", default="", help="Only those that take from it or put to it.")
@click.option("--owner", default="", help="Only this person's.")
@click.option("--last", default="", help="Only those whose last run ended so; never: none.")
@click.option("--off", is_flag=True, help="Only those that are switched off.")
@click.option(
    "--sort", type=click.Choice(["job", "next", "last", "outcome"]), default="job", help="Order."
)
@output_option
def job_list(cart: Cart, off: bool, **wanted: Any) -> None:
    """Jobs, with how each last ended and when it is next due.

    \b
    pinecart job list
    pinecart job list --last problems --sort last
    """
    given = {name: value for name, value in wanted.items() if value}
    if off:
        given["is_on"] = False
    found = cart.client.jobs(**given)
    heads = ["job", "from → to", "intent", "last run", "took", "next"]
    rows = [_line(line) for line in found]
    empty = "No jobs yet. Define one with: pinecart job define NAME --from LOCATION --to LOCATION"
    if given:
        empty = "No job is like that. All of them: pinecart job list"
    cart.show(found, lambda: table(heads, rows, flexible=1) if rows else say(empty))


def _line(job: JsonObject) -> list[str]:
    last = job["recent"][-1] if job["recent"] else None
    due = job["next_due"]
    following = age(due) if due else "-"
    return [
        job["job"],
        _legs(job["legs"]),
        job["intent"],
        _last(last),
        _took(last),
        following if job["is_on"] else "off",
    ]


def _legs(legs: list[JsonObject]) -> str:
    first, *others = legs
    places = f"{first['from']} → {first['to']}"
    return f"{places} and {len(others)} more" if others else places


def _last(run: JsonObject | None) -> str:
    if run is None:
        return "never ran"
    when = age(run["ended_at"] or run["queued_at"])
    return f"{mark(run)}, {when}"


def _took(run: JsonObject | None) -> str:
    if run is None or run["seconds"] is None:
        return ""
    return span(run["seconds"])


@job.command("show")
@click.argument("name")
@click.option("--yaml", "as_yaml", is_flag=True, help="As a job file.")
@output_option
def job_show(cart: Cart, name: str, as_yaml: bool) -> None:
    """One job: what it does, in sentences, and how it has been.

    \b
    pinecart job show dawn
    """
    found = cart.client.job(name)

    def plain() -> None:
        if as_yaml:
            click.echo(cart.client.export_jobs(name)["text"].rstrip())
            return
        click.echo(f"{found['title']} ({found['job']}, version {found['version']})")
        tell_sentences(found)
        why = found["definition"]["why"]
        if why:
            click.echo(f"Why: {why}")
        last = found["last_run"]
        click.echo(f"Last run: {last['sentence'] if last else 'never ran'}")
        click.echo(f"Next due: {_due(found)}")

    cart.show(found, plain)


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
    part = {name: given[name] for name in ("first", "prefix", "leg") if given[name]}
    if given["only"]:
        part["only"] = list(given["only"])
    return part


@click.command()
@click.argument("job")
@part_options
@wait_option
@output_option
def preview(cart: Cart, job: str, wait: bool, **part: Any) -> None:
    """What a run of a job, or of a part of it, would do, file by file, without doing it.

    \b
    pinecart preview dawn
    pinecart preview dawn --prefix 2026-W10/
    """
    begun = cart.client.start_preview(job, wait=wait, **part_of(part))
    run = follow_quietly(cart, begun, "previews")
    show_preview(cart, run)
    has_failed = run["outcome"] == "failed"
    sys.exit(PROBLEMS if has_failed else 0)


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
                sign = "→" if step["decides"] else " "
                click.echo(f"{sign} {step['rule'].replace('_', ' '):<12} {step['words']}")
            for record in one["records"][:10]:
                said = record["error"] or record["proof"]
                did = f"{record['decision']}, {record['reason']}"
                click.echo(f"  run {record['run']:<8} {did} {said}".rstrip())

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
}


def _named(o: JsonObject) -> str:
    """Its name there; and its name at the source, where that is another."""
    return (
        f"{o['key']} ({o['message']})"
        if o["message"].startswith("from ") and not o["error"]
        else str(o["key"])
    )


def _left_words(reasons: dict[str, int]) -> list[str]:
    """How many objects are left, of each reason."""
    words = []
    for reason, n in sorted(reasons.items()):
        decision, _, why = reason.partition(" ")
        if decision == "leave":
            words.append(f"{n:,} {LEFT_WORDS.get(why, why)}")
    return words


def _tell_checked(checked: JsonObject) -> None:
    tell_sentences(checked)
    for due in checked["due"]:
        click.echo(f"  next: {moment(due)} UTC")


def tell_sentences(job: JsonObject) -> None:
    """What it will do; what removes or loses something is marked."""
    for sentence in job["sentences"]:
        sign = "▲ " if sentence in job["dangers"] else "  "
        click.echo(f"{sign}{sentence}")


def moment(text: str) -> str:
    """`2026-03-02 05:30`."""
    return text[:16].replace("T", " ")


def _due(found: JsonObject) -> str:
    if not found["is_on"]:
        switched = found["switched"]
        why = f": {switched['why']}" if switched["why"] else ""
        return f"off since {age(switched['at'])}, {switched['by']}{why}"
    due = found["next_due"]
    return age(due) if due else "only when started"


def _decided(item: JsonObject) -> list[str]:
    return [
        item["decision"],
        item["reason"],
        size(item["bytes"]),
        _named(item),
    ]


def show_preview(cart: Cart, run: JsonObject) -> None:
    """Removals first, then replacements, then copies."""
    objects = list(cart.client.objects(run["id"], of="previews"))
    order = {"remove": 0, "replace": 1, "copy": 2}
    objects.sort(key=lambda o: order.get(o["decision"], 3))

    def plain() -> None:
        click.echo(run["sentence"])
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


@click.group(cls=Words)
def schedule() -> None:
    """What runs by the clock.

    \b
    pinecart schedule list
    """


@schedule.command("list")
@click.option("--days", type=click.IntRange(1, 31), default=7, help="How far to look ahead.")
@output_option
def schedule_list(cart: Cart, days: int) -> None:
    """What will run when, the next first.

    \b
    pinecart schedule list
    """
    found = cart.client.schedule(days=days)
    heads = ["next", "at (UTC)", "job", "when", "starts"]
    rows = []
    for line in found:
        due = line["next_due"]
        following = age(due) if line["is_on"] else "off"
        starts = f"{len(line['due'])} in {days} d"
        rows.append([following, moment(due), line["job"], line["when"], starts])
    empty = "No job has a schedule. Give one with: pinecart job change NAME --cron 'daily 05:30'"
    cart.show(found, lambda: table(heads, rows, flexible=2) if rows else say(empty))


@schedule.command("show")
@click.argument("job")
@output_option
def schedule_show(cart: Cart, job: str) -> None:
    """When a job starts by itself: in words, and its next ten times.

    \b
    pinecart schedule show dawn
    """
    found = cart.client.job(job)
    told = {"job": job, "when": found["when"], "due": found["due"]}

    def plain() -> None:
        if not found["when"]:
            say(f"{job} runs when somebody starts it.")
            return
        click.echo(f"{job} runs {found['when']}.")
        for due in found["due"]:
            click.echo(f"  {moment(due)} UTC")

    cart.show(told, plain)
