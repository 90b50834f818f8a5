"""Signing in, and one's own password."""

from __future__ import annotations

import json
import platform

import click

from pinecart.cli.frame import login_file, read_secret, say


@click.command()
@click.argument("url")
@click.option("--name", prompt="Name", prompt_required=True, help="Who you are there.")
@click.option(
    "--password-file",
    metavar="FILE",
    help="Read the password from a file; - is standard input. Else it is asked for.",
)
@click.option(
    "--code",
    default="",
    help="The second factor's code of now. Else it is asked for, if there is one.",
)
def login(url: str, name: str, password_file: str | None, code: str) -> None:
    """Sign in to a service; a token is kept for this account on this machine.

    \b
    pinecart login http://127.0.0.1:8750 --name wren
    """
    from pinecart.client import Client, NotSignedIn

    password = read_secret("Password", password_file)
    token_name = f"command line on {platform.node()}"[:63]
    with Client(url) as client:
        try:
            token = client.token_for(name, password, token_name=token_name, code=code)
        except NotSignedIn as refused:
            if refused.code != "second-factor.asked" or code or password_file:
                raise
            code = click.prompt("Code", err=True)
            token = client.token_for(name, password, token_name=token_name, code=code)
    file = login_file()
    file.parent.mkdir(parents=True, exist_ok=True)
    file.touch(mode=0o600)
    file.chmod(0o600)
    file.write_text(json.dumps({"url": url, "token": token}))
    say(f"Signed in to {url} as {name}.")


@click.command()
@click.option(
    "--old-file",
    metavar="FILE",
    help="Read the present password from a file; else it is asked for.",
)
@click.option(
    "--new-file", metavar="FILE", help="Read the new one from a file; else it is asked for."
)
def password(old_file: str | None, new_file: str | None) -> None:
    """Change your own password; your other sessions end.

    \b
    pinecart password
    """
    old = read_secret("Present password", old_file)
    new = read_secret("New password", new_file)
    click.get_current_context().obj.client.change_own_password(old, new)
    say("Your password is changed.")
