"""One-off transfers, and how a place may be written on this machine."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import click

from pinecart.cli.following import follow, follow_quietly
from pinecart.cli.frame import PROBLEMS, Cart, exit_code, output_option, say
from pinecart.cli.jobs import leg_options, leg_rules, show_preview
from pinecart.cli.runs import tell

SCHEME = "pine://"


@click.command()
@click.argument("source", metavar="FROM")
@click.argument("target", metavar="TO")
@leg_options
@click.option("--intent", help="top-up: add what is missing; renew (default): also replace what changed.")
@click.option("--compare", help="since-last-run (default), size-and-time, checksum, size or always.")
@click.option("--on-difference", help="keep, replace-changed (default), replace-all, keep-both or refuse.")
@click.option("--preview", "only_preview", is_flag=True, help="Only show what would be done.")
@click.option("--each", is_flag=True, help="A line for every file.")
@click.option("--detach", is_flag=True, help="Don't wait for its end.")
@click.option("--keep-as", metavar="JOB", help="Keep it as a job of this name.")
@output_option
def carry(
    cart: Cart,
    source: str,
    target: str,
    only_preview: bool,
    each: bool,
    detach: bool,
    keep_as: str | None,
    **options: Any,
) -> None:
    """Copy a file or a folder's contents, once. Nothing is removed.

    FROM is one file, or a folder whose contents arrive. TO ending in / means into it, under the same name; without,
    a file is carried as that name. Both may be paths of this machine that lie in a registered folder store.

    \b
    pinecart carry pine://posts/sheets/ pine://office/larkfell/sheets/ --preview
    pinecart carry pine://posts/survey.txt pine://office/larkfell/about.txt
    pinecart carry ./posts/recordings pine://office/larkfell/recordings/ --newer-than "2 days"
    """
    rules = leg_rules(options) | {k: options[k] for k in ("intent", "compare", "on_difference") if options[k]}
    places = as_location(cart, source), as_location(cart, target)
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


def as_location(cart: Cart, text: str) -> str:
    """A location as it is; a path of this machine as the place in the folder store that holds it. Raises UsageError."""
    if text.startswith(SCHEME):
        return text
    tidy = text.strip().strip("'\"").removeprefix("file://").replace("\\", "/")
    path = os.path.realpath(os.path.expanduser(tidy))
    ending = "/" if tidy.endswith("/") or os.path.isdir(path) else ""
    if urlsplit(cart.client.url).hostname not in ("127.0.0.1", "localhost", "::1"):
        raise click.UsageError(
            f"{text} is a path of this machine, and the service runs on another. Write a location: pine://STORE/PATH"
        )
    stores = {s["path"]: s["name"] for s in cart.client.stores() if s["kind"] == "folder"}
    for root in sorted(stores, key=len, reverse=True):
        if path == root or path.startswith(root.rstrip("/") + "/"):
            inner = path[len(root) :].lstrip("/")
            return f"{SCHEME}{stores[root]}/{inner}{ending if inner else ''}"
    folder = path if os.path.isdir(path) else str(Path(path).parent)
    raise click.UsageError(
        f"{text} lies in no folder store. Register one with: pinecart store add NAME --kind folder --path {folder}"
    )
