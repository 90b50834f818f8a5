"""Audits: are both sides still the same?"""

from __future__ import annotations

import sys

import click

from pinecart.cli.following import follow_quietly
from pinecart.cli.frame import PROBLEMS, Cart, Words, output_option, say
from pinecart.cli.previews import wait_option
from pinecart.cli.words import age, size, table
from pinecart.json_object import JsonObject


@click.group(cls=Words)
def audit() -> None:
    """Compare both sides of a job, and what is remembered, without transferring.

    \b
    pinecart audit start dawn
    """


@audit.command("start")
@click.argument("places", nargs=-1, required=True, metavar="JOB | HERE THERE")
@click.option(
    "--depth",
    type=click.Choice(["names", "metadata", "content"]),
    default="names",
    show_default=True,
    help="How closely; each looks at what those before do.",
)
@click.option(
    "--sample",
    type=click.IntRange(1, 100),
    default=100,
    show_default=True,
    help="Of so many in a hundred files more than names and sizes is compared.",
)
@wait_option
@output_option
def audit_start(cart: Cart, places: tuple[str, ...], depth: str, sample: int, wait: bool) -> None:
    """Audit a job, or two places, now, and tell what was found.

    \b
    pinecart audit start dawn --depth content --sample 10
    pinecart audit start pine://posts/dawn/ pine://office/dawn/
    """
    client = cart.client
    if len(places) > 2:
        raise click.UsageError("Name a job, or two places.")
    if len(places) == 2:
        here, there = map(client.location, places)
        begun = client.audit_places(here, there, depth=depth, sample=sample)
    else:
        job = places[0]
        begun = client.start_audit(job, wait=wait, depth=depth, sample=sample)
    found = follow_quietly(cart, begun, "audits")
    _show(cart, found)


@audit.command("repair")
@click.argument("number", type=int)
@output_option
def audit_repair(cart: Cart, number: int) -> None:
    """Look ahead at what it would take so that there is what is here, of just what was found.

    \b
    pinecart audit repair 14
    """
    begun = cart.client.preview_repair(number)
    found = follow_quietly(cart, begun, "previews")
    preview = found["id"]
    objects = cart.client.objects(preview, of="previews")
    rows = [[o["decision"], o["reason"], size(o["bytes"]), o["key"]] for o in objects]

    def plain() -> None:
        click.echo(found["sentence"])
        table(["decision", "reason", "size", "file"], rows, numbers=[2], flexible=3)
        say(f"Nothing is done yet. To do just this: pinecart run exactly {preview}")

    cart.show(found, plain)


@audit.command("list")
@click.option("--job", default="", help="Only audits of this job.")
@output_option
def audit_list(cart: Cart, job: str) -> None:
    """Audits, newest first.

    \b
    pinecart audit list --job dawn
    """
    found = cart.client.audits(job=job)
    rows = [[str(a["id"]), a["job"], f"{a['findings']:,}", age(a["ended_at"])] for a in found]
    cart.show(
        found, lambda: table(["audit", "job", "findings", "when"], rows, numbers=[0, 2], flexible=1)
    )


@audit.command("show")
@click.argument("number", type=int)
@output_option
def audit_show(cart: Cart, number: int) -> None:
    """What an audit found. "here" is the job's From, "there" its To.

    \b
    pinecart audit show 14
    """
    _show(cart, cart.client.audit(number))


def _row_of(finding: JsonObject) -> list[str]:
    return [
        finding["reason"],
        size(finding["bytes"]),
        finding["key"],
        finding["message"],
    ]


def _show(cart: Cart, found: JsonObject) -> None:
    outcome = found["outcome"]
    findings = list(cart.client.objects(found["id"], of="audits"))
    rows = [_row_of(finding) for finding in findings]

    def plain() -> None:
        click.echo(found["sentence"])
        message = found["message"]
        if message and outcome != "failed":
            click.echo(f"▲ {message}")
        for leg in found["legs"]:
            here = leg["from"]
            there = leg["to"]
            click.echo(f"  here {here} · there {there}")
        if rows:
            click.echo()
            table(["finding", "size", "file", ""], rows, numbers=[1], flexible=2)

    named = [{**finding, "finding": finding["reason"]} for finding in findings]
    cart.show(found | {"findings": named}, plain)
    is_bad = outcome in ("problems", "failed", "stopped")
    sys.exit(PROBLEMS if is_bad else 0)
