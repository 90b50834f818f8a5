"""The server commands. They load the service only when they run."""

from __future__ import annotations

import sys
from importlib import import_module
from pathlib import Path
from typing import Any

import click

from pinecart.cli.frame import OUT_OF_REACH, PROBLEMS, WRONG_USE, Cart, Words, output_option, say

DATA_HELP = (
    "The one folder that holds all state.  [default: PINECART_DATA, or ~/.local/share/pinecart]"
)


def _data(given: str | None) -> Path:
    """The state folder: as given, or from the environment."""
    state = import_module("pinecart.service.config.state")
    if given:
        return Path(given).resolve()
    return Path(state.StateFolder.from_environment().root).resolve()


def _run(call: Any, *args: Any, **kwargs: Any) -> None:
    """What the state folder is refused for is one line with its code, never a traceback; a wrong
    folder is wrong use.
    """
    state = import_module("pinecart.service.config.state")
    try:
        call(*args, **kwargs)
    except state.StateError as exc:
        say(f"pinecart: {exc.message}\ncode: {exc.code}")
        sys.exit(WRONG_USE if isinstance(exc, state.WrongFolder) else OUT_OF_REACH)


@click.command()
@click.option("--data", help=DATA_HELP)
@click.option(
    "--port",
    default=8750,
    show_default=True,
    type=click.IntRange(1, 65535),
    help="Where it listens.",
)
@click.option("--host", default="127.0.0.1", show_default=True, help="The address it listens at.")
@click.option(
    "--folders", multiple=True, help="Folder stores may lie below this folder; may be given again."
)
@click.option(
    "--allow-address",
    "allowed",
    multiple=True,
    help="An address or network of this machine that stores may have.",
)
@click.option(
    "--runs-at-once",
    default=3,
    show_default=True,
    type=click.IntRange(1, 32),
    help="How many runs work at the same time.",
)
@click.option(
    "--helpers",
    default=0,
    show_default=True,
    type=click.IntRange(0, 16),
    help=(
        "Processes beside each run's own that carry small files and parts of large ones: more a "
        "second, where there are cores to spare."
    ),
)
@click.option(
    "--retry-s",
    default=300.0,
    show_default=True,
    type=click.FloatRange(0, 86_400),
    help="So many seconds a run goes on trying a store that is away.",
)
@click.option(
    "--behind",
    multiple=True,
    metavar="ADDRESS",
    help="A proxy's address: it is believed about whom it speaks for.",
)
@click.option(
    "--known-as",
    multiple=True,
    metavar="NAME",
    help="A host name under which it is asked, beside addresses and localhost.",
)
@click.option(
    "--certificate",
    default="",
    type=click.Path(),
    help="Speak TLS, with the certificate in this file (PEM).",
)
@click.option("--key", default="", type=click.Path(), help="The file with the certificate's key.")
@click.option(
    "--second-factor",
    type=click.Choice(["by-choice", "administrators"]),
    default="by-choice",
    show_default=True,
    help="Who has to have one: each by choice, or all administrators by order.",
)
@click.option(
    "--log-format",
    type=click.Choice(["plain", "json"]),
    default="plain",
    show_default=True,
    help="Of the service's own output.",
)
@click.option("--least-free", default=500 << 20, hidden=True)
@click.option("--settle-s", default=60.0, hidden=True)
@click.option("--batch-rows", default=1000, hidden=True, type=click.IntRange(1, 1000))
def serve(data: str | None, **options: Any) -> None:
    """Start the service: everything, until Ctrl-C or SIGTERM.

    \b
    pinecart serve --folders /srv/larkfell
    """
    serving = import_module("pinecart.service.supervisor")
    state = import_module("pinecart.service.config.state")
    options["folders"] = tuple(str(Path(f).resolve()) for f in options["folders"])
    if bool(options["certificate"]) != bool(options["key"]):
        say("pinecart: --certificate and --key come together.")
        sys.exit(WRONG_USE)
    given = state.Options(**options)
    folder = _data(data)
    is_on_this_machine = given.host in ("127.0.0.1", "localhost", "::1")
    if not (given.certificate or given.behind or is_on_this_machine):
        say(
            f"pinecart: WARNING: {given.host} can be reached from elsewhere, and nothing is "
            "encrypted: passwords and files can be read on the way. Give it --certificate "
            "and --key, or let a proxy do that and name it by --behind."
        )

    def ready(welcome: Any) -> None:
        _greet(given.url, folder, welcome)

    _run(serving.serve, state.StateFolder(folder), given, extra=[], ports=range(0), ready=ready)


def _greet(url: str, folder: Path, welcome: Any) -> None:
    """welcome: the first person and password, at a first start."""
    say(f"Pine Cart is at {url}  (state: {folder})")
    if welcome:
        say(f"Sign in as {welcome.person} with the password {welcome.password} (told this once).")
        say(f"For the command line: pinecart login {url} --name {welcome.person}")
    elif (folder / "token").exists():
        say(
            f"pinecart: WARNING: {folder / 'token'}, of an earlier release, opens "
            "everything to whoever reads it. Take it away, and end it: pinecart token "
            "list --everybodys"
        )
    say("Ctrl-C ends it; runs under way go on when it is back.")


@click.command("let-in")
@click.argument("name")
@click.option("--data", help=DATA_HELP)
def let_in(name: str, data: str | None) -> None:
    """For whoever has this machine, when nobody else can help: a code with which somebody sets a
    new password.

    They are switched on, and their second factor is taken off. The service may be at work.

    \b
    pinecart let-in admin --data /srv/pinecart
    """
    letting_in = import_module("pinecart.service.config.letting_in")
    state = import_module("pinecart.service.config.state").StateFolder(_data(data))

    def told() -> None:
        code, ends = letting_in.let_in(state, name)
        click.echo(code)
        say(
            f"{name} sets a password with this code at {state.options().url}/enter, by "
            f"{ends:%Y-%m-%d %H:%M} UTC."
        )

    _run(told)


@click.command()
@click.option("--data", help=DATA_HELP)
@click.option(
    "--go-on",
    is_flag=True,
    help="Begin at the next start without the last records, whose file is gone.",
)
@click.option(
    "--new-key",
    is_flag=True,
    help="Make a new seal.key where the old one is lost: stores ask for their keys again.",
)
@output_option
def check(cart: Cart, data: str | None, go_on: bool, new_key: bool) -> None:
    """Look a state folder over: format, database, key, locks, disk; and say what to do. It may be
    in use.

    \b
    pinecart check --data /srv/pinecart
    """
    checking = import_module("pinecart.service.config.checking")
    state = import_module("pinecart.service.config.state").StateFolder(_data(data))
    if go_on:
        checking.go_on_without(state)
    if new_key:
        _run(state.new_key)
    found = list(checking.look_over(state))

    def plain() -> None:
        for finding in found:
            click.echo(
                f"{ {True: '✓', False: '✗', None: '–'}[finding.ok] } {finding.what}: "
                f"{finding.words}"
            )

    cart.show([f._asdict() for f in found], plain)
    sys.exit(PROBLEMS if any(f.ok is False for f in found) else 0)


@click.command()
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--data", help=DATA_HELP)
@click.option("--with-keys", is_flag=True, help="Key files too: whoever has it has all secrets.")
@output_option
def backup(cart: Cart, folder: Path, data: str | None, with_keys: bool) -> None:
    """Back a state folder up into a folder that isn't there yet, also while runs go on.

    \b
    pinecart backup /srv/backups/monday --data /srv/pinecart
    """
    backups = import_module("pinecart.service.config.backups")
    state = import_module("pinecart.service.config.state").StateFolder(_data(data))

    def made() -> None:
        told = backups.make_backup(state, folder, with_keys=with_keys)

        def plain() -> None:
            files = told["files"].values()
            size = sum(file["bytes"] for file in files)
            say(f"✓ {folder}: {len(files)} files, {size:,} bytes, checked.")
            if not with_keys:
                seal = state.root / "seal.key"
                say(f"Without key files. Keep {seal} and the others elsewhere.")

        cart.show(told, plain)

    _run(made)


@click.command()
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--data", help=DATA_HELP)
@output_option
def restore(cart: Cart, folder: Path, data: str | None) -> None:
    """Make a state folder of a backup. Nothing starts by itself there until a person says so.

    \b
    pinecart restore /srv/backups/monday --data /srv/pinecart
    """
    backups = import_module("pinecart.service.config.backups")
    state = import_module("pinecart.service.config.state").StateFolder(_data(data))

    def made() -> None:
        told = backups.restore(folder, state)

        def plain() -> None:
            for name in told.missing:
                say(f"▲ {name} is missing. Put it into {state.root}, as it was with this backup.")
            if "seal.key" in told.missing:
                say(f"  If it is lost for good: pinecart check --data {state.root} --new-key")
            say(f"✓ {state.root} is as it was {told.made_at}.")
            say(f"Look it over: pinecart check --data {state.root}. Nothing starts by itself until")
            say("somebody says so: pinecart settings go-on")

        cart.show(told._asdict(), plain)

    _run(made)


@click.group(cls=Words, invoke_without_command=True)
@click.option("--data", help=DATA_HELP)
@click.option(
    "--port",
    default=8750,
    show_default=True,
    type=click.IntRange(1, 65530),
    help="Where it listens. It needs the next five as well.",
)
@click.option(
    "--unhurried/--at-once",
    default=True,
    help="Slow the first run, so that it can be watched.  [default: unhurried]",
)
@click.pass_context
def demo(ctx: click.Context, data: str | None, port: int, unhurried: bool) -> None:
    """Start the service with sample data: the Larkfell bird survey, all made up.

    \b
    pinecart demo --data ./demo --port 8750
    pinecart demo arrive
    """
    if ctx.invoked_subcommand is None:
        demo_setup = import_module("pinecart.demo.demo_setup")
        _run(demo_setup.play, _data(data), port, unhurried=unhurried, say=say)


@demo.command("arrive")
@output_option
def demo_arrive(cart: Cart) -> None:
    """Let three new recordings and a letter arrive in the demo, and one count sheet change.

    \b
    pinecart demo arrive
    """
    told = cart.client.demo_arrive()
    lines = [f"arrived  {name}" for name in told["arrived"]] + [
        f"changed  {name}" for name in told["changed"]
    ]
    cart.show(told, lambda: say("\n".join(lines)))
