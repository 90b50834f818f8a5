"""Stores, buckets, and what lies in them."""

from __future__ import annotations

import sys
from typing import Any

import click

from pinecart.cli.forms import Field, FormCommand, given_values
from pinecart.cli.frame import PROBLEMS, Cart, Words, output_option, read_secret, say
from pinecart.cli.words import age, older_than, table
from pinecart.client.places import store_and_path
from pinecart.json_object import JsonObject

TOLD_APART = ("tried", "tried_at", "address", "jobs", "secret_since")


@click.group(cls=Words)
def store() -> None:
    """The storage systems that Pine Cart can reach.

    \b
    pinecart store add office --kind s3 --endpoint https://objects.example --key-id LARKFELL
    """


def store_fields(forms: JsonObject) -> list[Field]:
    """Those of all kinds of store; of one that not all have it is said which."""
    kinds = forms["stores"]
    alike: dict[str, list[tuple[Field, list[str]]]] = {}  # by name, then by what they ask for
    for kind in kinds:
        kind_name = kind["kind"]
        for field in kind["fields"]:
            told = alike.setdefault(field["name"], [])
            same = next((of for known, of in told if known["help"] == field["help"]), None)
            if same is None:
                same = []
                told.append((field, same))
            same.append(kind_name)
    return [_of_kinds(told, len(kinds)) for told in alike.values()]


def _of_kinds(told: list[tuple[Field, list[str]]], kinds: int) -> Field:
    """One field, whichever kinds have it: what it asks for may be another thing in each."""
    first, of = told[0]
    if len(told) == 1:
        has_all = len(of) == kinds
        return first | {"of": "" if has_all else f"{', '.join(of)}: "}
    words = []
    for field, of in told:
        some = ", ".join(of)
        asks = field["help"].rstrip(".")
        words.append(f"{some}: {asks}")
    together = first | {"of": "", "example": "", "default": ""}
    together["help"] = "; ".join(words) + "."
    return together


def _fields_to_add(forms: JsonObject) -> list[Field]:
    kinds = [{"value": k["kind"], "title": k["title"]} for k in forms["stores"]]
    kind = {
        "name": "kind",
        "type": "choice",
        "title": "Kind",
        "help": "What kind of storage it is.",
        "example": "",
        "default": "",
        "choices": kinds,
    }
    return [kind, *store_fields(forms)]


def _form(cart: Cart, options: JsonObject) -> JsonObject:
    """A store's form from options; what lies in files is read here."""
    form = given_values(_fields_to_add(cart.forms), options)
    if options["labels"]:
        form["labels"] = list(options["labels"])
    for flag in ("untried", "rebind"):
        if options.get(flag):
            form[flag] = True
    if options["pasted_file"]:
        with click.open_file(options["pasted_file"]) as file:
            form["pasted"] = file.read()
    return form


def _ask_for_secrets(cart: Cart, kind: str, form: JsonObject) -> None:
    """Those that the kind needs and that were not given; unseen."""
    kinds = cart.forms["stores"]
    fields = next(one["fields"] for one in kinds if one["kind"] == kind)
    for field in fields:
        name = field["name"]
        title = field["title"]
        is_secret = field["type"] == "unseen"
        has_another = form.get(field["needed_unless"])
        is_asked = field["is_needed"] and not has_another
        if is_secret and is_asked and name not in form:
            form[name] = read_secret(title, None)


def store_options(command: Any) -> Any:
    """What every kind of store may be given; the rest the service describes."""
    for option in (
        click.option("--untried", is_flag=True, help="Save a new key without trying it first."),
        click.option(
            "--pasted-file",
            metavar="FILE",
            help="Read an address or credentials as they come; - is standard input.",
        ),
        click.option(
            "--label",
            "labels",
            multiple=True,
            help="Whoever has rights on this label may use it; may be given again.",
        ),
    ):
        command = option(command)
    return command


@store.command("add", cls=FormCommand, fields=_fields_to_add)
@click.argument("name")
@click.option("--try-first", is_flag=True, help="Try it, and add it only if all works.")
@store_options
@output_option
def store_add(cart: Cart, name: str, try_first: bool, **options: Any) -> None:
    """Register a storage system under a short name.

    \b
    pinecart store add posts --kind folder --path /srv/larkfell/posts
    pinecart store add office --kind s3 --endpoint https://objects.example \\
        --key-id LARKFELL --secret-file key.txt
    """
    form = {"name": name, **_form(cart, options)}
    if form.get("pasted"):
        told = cart.client.read_pasted(form["pasted"])
        say("Understood: " + ", ".join(f"{k} {v}" for k, v in told["found"].items()))
        for odd in told["odd"]:
            say(odd)
        form = {"kind": told["found"].get("kind", "")} | form
    if not form.get("kind"):
        known = ", ".join(k["kind"] for k in cart.forms["stores"])
        raise click.UsageError(f"Missing option '--kind'. Choose from: {known}")
    if not form.get("pasted"):
        _ask_for_secrets(cart, form["kind"], form)
    if try_first:
        tried = cart.client.try_form(form)
        if not tried["ok"]:
            _steps(tried)
            sys.exit(PROBLEMS)
        for step in tried["steps"]:
            form = step.get("found", {}) | form
    made = cart.client.add_store(form)
    cart.show(made, lambda: say(f"Added store {name}. Try it with: pinecart store try {name}"))


@store.command("find")
@click.argument("address")
@output_option
def store_find(cart: Cart, address: str) -> None:
    """Find the store that reaches an address of a share, a server or a storage.

    \b
    pinecart store find '\\\\nas.museum.example\\larkfell\\in'
    """
    found = cart.client.find_place(address)
    cart.show({"locations": found}, lambda: click.echo("\n".join(found)))
    if not found:
        say("No store reaches it. Add one: pinecart store add NAME --pasted-file -")
        sys.exit(PROBLEMS)


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


def _steps(tried: JsonObject) -> None:
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


def _age_of_key(since: str | None) -> str:
    if not since:
        return "none"
    given = f"given {age(since)}"
    if older_than(since, days=365):
        return f"{given} ◆ over a year: give a new one"
    return given


def _tried(store: JsonObject) -> str:
    at = store["tried_at"]
    if not at:
        return "never tried"
    when = age(at)
    for step in store["tried"]:
        if step["ok"] is False:
            return f"✗ {step['step']} failed, {when}"
    return f"✓ works, {when}"


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
        told = {}
        for label, value in found.items():
            if label not in TOLD_APART:
                told[label.replace("_", " ")] = value
        told["key"] = _age_of_key(found["secret_since"])
        told["last try"] = _tried(found)
        told["jobs"] = ", ".join(found["jobs"]) or "none"
        width = max(map(len, told))
        for label, value in told.items():
            click.echo(f"{label:<{width}}  {value}")

    cart.show(found, plain)


@store.command("change", cls=FormCommand, fields=store_fields)
@click.argument("name")
@click.option(
    "--rebind",
    is_flag=True,
    help="The same files lie at the new address: each job's next run waits for a yes.",
)
@click.option(
    "--new-secret", is_flag=True, help="Give a new secret: asked for, or from --secret-file."
)
@store_options
@output_option
def store_change(cart: Cart, name: str, new_secret: bool, **options: Any) -> None:
    """Change a store's fields, or give a new key.

    \b
    pinecart store change office --key-id LARKFELL2 --new-secret
    """
    form = _form(cart, options)
    if new_secret:
        _ask_for_secrets(cart, cart.client.store(name)["kind"], form)
    if not form:
        raise click.UsageError("Nothing to change was given. See: pinecart store change --help")
    made = cart.client.change_store(name, form)
    words = f"Changed store {name}. Try it with: pinecart store try {name}"
    cart.show(made, lambda: say(words))


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
    if numbers:
        told = f"Going on: run {', '.join(map(str, numbers))}."
    else:
        told = f"No run waits for {name}."
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
    """Store and bucket of a location that names a bucket and nothing below it. Raises UsageError
    for any other.
    """
    place = cart.client.location(location)
    store, path = store_and_path(place)
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
    if made["made"]:
        words = f"Made bucket {name} at {store}."
    else:
        words = f"Bucket {name} was there already at {store}; nothing changed."
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
