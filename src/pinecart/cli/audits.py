"""Audits: are both sides still the same?"""

from __future__ import annotations

import sys

import click

from pinecart.cli.following import follow_quietly
from pinecart.cli.frame import PROBLEMS, Cart, Words, output_option
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
@click.argument("job")
@wait_option
@output_option
def audit_start(cart: Cart, job: str, wait: bool) -> None:
    """Audit a job now, and tell what was found.

    \b
    pinecart audit start dawn
    """
    _show(cart, follow_quietly(cart, cart.client.start_audit(job, wait=wait), "audits"))


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
    findings = list(cart.client.objects(found["id"], of="audits"))
    rows = [_row_of(finding) for finding in findings]

    def plain() -> None:
        click.echo(found["sentence"])
        if found["message"] and found["outcome"] != "failed":
            click.echo(f"▲ {found['message']}")
        for leg in found["legs"]:
            here, there = leg["from"], leg["to"]
            click.echo(f"  here {here} · there {there}")
        if rows:
            click.echo()
            table(["finding", "size", "file", ""], rows, numbers=[1], flexible=2)

    named = [{**finding, "finding": finding["reason"]} for finding in findings]
    cart.show(found | {"findings": named}, plain)
    is_bad = found["outcome"] in ("problems", "failed", "stopped")
    sys.exit(PROBLEMS if is_bad else 0)
