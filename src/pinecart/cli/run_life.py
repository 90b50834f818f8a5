"""What is done with a run: stopped, gone on with, answered, undone."""

from __future__ import annotations

import sys

import click

from pinecart.cli.following import follow, follow_quietly
from pinecart.cli.frame import DONE, PROBLEMS, Cart, output_option, say
from pinecart.cli.previews import show_preview
from pinecart.cli.runs import run, tell, tell_ended
from pinecart.cli.words import bytes_in, size
from pinecart.json_object import JsonObject

__all__ = ["run"]


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
    """Follows it to its end where that is wanted; else says how to."""
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
