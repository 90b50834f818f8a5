"""Signing in, people, tokens, the trail."""

from __future__ import annotations

import json
import platform
from typing import Any

import click

from pinecart.cli.frame import Cart, Words, login_file, output_option, read_secret, say
from pinecart.cli.words import age, table

RIGHTS = click.Choice(["look", "operate", "define", "administer"])


@click.command()
@click.argument("url")
@click.option("--name", prompt="Name", prompt_required=True, help="Who you are there.")
@click.option(
    "--password-file", metavar="FILE", help="Read the password from a file; - is standard input. Else it is asked for."
)
def login(url: str, name: str, password_file: str | None) -> None:
    """Sign in to a service; a token is kept for this account on this machine.

    \b
    pinecart login http://127.0.0.1:8750 --name wren
    """
    from pinecart.client import Client

    password = read_secret("Password", password_file)
    with Client(url) as client:
        token = client.token_for(name, password, token_name=f"command line on {platform.node()}"[:63])
    file = login_file()
    file.parent.mkdir(parents=True, exist_ok=True)
    file.touch(mode=0o600)
    file.chmod(0o600)
    file.write_text(json.dumps({"url": url, "token": token}))
    say(f"Signed in to {url} as {name}.")


@click.group(cls=Words)
def person() -> None:
    """Who may do what.

    \b
    pinecart person list
    """


@person.command("list")
@output_option
def person_list(cart: Cart) -> None:
    """Everybody, with their rights.

    \b
    pinecart person list
    """
    people = cart.client.people()
    rows = [
        [
            p["name"],
            "may sign in" if p["active"] else "switched off",
            ", ".join(r["right"] + (f" on {r['label']}" if r["label"] else "") for r in p["rights"]) or "none",
        ]
        for p in people
    ]
    cart.show(people, lambda: table(["name", "state", "rights"], rows, flexible=2))


@person.command("add")
@click.argument("name")
@click.option("--right", "rights", type=RIGHTS, multiple=True, required=True, help="A right includes those before it.")
@click.option("--label", default="", help="Only on jobs with this label.")
@click.option(
    "--password-file", metavar="FILE", help="Read the password from a file; - is standard input. Else it is asked for."
)
@output_option
def person_add(cart: Cart, name: str, rights: tuple[str, ...], label: str, password_file: str | None) -> None:
    """Add a person.

    \b
    pinecart person add wren --right operate
    """
    password = read_secret("Password for them", password_file)
    made = cart.client.add_person(name, password, [{"right": r, "label": label} for r in rights])
    cart.show(made, lambda: say(f"Added {name}: {', '.join(rights)}."))


@person.command("change")
@click.argument("name")
@click.option(
    "--off/--on", "off", default=None, help="Switch them off: signed out everywhere, tokens end. Or on again."
)
@click.option("--right", "rights", type=RIGHTS, multiple=True, help="Instead of the rights they have.")
@click.option("--label", default="", help="Only on stores and jobs with this label.")
@click.option("--password-file", metavar="FILE", help="A new password for them, from a file; - is standard input.")
def person_change(name: str, off: bool | None, rights: tuple[str, ...], label: str, password_file: str | None) -> None:
    """Switch a person off or on, give other rights, or a new password.

    \b
    pinecart person change wren --off
    """
    changes: dict[str, Any] = {} if off is None else {"active": not off}
    if rights:
        changes["rights"] = [{"right": r, "label": label} for r in rights]
    if password_file:
        changes["password"] = read_secret("New password for them", password_file)
    if not changes:
        raise click.UsageError("Nothing to change: give --off, --on, --right or --password-file.")
    click.get_current_context().obj.client.change_person(name, **changes)
    say(f"{name} is changed.")


@click.command()
@click.option("--old-file", metavar="FILE", help="Read the present password from a file; else it is asked for.")
@click.option("--new-file", metavar="FILE", help="Read the new one from a file; else it is asked for.")
def password(old_file: str | None, new_file: str | None) -> None:
    """Change your own password; your other sessions end.

    \b
    pinecart password
    """
    old, new = read_secret("Present password", old_file), read_secret("New password", new_file)
    click.get_current_context().obj.client.change_own_password(old, new)
    say("Your password is changed.")


@click.group(cls=Words)
def token() -> None:
    """Tokens for programs.

    \b
    pinecart token make nightly-script --days 90
    """


@token.command("list")
@click.option("--everybodys", is_flag=True, help="All people's; only administrators may.")
@output_option
def token_list(cart: Cart, everybodys: bool) -> None:
    """Your own living tokens, or everybody's.

    \b
    pinecart token list
    """
    found = cart.client.tokens(everybodys=everybodys)
    rows = [
        [
            str(t["id"]), t["name"], t["of"], t["right"] or "all of theirs", age(t["made_at"]),
            age(t["used_at"]) if t["used_at"] else "never", age(t["expires_at"]) if t["expires_at"] else "never",
        ]
        for t in found
    ]  # fmt: skip
    cart.show(
        found, lambda: table(["number", "name", "of", "rights", "made", "used", "ends"], rows, numbers=[0], flexible=1)
    )


@token.command("make")
@click.argument("name")
@click.option("--days", type=click.IntRange(1), help="It ends after so many days; without, never.")
@click.option("--person", help="For somebody else; only administrators may.")
@click.option("--right", default="", type=RIGHTS, help="It carries no more than this right.")
@output_option
def token_make(cart: Cart, name: str, days: int | None, person: str | None, right: str) -> None:
    """Make a token; its text is told this once, on stdout.

    \b
    pinecart token make nightly-script --days 90
    """
    text = cart.client.make_token(name, person=person, days=days, right=right)
    cart.show({"token": text}, lambda: click.echo(text))


@token.command("revoke")
@click.argument("number", type=int)
def token_revoke(number: int) -> None:
    """Revoke a token at once; open streams end.

    \b
    pinecart token revoke 3
    """
    click.get_current_context().obj.client.revoke_token(number)
    say(f"Token {number} is revoked.")


@click.group(cls=Words)
def trail() -> None:
    """Who did what.

    \b
    pinecart trail list
    """


@trail.command("list")
@click.option("--limit", default=50, show_default=True, help="How many lines.")
@output_option
def trail_list(cart: Cart, limit: int) -> None:
    """Who did what, newest first.

    \b
    pinecart trail list --limit 20
    """
    lines = cart.client.trail(limit=limit)
    rows = [[line["at"][:19].replace("T", " "), line["who"], line["action"], line["subject"]] for line in lines]
    cart.show(lines, lambda: table(["at (UTC)", "who", "what", "which"], rows, flexible=3))
