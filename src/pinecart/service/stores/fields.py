"""A store's form, checked before anything is saved or reached."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any, NamedTuple

from pinecart.core.errors import Invalid
from pinecart.core.form_fields import FieldType
from pinecart.core.pasting import Pasted, read_pasted
from pinecart.core.places import is_name
from pinecart.drivers import DRIVERS
from pinecart.drivers.driver_spec import DriverSpec
from pinecart.json_object import JsonObject
from pinecart.service.config.refusals import RightMissing
from pinecart.service.config.state import Options

Problems = list[dict[str, str]]


class Form(NamedTuple):
    """A store as given. secret: empty if none was given (a change that keeps the old one)."""

    name: str
    kind: str
    fields: JsonObject
    secret: dict[str, str]

    @property
    def driver(self) -> DriverSpec:
        return DRIVERS[self.kind]


def pasted_fields(text: str, kind: str = "") -> Pasted:
    """What was pasted, as the fields of that kind of store, or of the kind that fits best."""
    chosen = [DRIVERS[kind]] if kind in DRIVERS else list(DRIVERS.values())
    return read_pasted(text, [driver.pasting for driver in chosen])


def read_form(
    given: Mapping[str, Any],
    options: Options,
    state_folder: Path,
    *,
    old: Mapping[str, Any] | None = None,
) -> Form:
    """Check a form; `old` are the present fields of a store that is changed.

    Raises Invalid with every problem at once, RightMissing.
    """
    if given.get("pasted"):
        pasted = pasted_fields(str(given["pasted"]), str(given.get("kind") or ""))
        written = {k: v for k, v in given.items() if v not in (None, "")}
        given = pasted.fields | written
    name = str(given.get("name", ""))
    kind = str(given.get("kind", ""))
    problems = _wrong_with_name(name)
    if kind not in DRIVERS:
        message = f"{kind!r} is no kind of store. Choose one of: {', '.join(DRIVERS)}."
        raise Invalid([*problems, _problem("kind", "store.kind", message)])
    driver = DRIVERS[kind]
    values = _values(driver, {**(old or {}), **given})
    problems += _missing(driver, values, is_change=old is not None)
    problems += _secret_needed_again(driver, values, old)
    problems += _malformed(driver, values)
    if problems:
        raise Invalid(problems)
    for field in driver.fields:
        if field.type is FieldType.FOLDER and values.get(field.name):
            values[field.name] = allowed_folder(values[field.name], options, state_folder)
    kept = {k: v for k, v in values.items() if k not in driver.sealed}
    secret = {k: values[k] for k in driver.sealed if values.get(k)}
    return Form(name, kind, kept | driver.on_saving(kept), secret)


def _problem(field: str, code: str, message: str) -> dict[str, str]:
    return {"field": field, "code": code, "message": message}


def _wrong_with_name(name: str) -> Problems:
    if is_name(name):
        return []
    message = (
        f"{name!r} can't be a store's name: use small letters, digits and hyphens, 63 at most."
    )
    return [_problem("name", "store.name", message)]


def _values(driver: DriverSpec, given: Mapping[str, Any]) -> dict[str, str]:
    """The kind's own fields as text; a flag that isn't set is left out."""
    values = {}
    for field in driver.fields:
        value = given.get(field.name)
        if value is None:
            continue
        text = str(value).strip()
        is_off = text.lower() in ("", "false")
        if field.type is FieldType.FLAG and is_off:
            continue
        values[field.name] = text
    return values


def _missing(driver: DriverSpec, values: Mapping[str, str], *, is_change: bool) -> Problems:
    problems = []
    for field in driver.fields:
        name = field.name
        is_needless = not field.is_needed or values.get(field.needed_unless)
        stays_sealed = is_change and field.is_sealed
        if not (is_needless or stays_sealed or values.get(name)):
            message = f"A {driver.kind} store needs {name}."
            problem = _problem(name, "store.field-missing", message)
            problems.append(problem)
    return problems


def _secret_needed_again(
    driver: DriverSpec, values: Mapping[str, str], old: Mapping[str, Any] | None
) -> Problems:
    """A secret that stays goes nowhere but where it went before."""
    own = [f.name for f in driver.fields if f.is_sealed and not f.goes_with]
    if old is None or any(values.get(name) for name in own):
        return []
    for name in driver.guards_secret:
        before = old.get(name) or ""
        after = values.get(name) or ""
        if before != after:
            break
    else:
        return []
    message = "A new address needs the secret again, so that it is never sent elsewhere unasked."
    return [_problem(own[0], "store.secret-again", message)]


def _malformed(driver: DriverSpec, values: Mapping[str, str]) -> Problems:
    """What is wrong with each of the values by itself. Empty ones are asked for elsewhere, where
    they are needed.
    """
    problems = []
    for field in driver.fields:
        value = values.get(field.name)
        wrong = field.wrong(value) if value else None
        if wrong:
            problems.append(_problem(field.name, wrong.code, wrong.message))
    return problems


def allowed_folder(path: str, options: Options, state_folder: Path) -> str:
    """The real path, if it lies in a folder that the service was started with.

    Raises RightMissing, naming the option.
    """
    if not os.path.isabs(path):
        message = f"{path!r}: give the folder's whole path, from / on."
        raise Invalid([_problem("path", "store.path", message)])
    real = os.path.realpath(path)
    if is_in(real, str(state_folder)):
        message = f"{path} is Pine Cart's own state folder. It is never a store."
        raise RightMissing(message, code="store.state-folder")
    allowed = [os.path.realpath(f) for f in options.folders]
    if not any(is_in(real, f) for f in allowed):
        shown = ", ".join(allowed) or "none"
        message = (
            f"{path} lies outside the folders that this service may use (now: {shown}). Start it "
            f"with: pinecart serve --folders {real}"
        )
        raise RightMissing(message, code="store.folder-not-allowed", folders=allowed)
    if not os.path.isdir(real):
        message = f"{path}: there is no such folder on the service's machine. Make it first."
        raise Invalid([_problem("path", "store.no-folder", message)])
    return real


def is_in(inner: str, outer: str) -> bool:
    return inner == outer or inner.startswith(outer.rstrip("/") + "/")
