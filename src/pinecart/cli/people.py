"""People, and how they and their programs come in: sessions, tokens."""

from __future__ import annotations

from typing import Any

import click

from pinecart.cli.frame import Cart, Words, output_option, read_secret, say
from pinecart.cli.words import age, table
from pinecart.json_object import JsonObject

RIGHTS = click.Choice(["look", "operate", "define", "administer"])


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
            ", ".join(r["right"] + (f" on {r['label']}" if r["label"] else "") for r in p["rights"])
            or "none",
            "yes" if p["second_factor"] else "no",
            age(p["seen_at"]) if p["seen_at"] else "never",
        ]
        for p in people
    ]
    cart.show(
        people,
        lambda: table(["name", "state", "rights", "second factor", "seen"], rows, flexible=2),
    )


@person.command("add")
@click.argument("name")
@click.option(
    "--right",
    "rights",
    type=RIGHTS,
    multiple=True,
    required=True,
    help="A right includes those before it.",
)
@click.option("--label", default="", help="Only on stores and jobs with this label.")
@click.option(
    "--password-file",
    metavar="FILE",
    help="Their password, from a file; - is standard input. Else they get a code.",
)
@output_option
def person_add(
    cart: Cart, name: str, rights: tuple[str, ...], label: str, password_file: str | None
) -> None:
    """Add a person. With the code that comes back, once, on stdout they set their own password.

    \b
    pinecart person add wren --right operate
    """
    password = read_secret("Password for them", password_file) if password_file else None
    grants = [{"right": right, "label": label} for right in rights]
    made = cart.client.add_person(name, password, grants)

    def plain() -> None:
        named = ", ".join(rights)
        say(f"Added {name}: {named}.")
        code = made["entry_code"]
        if code:
            _tell_code(cart, code)

    cart.show(made, plain)


def _tell_code(cart: Cart, made: JsonObject) -> None:
    """Once: it can't be asked for again."""
    click.echo(made["code"])
    minute = made["ends_at"][:16]
    by = minute.replace("T", " ")
    where = f"{cart.client.url}/enter"
    say(f"They set their password with this code at {where}, by {by} UTC.")


@person.command("code")
@click.argument("name")
@output_option
def person_code(cart: Cart, name: str) -> None:
    """Make a code with which somebody sets a new password; it is told this once, on stdout.

    \b
    pinecart person code wren
    """
    made = cart.client.make_entry_code(name)
    cart.show(made, lambda: _tell_code(cart, made))


@person.command("change")
@click.argument("name")
@click.option(
    "--off/--on",
    "off",
    default=None,
    help="Switch them off: signed out everywhere, tokens end. Or on again.",
)
@click.option(
    "--right", "rights", type=RIGHTS, multiple=True, help="Instead of the rights they have."
)
@click.option("--label", default="", help="Only on stores and jobs with this label.")
@click.option(
    "--password-file",
    metavar="FILE",
    help="A new password for them, from a file; - is standard input.",
)
@click.option(
    "--without-second-factor",
    is_flag=True,
    help="Take their second factor off: the device is lost.",
)
def person_change(
    name: str,
    off: bool | None,
    rights: tuple[str, ...],
    label: str,
    password_file: str | None,
    without_second_factor: bool,
) -> None:
    """Switch a person off or on, give other rights or a new password, take a second factor off.

    \b
    pinecart person change wren --off
    """
    if off is None:
        changes: JsonObject = {}
    else:
        changes = {"active": not off}
    if rights:
        changes["rights"] = [{"right": r, "label": label} for r in rights]
    if password_file:
        changes["password"] = read_secret("New password for them", password_file)
    if without_second_factor:
        changes["second_factor"] = False
    if not changes:
        raise click.UsageError("Nothing to change: see pinecart person change --help.")
    click.get_current_context().obj.client.change_person(name, **changes)
    say(f"{name} is changed.")


@click.group(cls=Words)
def session() -> None:
    """Browsers that are signed in.

    \b
    pinecart session list
    """


@session.command("list")
@click.option("--everybodys", is_flag=True, help="All people's; only administrators may.")
@output_option
def session_list(cart: Cart, everybodys: bool) -> None:
    """Your own sessions that go on, or everybody's.

    \b
    pinecart session list
    """
    found = cart.client.sessions(everybodys=everybodys)
    rows = [
        [str(s["id"]), s["of"], age(s["begun_at"]), age(s["seen_at"]), s["address"], s["agent"]]
        for s in found
    ]
    cart.show(
        found,
        lambda: table(
            ["number", "of", "begun", "seen", "from", "browser"], rows, numbers=[0], flexible=5
        ),
    )


@session.command("end")
@click.argument("number", type=int)
def session_end(number: int) -> None:
    """End a session at once; its open streams end too.

    \b
    pinecart session end 3
    """
    click.get_current_context().obj.client.end_session(number)
    say(f"Session {number} is ended.")


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
            str(t["id"]),
            t["name"],
            t["of"],
            _may(t),
            age(t["made_at"]),
            age(t["used_at"]) if t["used_at"] else "never",
            age(t["expires_at"]) if t["expires_at"] else "never",
        ]
        for t in found
    ]
    cart.show(
        found,
        lambda: table(
            ["number", "name", "of", "rights", "made", "used", "ends"],
            rows,
            numbers=[0],
            flexible=1,
        ),
    )


def _may(told: JsonObject) -> str:
    if told["reads_calendar"]:
        return "reads the calendar"
    if told["starts"]:
        return f"starts {told['starts']}"
    return told["right"] or "all of theirs"


@token.command("make")
@click.argument("name")
@click.option("--days", type=click.IntRange(1), help="It ends after so many days; without, never.")
@click.option("--person", help="For somebody else; only administrators may.")
@click.option("--right", type=RIGHTS, help="It carries no more than this right.")
@click.option(
    "--starts", metavar="JOB", default="", help="It may start this job, and do nothing else."
)
@click.option(
    "--calendar",
    is_flag=True,
    help="It may read the schedule as a calendar, by its address, and do nothing else.",
)
@output_option
def token_make(
    cart: Cart,
    name: str,
    days: int | None,
    person: str | None,
    right: str | None,
    starts: str,
    calendar: bool,
) -> None:
    """Make a token; its text is told this once, on stdout.

    \b
    pinecart token make nightly-script --days 90
    pinecart token make recorder --starts dawn
    pinecart token make wall-calendar --calendar
    """
    rights: dict[str, Any] = {"right": right or "", "starts": starts, "reads_calendar": calendar}
    text = cart.client.make_token(name, person=person, days=days, **rights)
    cart.show({"token": text}, lambda: click.echo(text))
    if starts:
        url = f"{cart.client.url}/api/v1/jobs/{starts}/call"
        say(f'A call from outside: curl -X POST -H "Authorization: Bearer TOKEN" {url}')
    if calendar:
        say(f"Subscribe to: {cart.client.url}/api/v1/schedule/calendar?key=TOKEN")


@token.command("revoke")
@click.argument("number", type=int)
def token_revoke(number: int) -> None:
    """Revoke a token at once; open streams end.

    \b
    pinecart token revoke 3
    """
    click.get_current_context().obj.client.revoke_token(number)
    say(f"Token {number} is revoked.")
