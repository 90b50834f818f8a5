"""What a form asks for. The API's schema, the command line's options and the console's inputs are
made from these descriptions; the checks are here.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, NamedTuple

from pinecart.json_object import JsonObject


class FieldType(StrEnum):
    """How a value is written down, and asked for."""

    TEXT = "text"
    ADDRESS = "address"  # of another machine, without a user and a password
    BLOCK = "block"  # several lines, which a command line reads from a file
    UNSEEN = "unseen"  # typed unseen, or read from a file; never an argument
    FOLDER = "folder"  # a whole path on the service's machine
    CHOICE = "choice"
    CHOICES = "choices"  # any number of a few
    YES_NO = "yes-no"
    FLAG = "flag"  # set, or left out
    NUMBER = "number"
    NUMBERS = "numbers"  # one for each of its choices
    SECONDS = "seconds"
    LIST = "list"  # of texts
    SIZE = "size"  # such as 10 MiB
    AGE = "age"  # such as 32 days
    DATE = "date"
    RENAMING = "renaming"  # a pattern and what replaces it, or a template alone


class Choice(NamedTuple):
    """One of a few. title: as a form shows it.   is_danger: it removes, or loses something."""

    value: str
    title: str
    is_danger: bool = False


class Wrong(NamedTuple):
    """What is wrong with a value. code: stable, for programs."""

    code: str
    message: str


YES_OR_NO = ("yes", "no")


def nothing_wrong(value: str) -> str:
    return ""


@dataclass(frozen=True)
class FormField:
    """One field.

    help: one sentence.   default: in words, what is so without it.   is_sealed: kept like a secret.
    needed_unless: a flag that makes it needless.   goes_with: the field of whose address it is a
    secret; empty: the store's own.   least, most: of a number.   check: what is wrong with a value,
    in a sentence; empty: nothing.   code: of what the check finds.   is_common: asked for at
    once; else among what few need.
    """

    name: str
    type: FieldType
    title: str
    help: str = ""
    is_needed: bool = False
    is_sealed: bool = False
    needed_unless: str = ""
    goes_with: str = ""
    example: str = ""
    default: str = ""
    choices: tuple[Choice, ...] = ()
    least: int = 0
    most: int = 0
    check: Callable[[str], str] = nothing_wrong
    code: str = "store.field-malformed"
    is_common: bool = True

    def wrong(self, value: str) -> Wrong | None:
        """What is wrong with a value that was given; None: nothing."""
        of_type = _TYPE_CHECKS.get(self.type)
        if of_type and (wrong := of_type(self, value)):
            return wrong
        message = self.check(value)
        if message:
            return Wrong(self.code, message)
        return None

    def described(self) -> JsonObject:
        """As forms and command lines are made from it."""
        return {
            "name": self.name,
            "type": self.type.value,
            "title": self.title,
            "help": self.help,
            "is_needed": self.is_needed,
            "needed_unless": self.needed_unless,
            "is_sealed": self.is_sealed,
            "example": self.example,
            "default": self.default,
            "choices": [choice._asdict() for choice in self.choices],
            "is_common": self.is_common,
            "least": self.least,
            "most": self.most,
        }

    def typed(self, value: str) -> Any:
        """A kept value, as JSON tells it."""
        if self.type is FieldType.FLAG:
            return bool(value)
        if self.type is FieldType.NUMBER:
            if value:
                return int(value)
            return None
        if self.type is FieldType.SECONDS:
            if value:
                return float(value)
            return None
        return value


def _has_no_password(field: FormField, value: str) -> Wrong | None:
    if "@" not in value:
        return None
    message = f"{field.name}: an address has no user and no password in it; they are fields."
    return Wrong("store.password-in-address", message)


def _is_choice(field: FormField, value: str) -> Wrong | None:
    """None: it is one of those that the field offers. Else what is wrong with it, and which there
    are.
    """
    known = [choice.value for choice in field.choices]
    if value in known:
        return None
    choices = ", ".join(known)
    message = f"{field.name} can't be {value!r}. Choose one of: {choices}."
    return Wrong("store.unknown-choice", message)


def _is_yes_or_no(field: FormField, value: str) -> Wrong | None:
    if value in YES_OR_NO:
        return None
    return Wrong("store.yes-or-no", f"{field.name} is 'yes' or 'no', not {value!r}.")


def _is_number(field: FormField, value: str) -> Wrong | None:
    least = field.least
    most = field.most
    is_whole = value.isascii() and value.isdecimal()
    if is_whole and least <= int(value) <= most:
        return None
    bounds = f"from {least} to {most}"
    without = ""
    if field.default:
        without = f"; without one it is {field.default}"
    message = f"{field.name} is a number {bounds}, not {value!r}{without}."
    return Wrong("store.not-a-number", message)


def _is_seconds(field: FormField, value: str) -> Wrong | None:
    """None: it is a number of seconds, with or without a fraction. Digits of other scripts are
    none.
    """
    digits = value.replace(".", "", 1)
    if digits.isascii() and digits.isdigit():
        return None
    message = f"{field.name} must be a number of seconds, not {value!r}."
    return Wrong("store.seconds", message)


_TYPE_CHECKS: dict[FieldType, Callable[[FormField, str], Wrong | None]] = {
    FieldType.ADDRESS: _has_no_password,
    FieldType.CHOICE: _is_choice,
    FieldType.YES_NO: _is_yes_or_no,
    FieldType.NUMBER: _is_number,
    FieldType.SECONDS: _is_seconds,
}
