"""Jobs: define, change, preview, and when they are due."""

from __future__ import annotations

import sys
from typing import Any

import click

from pinecart.cli.forms import Field, FormCommand, given_values
from pinecart.cli.frame import PROBLEMS, Cart, Words, output_option, say
from pinecart.cli.words import age, mark, span, table
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
        fields = kind["fields"]
        given = given_values(fields, options)
        needed = [field["name"] for field in fields if field["is_needed"]]
        is_old = name == old_kind
        is_named = any(field in given for field in needed or given)
        if is_named or (given and is_old):
            kept = old if old and is_old else {}
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
    words = f"Saved {name}, version {made['version']}."
    cart.show(made, lambda: say(words))


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

    def plain() -> None:
        if found:
            heads = ["job", "from → to", "intent", "last run", "took", "next"]
            rows = [_line(line) for line in found]
            table(heads, rows, flexible=1)
        elif given:
            say("No job is like that. All of them: pinecart job list")
        else:
            define = "pinecart job define NAME --from LOCATION --to LOCATION"
            say(f"No jobs yet. Define one with: {define}")

    cart.show(found, plain)


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
    """The first leg's places stand for all where there are several: a table has one line for each
    job.
    """
    first, *others = legs
    places = f"{first['from']} → {first['to']}"
    if others:
        return f"{places} and {len(others)} more"
    return places


def _last(run: JsonObject | None) -> str:
    """How its last run ended and when; a run that hasn't ended is told by when it was queued."""
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
    due = found["next_due"]
    if found["is_on"]:
        if due:
            return age(due)
        return "only when started"
    switched = found["switched"]
    since = age(switched["at"])
    by = switched["by"]
    words = f"off since {since}, {by}"
    if switched["why"]:
        words += f": {switched['why']}"
    return words
