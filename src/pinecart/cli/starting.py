"""Starting runs of jobs."""

from __future__ import annotations

import sys
from typing import Any

import click

from pinecart.cli.following import follow, follow_changes
from pinecart.cli.frame import Cart, output_option, say
from pinecart.cli.previews import part_of, part_options
from pinecart.cli.runs import tell_ended
from pinecart.json_object import JsonObject


@click.command()
@click.argument("job")
@click.option(
    "--follow",
    "watch",
    is_flag=True,
    help="Watch it until it has ended; the exit code then tells how.",
)
@click.option("--each", is_flag=True, help="While watching, a line for every file.")
@click.option(
    "--or-follow", is_flag=True, help="If a run of it is under way already, watch that one."
)
@click.option(
    "--each-change", is_flag=True, help="Start it at each change of its source, until Ctrl-C."
)
@part_options
@output_option
def start(
    cart: Cart,
    job: str,
    watch: bool,
    each: bool,
    or_follow: bool,
    each_change: bool,
    **part: Any,
) -> None:
    """Start a run of a job, or of a part of it.

    \b
    pinecart start dawn --follow
    pinecart start dawn --or-follow
    pinecart start dawn --first 10 --follow
    pinecart start dawn --each-change
    """
    if each_change:
        follow_changes(cart, cart.client.watch(job), job)
        return
    asked = part_of(part)
    made = _started(cart, job, asked, watch=watch or each, or_follow=or_follow)
    number = made["id"]
    if watch or each or or_follow:
        run = follow(cart, number, each=each)
        tell_ended(cart, run)
        return
    words = f"Run {number} of {job} is queued. Watch it with: pinecart run follow {number}"
    cart.show(made, lambda: say(words))


def _started(cart: Cart, job: str, part: JsonObject, *, watch: bool, or_follow: bool) -> JsonObject:
    """A new run; or the one that is under way, if that is wanted."""
    from pinecart.client import Conflict

    try:
        return cart.client.start(job, **part)
    except Conflict as exc:
        number = exc.problem.get("run")
        if not number:
            raise
        is_terminal = sys.stdin.isatty() and sys.stderr.isatty()
        watches = or_follow
        if watch and not or_follow and is_terminal:
            question = f"{exc.message} Watch that one?"
            watches = click.confirm(question, err=True)
        if not watches:
            raise
        return cart.client.run(number)
