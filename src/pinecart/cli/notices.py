"""Who is told of what happens, and where e-mail is handed in."""

from __future__ import annotations

import sys
from typing import Any

import click

from pinecart.cli.frame import PROBLEMS, Cart, Words, output_option, read_secret, say
from pinecart.cli.words import age, table
from pinecart.json_object import JsonObject

KINDS = (
    "problems",
    "failed",
    "held",
    "late",
    "missed",
    "expected-not-come",
    "recovered",
    "unusual",
    "done",
    "daily",
)
USUAL = tuple(kind for kind in KINDS if kind not in ("done", "daily"))


@click.group(cls=Words)
def notice() -> None:
    """Who is told of what happens: by e-mail, or by a web call.

    \b
    pinecart notice add --mail wren@larkfell.example
    """


@notice.command("list")
@output_option
def notice_list(cart: Cart) -> None:
    """Who is told of what.

    \b
    pinecart notice list
    """
    found = cart.client.notices()
    heads = ["notice", "whom", "of", "kinds", "sent", "last sent", "waiting"]

    def plain() -> None:
        if not found:
            say(NOBODY)
            return
        table(heads, list(map(_row_of, found)), numbers=[0, 6], flexible=3)
        for told in found:
            if told["message"]:
                say(f"▲ notice {told['id']}: {told['message']}")

    cart.show(found, plain)


NOBODY = "Nobody is told. Tell somebody with: pinecart notice add --mail ADDRESS"


def _row_of(told: JsonObject) -> list[str]:
    number = str(told["id"])
    whom = ", ".join(told["to"])
    of = told["job"]
    if not of:
        of = f"label {told['label']}" if told["label"] else "all"
    kinds = "off"
    if told["is_on"]:
        kinds = ", ".join(told["kinds"])
    last = age(told["sent_at"])
    waiting = str(told["waiting"])
    return [number, whom, of, kinds, _when(told), last, waiting]


def _when(told: JsonObject) -> str:
    """When the rule's messages leave: as things happen or once a day, and at what hours never."""
    when = f"daily {told['once_at']}" if told["once_at"] else "at once"
    if told["quiet"]:
        return f"{when}, not {told['quiet']}"
    return when


def _kinds_option(command: Any) -> Any:
    return click.option(
        "--of",
        "kinds",
        multiple=True,
        type=click.Choice(KINDS),
        help="Of what; may be given again.  [default: all but done and daily]",
    )(command)


def _when_options(command: Any) -> Any:
    for name, text, help_ in (
        ("--once-at", "TIME", "In one message a day, at this time; empty: as it happens."),
        ("--quiet", "HOURS", "Nothing in these hours, but after them; empty: at any time."),
    ):
        command = click.option(name, metavar=text, help=help_)(command)
    return command


@notice.command("add")
@click.option("--mail", multiple=True, metavar="ADDRESS", help="By e-mail; may be given again.")
@click.option("--web", default="", metavar="URL", help="By a signed call of this address.")
@click.option(
    "--marker", default="", metavar="LOCATION", help="By an object that is written there."
)
@click.option("--job", default="", help="Only of this job.")
@click.option("--label", default="", help="Only of what has this label.")
@_kinds_option
@_when_options
@output_option
def notice_add(
    cart: Cart,
    mail: tuple[str, ...],
    web: str,
    marker: str,
    kinds: tuple[str, ...],
    **only: str | None,
) -> None:
    """Tell somebody, from now on.

    \b
    pinecart notice add --mail wren@larkfell.example --of failed --of held
    pinecart notice add --web https://chat.larkfell.example/hook --label night
    pinecart notice add --mail wren@larkfell.example --once-at "07:30 Europe/London"
    pinecart notice add --web https://pager.larkfell.example --quiet 22:00-06:00
    pinecart notice add --marker pine://office/larkfell/done.json --job dawn --of done
    """
    ways = {"mail": list(mail), "web": [web] if web else [], "marker": [marker] if marker else []}
    chosen = [(way, to) for way, to in ways.items() if to]
    if len(chosen) != 1:
        raise click.UsageError("Say whom: --mail ADDRESS, --web URL, or --marker LOCATION.")
    way, to = chosen[0]
    given = {name: value for name, value in only.items() if value is not None}
    asked = {"way": way, "to": to, "kinds": list(kinds or USUAL), **given}
    made = cart.client.add_notice(asked)

    def plain() -> None:
        say(f"Notice {made['id']} is made. Try it: pinecart notice try {made['id']}")
        if made["secret"]:
            say("Its calls are signed with this secret, told this once:")
            click.echo(made["secret"])

    cart.show(made, plain)


@notice.command("change")
@click.argument("number", type=int)
@click.option("--to", multiple=True, metavar="ADDRESS", help="Whom instead.")
@click.option("--on/--off", "is_on", default=None, help="Switch it on or off.")
@click.option("--job", default=None, help="Only of this job; empty: of all.")
@click.option("--label", default=None, help="Only of this label; empty: of all.")
@_kinds_option
@_when_options
@output_option
def notice_change(cart: Cart, number: int, **given: Any) -> None:
    """Change who is told, or of what.

    \b
    pinecart notice change 2 --off
    pinecart notice change 2 --quiet "22:00-06:00 Europe/London"
    """
    asked = {name: value for name, value in given.items() if value not in (None, ())}
    if not asked:
        raise click.UsageError(
            "Say what to change: --to, --of, --job, --label, --once-at, --quiet, --on or --off."
        )
    told = cart.client.change_notice(number, **asked)
    words = f"Notice {number} is changed."
    cart.show(told, lambda: say(words))


@notice.command("drop")
@click.argument("number", type=int)
@output_option
def notice_drop(cart: Cart, number: int) -> None:
    """Tell them no more.

    \b
    pinecart notice drop 2
    """
    cart.client.drop_notice(number)
    cart.show({}, lambda: say(f"Notice {number} is dropped; what was on its way is forgotten."))


@notice.command("try")
@click.argument("number", type=int)
@output_option
def notice_try(cart: Cart, number: int) -> None:
    """Send a message now, that only tells that it is a try.

    \b
    pinecart notice try 2
    """
    told = cart.client.try_notice(number)
    sign = "✓" if told["ok"] else "✗"
    cart.show(told, lambda: click.echo(f"{sign} {told['message']}"))
    sys.exit(0 if told["ok"] else PROBLEMS)


@notice.command("sent")
@click.option("--notice", "number", default=0, help="Only of this one.")
@click.option("--limit", default=50, show_default=True, help="How many lines.")
@output_option
def notice_sent(cart: Cart, number: int, limit: int) -> None:
    """What was told to whom, and what is still on its way; the newest first.

    \b
    pinecart notice sent
    """
    found = cart.client.deliveries(notice=number, limit=limit)
    heads = ["sent", "whom", "what", "job", ""]
    rows = []
    for one in found:
        whom = ", ".join(one["to"])
        rows.append([_where_it_is(one), whom, one["kind"], one["job"], one["words"]])
    cart.show(found, lambda: table(heads, rows, flexible=4))


def _where_it_is(delivery: JsonObject) -> str:
    """What became of a message so far."""
    if delivery["sent_at"]:
        return f"✓ {age(delivery['sent_at'])}"
    if delivery["given_up"]:
        return f"✗ given up: {delivery['message']}"
    tries = delivery["tries"]
    if tries:
        return f"↻ {tries} tries: {delivery['message']}"
    return "◌ waits"


@notice.command("mail")
@click.option("--host", help="The mail server (SMTP).")
@click.option("--port", type=int, help="Its port.")
@click.option("--security", type=click.Choice(["tls", "starttls", "none"]), help="Of the line.")
@click.option("--user", help="Who signs in there; empty: nobody.")
@click.option("--password", "new_password", is_flag=True, help="Ask for a new password, unseen.")
@click.option("--password-file", help="A file with the password; - is standard input.")
@click.option("--sender", help="From whom messages are.")
@click.option("--address", help="Of the console, as links in messages begin.")
@output_option
def notice_mail(cart: Cart, new_password: bool, password_file: str | None, **given: Any) -> None:
    """Where e-mail is handed in; with options: change it.

    \b
    pinecart notice mail --host mail.larkfell.example --sender cart@larkfell.example
    """
    asked = {name: value for name, value in given.items() if value is not None}
    if new_password or password_file:
        asked["password"] = read_secret("Password of the mail server", password_file)
    told = cart.client.mail()
    if asked:
        del told["has_password"]
        told = cart.client.change_mail(**(told | asked))

    def plain() -> None:
        if not told["host"]:
            say("No mail server is set: pinecart notice mail --host HOST --sender ADDRESS")
            return
        for name, value in told.items():
            label = name.replace("_", " ")
            click.echo(f"{label:<14} {value}")

    cart.show(told, plain)
