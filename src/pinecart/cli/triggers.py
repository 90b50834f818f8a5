"""What starts jobs besides the clock."""

from __future__ import annotations

import click

from pinecart.cli.frame import Cart, Words, output_option, say
from pinecart.cli.words import age, table
from pinecart.json_object import JsonObject


@click.group(cls=Words)
def trigger() -> None:
    """What starts jobs besides the clock, and whether it is alive.

    \b
    pinecart trigger list
    """


@trigger.command("list")
@output_option
def trigger_list(cart: Cart) -> None:
    """When each last looked, what it noticed, what it waits for, what it started.

    \b
    pinecart trigger list
    """
    found = cart.client.triggers()
    heads = ["job", "looked", "noticed", "started", "now"]
    rows = [[line["job"], *_short(line)] for line in found]
    empty = (
        "No job is started by a change, or after another job. Let one be: pinecart job change "
        "NAME --settled 10"
    )
    cart.show(found, lambda: table(heads, rows, flexible=4) if rows else say(empty))


def _short(line: JsonObject) -> list[str]:
    """When it last looked, noticed something, and started a run; and how it is now."""
    looked = noticed = started = "–"
    if line["looked_at"]:
        looked = age(line["looked_at"])
    if line["noticed_at"]:
        count = line["noticed"]
        when = age(line["noticed_at"])
        noticed = f"{count:,} · {when}"
    if line["run"]:
        run = line["run"]
        when = age(line["run_at"])
        started = f"run {run} · {when}"
    return [looked, noticed, started, _now(line)]


def _now(line: JsonObject) -> str:
    if not line["is_on"]:
        return "the job is off"
    words: str = line["message"] or line["waits"] or line["when"]
    return words


@trigger.command("show")
@click.argument("job")
@output_option
def trigger_show(cart: Cart, job: str) -> None:
    """What starts a job besides the clock, and what came of it.

    \b
    pinecart trigger show dawn
    """
    found = cart.client.triggers(job=job)
    told = found[0] if found else None

    def plain() -> None:
        if told is None:
            say(f"{job} is not started by changes, nor after another job.")
            return
        click.echo(f"{job} runs {told['when']}.")
        for line in _lines(told):
            click.echo(f"  {line}")

    cart.show(told, plain)


def _lines(told: JsonObject) -> list[str]:
    lines = []
    if not told["is_on"]:
        lines.append("The job is off: nothing starts it.")
    if told["how"]:
        lines.append(f"How: {told['how']}.")
    if told["looked_at"]:
        looked, noticed, started, _ = _short(told)
        lines.append(f"Last looked: {looked}")
        lines.append(f"Noticed: {noticed}")
        runs = told["runs"]
        lines.append(f"Started: {started}, {runs:,} in all")
    for text in (told["waits"], told["message"]):
        if text:
            lines.append(text)
    return lines
