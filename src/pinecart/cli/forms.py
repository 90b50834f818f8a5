"""Options that the service describes: the fields of each kind of store, the options of a job. They
are asked for when a command that has them is read, so that a new one needs nothing here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any

import click

from pinecart.cli.frame import Cart, read_secret
from pinecart.json_object import JsonObject

Field = JsonObject
Forms = JsonObject
NOT_ASKED = "pinecart.forms"  # in a context's meta: why the service could not be asked
METAVARS = {"size": "SIZE", "age": "AGE", "date": "DATE", "list": "PATTERN"}


class FormCommand(click.Command):
    """fields: which fields of the forms are its options."""

    def __init__(
        self, *args: Any, fields: Callable[[Forms], Iterable[Field]], **kwargs: Any
    ) -> None:
        """fields: asked of the service once the command is used, so that its options are those of
        the service that answers.
        """
        super().__init__(*args, **kwargs)
        self._fields = fields

    def get_params(self, ctx: click.Context) -> list[click.Parameter]:
        return [*self._described(ctx), *super().get_params(ctx)]

    def _described(self, ctx: click.Context) -> list[click.Parameter]:
        from pinecart.client import ClientError

        if not isinstance(ctx.obj, Cart):
            return []
        try:
            forms = ctx.obj.forms
        except (ClientError, click.UsageError) as exc:
            ctx.meta[NOT_ASKED] = exc
            return []
        options: list[click.Parameter] = []
        for field in self._fields(forms):
            options += options_of(field)
        return options

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        try:
            return super().parse_args(ctx, args)
        except click.UsageError:
            if NOT_ASKED in ctx.meta:
                raise ctx.meta[NOT_ASKED] from None
            raise

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        super().format_epilog(ctx, formatter)
        if NOT_ASKED in ctx.meta:
            formatter.write_paragraph()
            formatter.write_text(
                "It has more options, which the service describes; it can't be asked now."
            )


def flag_of(field: Field) -> str:
    """The option of a field. Seconds are seconds without its name saying so."""
    name = str(field["name"])
    if field["type"] == "seconds":
        name = name.removesuffix("_s")
    return "--" + name.replace("_", "-")


def _help(field: Field) -> str:
    """What the field is, with an example and what holds without it; `of` says which kinds have it,
    where not all have.
    """
    text = str(field["help"]) or f"{field['title']}."
    example = field["example"]
    default = field["default"]
    if example:
        text += f" Such as {example!r}."
    if default:
        text += f" Without it: {default}."
    kinds = str(field.get("of", ""))
    return kinds + text


def options_of(field: Field) -> list[click.Option]:
    """The options by which a field is given: one for most."""
    return _MAKERS.get(field["type"], _text_option)(field)


def _text_option(field: Field) -> list[click.Option]:
    metavar = METAVARS.get(field["type"], "TEXT")
    return [click.Option([flag_of(field), field["name"]], metavar=metavar, help=_help(field))]


def _file_option(field: Field) -> list[click.Option]:
    """What is no argument: it is read from a file, or from standard input."""
    name = f"{field['name']}_file"
    flag = flag_of(field) + "-file"
    words = f"{_help(field)} From a file; - is standard input."
    option = click.Option([flag, name], metavar="FILE", help=words)
    return [option]


def _list_option(field: Field) -> list[click.Option]:
    """One value each time it is given. A list on one line would need a separator that no value may
    have.
    """
    words = f"{_help(field)} May be given again."
    metavar = METAVARS["list"]
    names = [flag_of(field), field["name"]]
    option = click.Option(names, multiple=True, metavar=metavar, help=words)
    return [option]


def _choice_option(field: Field) -> list[click.Option]:
    """A choice that isn't offered is refused by the command line, before anything is asked of the
    service.
    """
    values = [choice["value"] for choice in field["choices"]]
    kind = click.Choice(values)
    words = _help(field)
    many = field["type"] == "choices"
    if many:
        words += " May be given again."
    names = [flag_of(field), field["name"]]
    option = click.Option(names, type=kind, multiple=many, help=words)
    return [option]


def _number_option(field: Field) -> list[click.Option]:
    bounds = click.IntRange(field["least"], field["most"])
    return [click.Option([flag_of(field), field["name"]], type=bounds, help=_help(field))]


def _numbers_option(field: Field) -> list[click.Option]:
    flags = [flag_of(field), field["name"]]
    names = []
    for choice in field["choices"]:
        value = choice["value"]
        title = choice["title"]
        names.append(f"{value} ({title})")
    of = ", ".join(names)
    words = f"{_help(field)} As NAME=NUMBER, of {of}. May be given again."
    option = click.Option(flags, multiple=True, metavar="NAME=NUMBER", help=words)
    return [option]


def _seconds_option(field: Field) -> list[click.Option]:
    return [click.Option([flag_of(field), field["name"]], type=float, help=_help(field))]


def _flag_option(field: Field) -> list[click.Option]:
    names = [flag_of(field), field["name"]]
    return [click.Option(names, is_flag=True, default=None, help=_help(field))]


def _renaming_options(field: Field) -> list[click.Option]:
    """A pair: what is looked for, and what takes its place. Without the first, every name is made
    anew.
    """
    flag = flag_of(field)
    name = field["name"]
    names = [flag, name]
    words = "Rename: a regular expression, which the new name replaces."
    pattern = click.Option(names, metavar="PATTERN", help=words)
    names = [f"{flag}-to", f"{name}_to"]
    words = _help(field)
    replacement = click.Option(names, metavar="NAME", help=words)
    return [pattern, replacement]


_MAKERS: Mapping[str, Callable[[Field], list[click.Option]]] = {
    "unseen": _file_option,
    "block": _file_option,
    "list": _list_option,
    "choice": _choice_option,
    "yes-no": _choice_option,
    "choices": _choice_option,
    "number": _number_option,
    "numbers": _numbers_option,
    "seconds": _seconds_option,
    "flag": _flag_option,
    "renaming": _renaming_options,
}


def given_values(fields: Iterable[Field], options: Mapping[str, Any]) -> JsonObject:
    """What of the fields was given by options; what lies in files is read."""
    given = {}
    for field in fields:
        value = _given_value(field, options)
        if value is not None:
            given[field["name"]] = value
    return given


def _given_value(field: Field, options: Mapping[str, Any]) -> Any:
    """None: it was not given."""
    name = field["name"]
    kind = field["type"]
    if kind == "unseen":
        file = options.get(f"{name}_file")
        if file:
            return read_secret(field["title"], file)
        return None
    if kind == "block":
        file = options.get(f"{name}_file")
        return _content_of(file) if file else None
    if kind == "renaming":
        to = options.get(f"{name}_to")
        if to:
            return {"pattern": options.get(name) or "", "to": to}
        return None
    value = options.get(name)
    if kind in ("list", "choices"):
        return list(value) if value else None
    if kind == "numbers":
        return _numbers(field, value) if value else None
    return None if value == "" else value


def _content_of(file: str) -> str:
    with click.open_file(file) as opened:
        return str(opened.read())


def _numbers(field: Field, given: Iterable[str]) -> dict[str, int]:
    """Of NAME=NUMBER, given once or more; hyphens in names are as good as underscores. Raises
    BadParameter.
    """
    found = {}
    for text in given:
        name, _, number = text.partition("=")
        if not number.strip().isdigit():
            raise click.BadParameter(
                f"{text!r}: write it as NAME=NUMBER", param_hint=flag_of(field)
            )
        found[name.strip().replace("-", "_")] = int(number)
    return found
