"""`pinecart`: the root command. Each noun has a module of its own, loaded when it is asked for."""

from __future__ import annotations

import sys
from importlib import import_module

import click

from pinecart import __version__
from pinecart.cli.frame import Cart, Words, fail, output_option, say
from pinecart.cli.lanes import draw_lanes
from pinecart.cli.words import age, coloured, mark, table
from pinecart.json_object import JsonObject

# command → (module, name in it); loaded lazily so that help answers at once
COMMANDS = {
    "check": ("pinecart.cli.serving", "check"),
    "login": ("pinecart.cli.session", "login"),
    "password": ("pinecart.cli.session", "password"),
    "store": ("pinecart.cli.stores", "store"),
    "bucket": ("pinecart.cli.stores", "bucket"),
    "browse": ("pinecart.cli.browsing", "browse"),
    "find": ("pinecart.cli.browsing", "find"),
    "lineage": ("pinecart.cli.browsing", "lineage"),
    "upload": ("pinecart.cli.browsing", "upload"),
    "carry": ("pinecart.cli.carrying", "carry"),
    "remove": ("pinecart.cli.carrying", "remove"),
    "job": ("pinecart.cli.job_files", "job"),
    "preview": ("pinecart.cli.previews", "preview"),
    "explain": ("pinecart.cli.previews", "explain"),
    "start": ("pinecart.cli.starting", "start"),
    "run": ("pinecart.cli.run_life", "run"),
    "schedule": ("pinecart.cli.schedule", "schedule"),
    "history": ("pinecart.cli.history", "history"),
    "trigger": ("pinecart.cli.triggers", "trigger"),
    "audit": ("pinecart.cli.audits", "audit"),
    "inventory": ("pinecart.cli.inventories", "inventory"),
    "person": ("pinecart.cli.people", "person"),
    "session": ("pinecart.cli.people", "session"),
    "token": ("pinecart.cli.people", "token"),
    "notice": ("pinecart.cli.notices", "notice"),
    "settings": ("pinecart.cli.settings", "settings"),
    "trail": ("pinecart.cli.trail", "trail"),
    "proof": ("pinecart.cli.proofs", "proof"),
    "demo": ("pinecart.cli.serving", "demo"),
    "let-in": ("pinecart.cli.serving", "let_in"),
    "backup": ("pinecart.cli.serving", "backup"),
    "restore": ("pinecart.cli.serving", "restore"),
    "serve": ("pinecart.cli.serving", "serve"),
}


class RootCommand(Words):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        """The module of a command is read once the command is used, so that each starts without all
        the others.
        """
        if name not in COMMANDS:
            return None
        module, attribute = COMMANDS[name]
        found: click.Command = getattr(import_module(module), attribute)
        return found


@click.group(
    cls=RootCommand,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)
@click.version_option(__version__, message="%(version)s")
@output_option
@click.pass_context
def cli(ctx: click.Context, cart: Cart) -> None:
    """Pine Cart copies, refreshes and audits files between folders and buckets, and proves what it
    did.

    \b
    pinecart                         is everything well?
    pinecart demo                    try it with sample data
    pinecart start JOB --follow      run a job and watch it
    pinecart help COMMAND            more on one command

    Shell completion: eval "$(_PINECART_COMPLETE=bash_source pinecart)", or zsh_source, fish_source.
    """
    if ctx.invoked_subcommand is None:
        today = cart.client.today()
        picture = cart.client.picture()
        cart.show(today | {"picture": picture}, lambda: _today(today, picture))


def _tell_recent(runs: list[JsonObject]) -> None:
    """A table of the runs that ended last; nothing where there are none."""
    if not runs:
        return
    rows = []
    for run in runs:
        when = age(run["ended_at"])
        rows.append([mark(run), run["job"], str(run["id"]), when])
    click.echo()
    table(["ended", "job", "run", "when"], rows, numbers=[2], flexible=1)


def _tell_due(due: list[JsonObject]) -> None:
    """A table of what comes next."""
    if not due:
        return
    rows = []
    for one in due:
        at = one["next_due"]
        rows.append([age(at), one["job"], at])
    click.echo()
    table(["next", "job", "at"], rows, flexible=1)


def _today(today: JsonObject, picture: JsonObject) -> None:
    click.echo(today["sentence"])
    restored = today["restored"]
    if restored:
        say(f"▲ Restored from a backup of {restored}: nothing starts by itself until you")
        say("  say so: pinecart settings go-on")
    for run in today["needed"]:
        number = run["id"]
        ended = run["outcome"] or run["state"]
        sentence = coloured(run["sentence"], ended)
        click.echo(f"\n{run['job']}, run {number}: {sentence}")
        click.echo(f"  Look closer: pinecart run show {number}")
    for one in today["awaited"]:
        job = one["job"]
        click.echo(f"\n▲ {job}: {one['words']}")
        click.echo(f"  Look closer: pinecart job show {job}")
    for one in today["unusual"]:
        run = one["run"]
        click.echo(f"\n▲ {one['job']}, run {run}, is unusual: {one['words']}")
        click.echo(f"  Look closer: pinecart run show {run}")
    for one in today["concerns"]:
        subject = one["subject"] or "Pine Cart"
        click.echo(f"\n▲ {subject}: {one['words']}")
        click.echo(f"  {one['todo']}")
    draw_lanes(picture)
    _tell_recent(today["recent"][:8])
    _tell_due(today["due"])


def main() -> None:
    """The entry point: errors become words on stderr and an exit code."""
    try:
        cli(obj=Cart(), prog_name="pinecart")
    except Exception as exc:
        from pinecart.client import ClientError

        if not isinstance(exc, ClientError):
            raise
        sys.exit(fail(exc))


if __name__ == "__main__":
    main()
