"""Stores, buckets, and what lies in them."""

from __future__ import annotations

import sys
from typing import Any

import click

from pinecart.cli.frame import PROBLEMS, Cart, Words, output_option, read_secret, say
from pinecart.cli.words import age, older_than, table
from pinecart.client.places import store_and_path

FROM_FILE = "Read the secret from a file; - is standard input. Else it is asked for."


@click.group(cls=Words)
def store() -> None:
    """The storage systems that Pine Cart can reach.

    \b
    pinecart store add office --kind s3 --endpoint https://objects.example --key-id LARKFELL
    """


def _form(fields: dict[str, Any]) -> dict[str, Any]:
    """A store's form from options; what lies in files is read here."""
    form = {
        k: v for k, v in fields.items() if v is not None and v != () and not k.endswith("_file")
    }
    if fields.get("certificate_file"):
        form["certificate"] = fields["certificate_file"].read()
    if fields.get("session_token_file"):
        form["session_token"] = read_secret("Session token", fields["session_token_file"])
    if fields.get("proxy_password_file"):
        form["proxy_password"] = read_secret("The proxy's password", fields["proxy_password_file"])
    if fields.get("pasted_file"):
        with click.open_file(fields["pasted_file"]) as file:
            form["pasted"] = file.read()
    return form


def store_options(command: Any) -> Any:
    for option in (
        click.option(
            "--untried", is_flag=True, default=None, help="Save a new key without trying it first."
        ),
        click.option(
            "--pasted-file",
            metavar="FILE",
            help="Read an address or credentials as they come; - is standard input.",
        ),
        click.option("--anonymous", is_flag=True, default=None, help="s3: without a key."),
        click.option(
            "--session-token-file",
            metavar="FILE",
            help="s3: the token of a temporary key, from a file or - .",
        ),
        click.option(
            "--certificate-file", type=click.File(), help="s3: the authority's certificate, PEM."
        ),
        click.option("--proxy", help="s3: http://HOST:PORT"),
        click.option("--proxy-user", help="s3: who we are at the proxy."),
        click.option(
            "--proxy-password-file",
            metavar="FILE",
            help="s3: with which password, from a file or - .",
        ),
        click.option(
            "--silence", "silence_s", type=float, help="s3: seconds that an answer may stay silent."
        ),
        click.option(
            "--addressing",
            type=click.Choice(["path", "host"]),
            help="s3: where the bucket stands in addresses.",
        ),
        click.option("--root", help="s3: confine it to this bucket, or bucket/prefix."),
        click.option("--region", help="s3: the region's code; us-east-1 if left out."),
        click.option("--key-id", help="s3: the id of the access key."),
        click.option("--secret-file", metavar="FILE", help="s3: " + FROM_FILE),
        click.option("--endpoint", help="s3: https://HOST or https://HOST:PORT."),
        click.option(
            "--sign-payload",
            type=click.Choice(["yes", "no"]),
            help="s3 over plain HTTP: the content is part of the signature (yes, default), or not.",
        ),
        click.option(
            "--most-at-once",
            type=click.IntRange(1, 256),
            help=(
                "So many requests, or files, at once, over all runs. Without it, as many as "
                "bring more."
            ),
        ),
        click.option(
            "--links",
            type=click.Choice(["refuse", "skip", "follow", "keep"]),
            help=(
                "folder: links are refused and listed (default), skipped, followed inside the "
                "folder, or kept as links."
            ),
        ),
        click.option(
            "--marker",
            metavar="NAME",
            help="folder: a file in it without which it is taken for another disk, and left alone.",
        ),
        click.option(
            "--read-back",
            type=click.Choice(["yes", "no"]),
            help="folder: what is written is read again to prove it (yes), or not.",
        ),
        click.option(
            "--label",
            "labels",
            multiple=True,
            help="Whoever has rights on this label may use it; may be given again.",
        ),
        click.option("--path", help="folder: the whole path on the service's machine."),
    ):
        command = option(command)
    return command


@store.command("add")
@click.argument("name")
@click.option(
    "--kind", type=click.Choice(["folder", "s3"]), required=True, help="What kind of storage it is."
)
@click.option("--try-first", is_flag=True, help="Try it, and add it only if all works.")
@store_options
@output_option
def store_add(
    cart: Cart, name: str, kind: str, try_first: bool, secret_file: str | None, **fields: Any
) -> None:
    """Register a storage system under a short name.

    \b
    pinecart store add posts --kind folder --path /srv/larkfell/posts
    pinecart store add office --kind s3 --endpoint https://objects.example --key-id LARKFELL
    --secret-file key.txt
    """
    form = _form({"name": name, "kind": kind, **fields})
    if form.get("pasted"):
        told = cart.client.read_pasted(form["pasted"])
        say("Understood: " + ", ".join(f"{k} {v}" for k, v in told["found"].items()))
        for odd in told["odd"]:
            say(odd)
    if kind == "s3" and not form.get("anonymous") and (secret_file or not form.get("pasted")):
        form["secret"] = read_secret("Secret", secret_file)
    if try_first:
        tried = cart.client.try_form(form)
        if not tried["ok"]:
            _steps(tried)
            sys.exit(PROBLEMS)
    made = cart.client.add_store(form)
    cart.show(made, lambda: say(f"Added store {name}. Try it with: pinecart store try {name}"))


@store.command("try")
@click.argument("name")
@click.option(
    "--write-to",
    default="",
    metavar="PATH",
    help="Also write, read and delete a small file of our own there.",
)
@output_option
def store_try(cart: Cart, name: str, write_to: str) -> None:
    """Try a store: resolve, connect, sign in, list, and where asked write, read and delete.

    \b
    pinecart store try office --write-to larkfell
    """
    tried = cart.client.try_store(name, write_to=write_to)
    cart.show(tried, lambda: _steps(tried))
    sys.exit(0 if tried["ok"] else PROBLEMS)


def _steps(tried: dict[str, Any]) -> None:
    for step in tried["steps"]:
        sign = {True: click.style("✓", fg="green"), False: click.style("✗", fg="red"), None: "○"}[
            step["ok"]
        ]
        click.echo(
            f"{sign} {step['step']:<10} {step['message']}"
            + (f"  ({step['code']})" if step["code"] else "")
        )


@store.command("list")
@output_option
def store_list(cart: Cart) -> None:
    """All stores.

    \b
    pinecart store list
    """
    found = cart.client.stores()
    rows = [
        [
            s["name"],
            s["kind"],
            s["address"],
            _tried(s),
            ", ".join(s["jobs"]) or "-",
            ", ".join(s["labels"]) or "-",
        ]
        for s in found
    ]
    empty = "No stores yet. Add one with: pinecart store add NAME --kind folder --path PATH"
    cart.show(
        found,
        lambda: (
            table(["store", "kind", "address", "last try", "jobs", "labels"], rows, flexible=2)
            if rows
            else say(empty)
        ),
    )


def _tried(store: dict[str, Any]) -> str:
    if not store["tried_at"]:
        return "never tried"
    bad = [s["step"] for s in store["tried"] if s["ok"] is False]
    return (f"✗ {bad[0]} failed, " if bad else "✓ works, ") + age(store["tried_at"])


@store.command("show")
@click.argument("name")
@output_option
def store_show(cart: Cart, name: str) -> None:
    """One store. Its secret is never shown.

    \b
    pinecart store show office
    """
    found = cart.client.store(name)

    def plain() -> None:
        shown = {
            k: v
            for k, v in found.items()
            if k not in ("tried", "tried_at", "address", "jobs", "secret_since")
        }
        key = f"given {age(found['secret_since'])}" if found["secret_since"] else "none"
        key += (
            " ◆ over a year: give a new one" if older_than(found["secret_since"], days=365) else ""
        )
        more = {"key": key, "last try": _tried(found), "jobs": ", ".join(found["jobs"]) or "none"}
        told = {label.replace("_", " "): value for label, value in (shown | more).items()}
        width = max(map(len, told))
        for label, value in told.items():
            click.echo(f"{label:<{width}}  {value}")

    cart.show(found, plain)


@store.command("change")
@click.argument("name")
@click.option(
    "--rebind",
    is_flag=True,
    default=None,
    help="The same files lie at the new address: each job's next run waits for a yes.",
)
@click.option(
    "--new-secret", is_flag=True, help="Give a new secret: asked for, or from --secret-file."
)
@store_options
@output_option
def store_change(
    cart: Cart, name: str, new_secret: bool, secret_file: str | None, **fields: Any
) -> None:
    """Change a store's fields, or give a new key.

    \b
    pinecart store change office --key-id LARKFELL2 --new-secret
    """
    form = _form(fields)
    if new_secret or secret_file:
        form["secret"] = read_secret("New secret", secret_file)
    if not form:
        raise click.UsageError("Nothing to change was given. See: pinecart store change --help")
    made = cart.client.change_store(name, form)
    cart.show(made, lambda: say(f"Changed store {name}. Try it with: pinecart store try {name}"))


@store.command("go-on")
@click.argument("name")
@output_option
def store_go_on(cart: Cart, name: str) -> None:
    """Let all runs go on that wait since this store refused its key: for after it was put right.

    \b
    pinecart store change office --new-secret
    pinecart store go-on office
    """
    numbers = cart.client.go_on(name)
    told = (
        f"Going on: run {', '.join(map(str, numbers))}." if numbers else f"No run waits for {name}."
    )
    cart.show({"runs": numbers}, lambda: say(told))


@store.command("drop")
@click.argument("name")
@click.option("--yes", is_flag=True, help="Don't ask.")
def store_drop(name: str, yes: bool) -> None:
    """Forget a store; nothing in it is touched.

    \b
    pinecart store drop partner
    """
    if not yes:
        click.confirm(
            f"Forget store {name} and its key? Nothing in it is touched.", abort=True, err=True
        )
    click.get_current_context().obj.client.drop_store(name)
    say(f"Store {name} is forgotten.")


@click.group(cls=Words)
def bucket() -> None:
    """Buckets of a store.

    \b
    pinecart bucket add pine://office/larkfell
    """


def _bucket_at(cart: Cart, location: str) -> tuple[str, str]:
    store, path = store_and_path(cart.client.location(location))
    name, _, rest = path.partition("/")
    if not name or rest:
        raise click.UsageError(f"{location} is no bucket: write it as pine://STORE/BUCKET")
    return store, name


@bucket.command("add")
@click.argument("location")
@output_option
def bucket_add(cart: Cart, location: str) -> None:
    """Make a bucket; if it was there already, nothing changes.

    \b
    pinecart bucket add pine://office/larkfell
    """
    store, name = _bucket_at(cart, location)
    made = cart.client.make_bucket(store, name)
    words = (
        f"Made bucket {name} at {store}."
        if made["made"]
        else f"Bucket {name} was there already at {store}; nothing changed."
    )
    cart.show(made, lambda: say(words))


@bucket.command("drop")
@click.argument("location")
@click.option("--yes", is_flag=True, help="Don't ask.")
@click.pass_obj
def bucket_drop(cart: Cart, location: str, yes: bool) -> None:
    """Drop a bucket, only if it is empty.

    \b
    pinecart bucket drop pine://office/larkfell-old
    """
    store, name = _bucket_at(cart, location)
    if not yes:
        click.confirm(f"Drop the empty bucket {name} at {store}?", abort=True, err=True)
    cart.client.drop_bucket(store, name)
    say(f"Bucket {name} at {store} is dropped.")
