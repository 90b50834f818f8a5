"""What all commands share: where the service is, --json, exit codes, "did you mean", and the four
ways to ask for help.
"""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Callable, Iterable
from difflib import get_close_matches
from functools import cached_property, wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from pinecart.json_object import JsonObject

if TYPE_CHECKING:
    from pinecart.client import Client

DONE = 0
PROBLEMS = 1
WRONG_USE = 2
HELD = 3
OUT_OF_REACH = 4
NOT_ALLOWED = 5


class Cart:
    """What a command is given: the client, made when it is first asked for, and whether to speak
    JSON.
    """

    def __init__(self) -> None:
        self.as_json = False
        self._client: Client | None = None

    @property
    def client(self) -> Client:
        from pinecart.client import Client

        if self._client is None:
            self._client = Client(*_address())
        return self._client

    @cached_property
    def forms(self) -> JsonObject:
        """What the service has to fill in."""
        return self.client.forms()

    def show(self, found: Any, plain: Callable[[], None]) -> None:
        """The result on stdout: as JSON, or for people."""
        if self.as_json:
            click.echo(json.dumps(found, ensure_ascii=False))
        else:
            plain()


def say(text: str) -> None:
    """A word to the person, on stderr: results alone go to stdout."""
    click.echo(text, err=True)


def login_file() -> Path:
    base = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(base) / "pinecart" / "login.json"


def _address() -> tuple[str, str]:
    """Address and token: from the environment, from the state folder that it names, or from
    `pinecart login`. A token in the environment counts before one that is found.
    """
    url = os.environ.get("PINECART_URL", "")
    token = os.environ.get("PINECART_TOKEN", "")
    state = os.environ.get("PINECART_DATA", "")
    if url:
        return url, token
    for folder in [Path(state)] if state else [Path.home() / ".local" / "share" / "pinecart"]:
        if (folder / "address").exists():
            address = (folder / "address").read_text().strip()
            token = token or _token_beside(folder) or _signed_in().get(address, "")
            if not token:
                raise click.UsageError(
                    f"Nobody is signed in to {address}. Sign in with: pinecart login {address}"
                )
            return address, token
    for address, kept in _signed_in().items():
        if not state:
            return address, token or kept
    if state:
        raise click.UsageError(
            f"No service has worked on {state} yet. Start one with: pinecart serve --data {state}"
        )
    raise click.UsageError(
        "No service is known here. Sign in with: pinecart login URL; or try: pinecart demo"
    )


def _token_beside(folder: Path) -> str:
    """The demo keeps one beside its state."""
    file = folder / "token"
    if file.exists() and os.access(file, os.R_OK):
        return file.read_text().strip()
    return ""


def _signed_in() -> dict[str, str]:
    """Address → token, of `pinecart login`."""
    if not login_file().exists():
        return {}
    told = json.loads(login_file().read_text())
    return {told["url"].rstrip("/"): told["token"]}


class Words(click.Group):
    """A group that answers a mistyped name with the nearest ones, and knows `help X`
    and `X help`.
    """

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if (
            len(args) > 1
            and args[-1] == "help"
            and not isinstance(self.get_command(ctx, args[0]), click.Group)
        ):
            args = [*args[:-1], "--help"]
        if args and args[0] == "help":
            args = [*args[1:], "--help"]
            if len(args) == 1:
                click.echo(ctx.get_help())
                ctx.exit()
        try:
            return super().resolve_command(ctx, args)
        except click.UsageError as exc:
            near = get_close_matches(args[0], self.list_commands(ctx), n=3, cutoff=0.5)
            if near:
                hint = f" Did you mean {' or '.join(repr(n) for n in near)}?"
                raise click.UsageError(f"There is no command {args[0]!r}.{hint}", ctx) from exc
            raise


def output_option(command: Callable[..., Any]) -> Callable[..., Any]:
    """--json means the same everywhere: the result, as JSON, on stdout."""

    @click.option("--json", "as_json", is_flag=True, help="The result as JSON.")
    @click.pass_obj
    @wraps(command)
    def wrapped(cart: Cart, *args: Any, as_json: bool, **kwargs: Any) -> Any:
        cart.as_json = cart.as_json or as_json
        return command(cart, *args, **kwargs)

    return wrapped


def exit_code(run: JsonObject) -> int:
    if run["state"] == "held":
        return HELD
    if run["outcome"] in ("clean", "nothing-to-do", "skipped", ""):
        return DONE
    return PROBLEMS


def fail(exc: Any) -> int:
    """Tell a client error on stderr: what, which, what to do, the code. Gives the exit code."""
    from pinecart.client import NotAllowed, NotSignedIn, ServiceUnreachable

    lines: Iterable[str] = [p["message"] for p in exc.problems] or [exc.message]
    for line in lines:
        say(f"pinecart: {line}")
    say(f"code: {exc.code}")
    if isinstance(exc, ServiceUnreachable):
        return OUT_OF_REACH
    if exc.code in ("location.not-here", "location.in-no-store"):
        return WRONG_USE
    if isinstance(exc, NotAllowed | NotSignedIn):
        return NOT_ALLOWED
    return PROBLEMS


def read_secret(prompt: str, given: str | None) -> str:
    """A secret: from a file, from standard input (`-`), or asked for unseen. Never an argument."""
    if given == "-":
        return sys.stdin.readline().rstrip("\n")
    if given:
        return Path(given).read_text().strip()
    return str(click.prompt(prompt, hide_input=True, err=True))
