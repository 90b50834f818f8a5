"""One-off transfers and removals."""

from __future__ import annotations

import sys
from itertools import islice
from typing import Any

import click

from pinecart.cli.following import follow, follow_changes, follow_quietly
from pinecart.cli.forms import Field, FormCommand, given_values
from pinecart.cli.frame import DONE, HELD, PROBLEMS, Cart, exit_code, output_option, say
from pinecart.cli.jobs import option_fields
from pinecart.cli.previews import show_preview
from pinecart.cli.runs import tell
from pinecart.json_object import JsonObject


def _carry_fields(forms: JsonObject) -> list[Field]:
    return option_fields(forms, "carry")


def _removal_fields(forms: JsonObject) -> list[Field]:
    return option_fields(forms, "remove")


@click.command(cls=FormCommand, fields=_carry_fields)
@click.argument("source", metavar="FROM")
@click.argument("target", metavar="TO")
@click.option("--make-bucket", is_flag=True, help="Make the destination's bucket if there is none.")
@click.option("--preview", "only_preview", is_flag=True, help="Only show what would be done.")
@click.option("--each", is_flag=True, help="A line for every file.")
@click.option("--detach", is_flag=True, help="Don't wait for its end.")
@click.option(
    "--each-change", is_flag=True, help="Again at each change of its source, until Ctrl-C."
)
@click.option("--keep-as", metavar="JOB", help="Keep it as a job of this name.")
@output_option
def carry(
    cart: Cart,
    source: str,
    target: str,
    only_preview: bool,
    each: bool,
    detach: bool,
    each_change: bool,
    keep_as: str | None,
    **options: Any,
) -> None:
    """Copy a file or a folder's contents, once. Nothing is removed, unless the intent says so.

    FROM is one file, or a folder whose contents arrive. TO ending in / means into it, under the
    same name; without, a file is carried as that name. Both may be paths of this machine that lie
    in a registered folder store.

    \b
    pinecart carry pine://posts/sheets/ pine://office/larkfell/sheets/ --preview
    pinecart carry pine://posts/survey.txt pine://office/larkfell/about.txt
    pinecart carry ./posts/recordings pine://office/larkfell/recordings/ --changed-within "2 days"
    """
    rules = given_values(_carry_fields(cart.forms), options)
    rules |= {"make_bucket": True} if options["make_bucket"] else {}
    places = cart.client.location(source), cart.client.location(target)
    if each_change:
        wanted = {"from": places[0], "to": places[1], **rules}
        follow_changes(cart, cart.client.watch(carry=wanted), places[0])
        return
    told = cart.client.carry(*places, preview=only_preview, **rules)
    for sentence in told["sentences"][:1]:
        say(sentence)
    if told["example"]:
        say(f"For example {told['example']['from']} → {told['example']['to']}")
    if only_preview:
        run = follow_quietly(cart, told["run"], "previews")
        show_preview(cart, run)
        sys.exit(PROBLEMS if run["outcome"] == "failed" else 0)
    run = told["run"] if detach else follow(cart, told["run"]["id"], each=each)
    if keep_as:
        cart.client.keep(run["id"], keep_as)
        say(f"Kept as job {keep_as}. Next: pinecart job show {keep_as}")
    cart.show(run, lambda: tell(run))
    sys.exit(exit_code(run))


@click.command(cls=FormCommand, fields=_removal_fields)
@click.argument("location")
@click.option("--preview", "only_preview", is_flag=True, help="Only show what would be removed.")
@click.option("--yes", is_flag=True, help="Don't ask: remove what it finds.")
@output_option
def remove(cart: Cart, location: str, only_preview: bool, yes: bool, **options: Any) -> None:
    """Remove a file, or the files in a folder: listed, counted, asked for, and set aside so that it
    can be undone.

    \b
    pinecart remove pine://office/larkfell/old/ --preview
    pinecart remove pine://office/larkfell/old/ --take "*.tmp"
    pinecart remove pine://office/larkfell/old/dawn.flac --set-aside 30
    """
    rules = given_values(_removal_fields(cart.forms), options)
    told = cart.client.remove(cart.client.location(location), preview=only_preview, **rules)
    for sentence in told["sentences"]:
        say(sentence)
    if only_preview:
        run = follow_quietly(cart, told["run"], "previews")
        show_preview(cart, run)
        sys.exit(PROBLEMS if run["outcome"] == "failed" else DONE)
    run = follow(cart, told["run"]["id"], each=False)
    if run["state"] == "held":
        run = _asked(cart, run, yes=yes)
    cart.show(run, lambda: tell(run))
    if run["undoable"] and run["set_aside"]:
        say(f"Bring it back within {run['set_aside']} days: pinecart run undo {run['id']}")
    sys.exit(exit_code(run))


def _asked(cart: Cart, run: JsonObject, *, yes: bool) -> JsonObject:
    """Show what waits, and take a yes or a no for exactly that."""
    number = run["id"]
    held = run["held"]
    _show_held(cart, number, held["lists"])
    if not yes and not sys.stdin.isatty():
        say(
            f"It waits for your yes: pinecart run release {number}; or cancel it: "
            f"pinecart run decline {number}"
        )
        sys.exit(HELD)
    days = run["set_aside"]
    fate = f"set aside for {days} days" if days else "deleted for good"
    if not yes and not click.confirm(f"They will be {fate}. Go on?", err=True):
        return cart.client.decline(number, why="answered no")
    cart.client.release(number, held["digest"])
    return follow(cart, number, each=False)


def _show_held(cart: Cart, number: int, lists: list[JsonObject]) -> None:
    """Why it waits, and the first of what it waits with."""
    messages = [held["message"] for held in lists]
    say(" ".join(messages))
    objects = cart.client.objects(number, held=True)
    shown = 0
    for held in islice(objects, 10):
        key = held["key"]
        say(f"  {key}")
        shown += 1
    count = sum(held["objects"] for held in lists)
    more = count - shown
    if more > 0:
        say(f"  and {more:,} more")
