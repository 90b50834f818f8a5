"""What starts by itself, and when."""

from __future__ import annotations

import click

from pinecart.cli.frame import Cart, Words, output_option, say
from pinecart.cli.jobs import moment
from pinecart.cli.words import age, table


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
