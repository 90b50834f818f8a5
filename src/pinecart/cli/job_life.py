"""A job's life: copies, the way back, on and off, its versions, its end."""

from __future__ import annotations

import click

from pinecart.cli.frame import Cart, output_option, say
from pinecart.cli.jobs import job, tell_sentences
from pinecart.cli.words import age
from pinecart.json_object import JsonObject


@job.command("copy")
@click.argument("name")
@click.argument("new")
@output_option
def job_copy(cart: Cart, name: str, new: str) -> None:
    """Define the same job under another name. What was started by itself is switched off in it.

    \b
    pinecart job copy dawn dusk
    """
    made = cart.client.copy_job(name, new)
    cart.show(made, lambda: _tell_copy(made))


@job.command("turn")
@click.argument("name")
@click.argument("new")
@output_option
def job_turn(cart: Cart, name: str, new: str) -> None:
    """Define the way back under another name: from where a job puts to, to where it takes from.

    \b
    pinecart job turn dawn dawn-back
    """
    made = cart.client.copy_job(name, new, turned=True)
    cart.show(made, lambda: _tell_copy(made))


def _tell_copy(made: JsonObject) -> None:
    """What the new job does, whether it is on, and how to look ahead before it ever runs."""
    name = made["job"]
    tell_sentences(made)
    off = ""
    if not made["is_on"]:
        off = f"It is off; switch it on with: pinecart job on {name}. "
    say(f"Saved {name}. {off}Look ahead with: pinecart preview {name}")


why_option = click.option("--why", default="", help="The reason, for whoever asks later.")


@job.command("on")
@click.argument("name")
@why_option
@output_option
def job_on(cart: Cart, name: str, why: str) -> None:
    """Let a job be started by itself again.

    \b
    pinecart job on dawn
    """
    made = cart.client.switch_job(name, on=True, why=why)
    due = made["next_due"]
    words = f"next {age(due)}" if due else "it runs when somebody starts it"
    cart.show(made, lambda: say(f"{name} is on: {words}."))


@job.command("off")
@click.argument("name")
@why_option
@output_option
def job_off(cart: Cart, name: str, why: str) -> None:
    """Nothing starts a job by itself any more; by hand it can be started still.

    \b
    pinecart job off dawn --why "the office moves"
    """
    made = cart.client.switch_job(name, on=False, why=why)
    cart.show(made, lambda: say(f"{name} is off. On again: pinecart job on {name}"))


@job.command("versions")
@click.argument("name")
@output_option
def job_versions(cart: Cart, name: str) -> None:
    """Every definition a job had, the newest first, and what each changed.

    \b
    pinecart job versions dawn
    """
    found = cart.client.job_versions(name)

    def plain() -> None:
        for version in found:
            number = version["version"]
            by = version["saved_by"]
            minute = version["saved_at"][:16]
            at = minute.replace("T", " ")
            click.echo(f"version {number}  {at} UTC, {by}")
            tell_differences(version["differences"])

    cart.show(found, plain)


def tell_differences(found: list[JsonObject]) -> None:
    """What changes in a definition, a line each."""
    for difference in found:
        title = difference["title"]
        before = difference["before"]
        after = difference["after"]
        click.echo(f"  {title}: {before} → {after}")


@job.command("back")
@click.argument("name")
@click.argument("version", type=int)
@output_option
def job_back(cart: Cart, name: str, version: int) -> None:
    """Save a version that was before as the newest.

    \b
    pinecart job back dawn 3
    """
    made = cart.client.go_back(name, version)
    words = f"Saved {name} as it was in version {version}, now version {made['version']}."
    cart.show(made, lambda: say(words))


@job.command("drop")
@click.argument("name")
@click.option("--yes", is_flag=True, help="Don't ask.")
def job_drop(name: str, yes: bool) -> None:
    """Forget a job. Its runs stay; nothing it carried is touched.

    \b
    pinecart job drop dawn
    """
    if not yes:
        click.confirm(f"Forget job {name}? Nothing it carried is touched.", abort=True, err=True)
    click.get_current_context().obj.client.drop_job(name)
    say(f"Job {name} is forgotten.")
