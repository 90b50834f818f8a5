"""What an option of a job is: how a value of it is read and checked, told, and asked for."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from pinecart.core.decide import Intent
from pinecart.core.errors import Invalid
from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.places import Location
from pinecart.core.selection import read_size
from pinecart.json_object import JsonObject

JOB, CARRY, REMOVE = "job", "carry", "remove"  # what an option may be used in
INVENTORY = "inventory-of-a-place"  # it has no options; no name that a job may have already
Chosen = Mapping[str, Any]  # the values of all options, by name
NOT_GIVEN = (None, "")


@dataclass
class Problems:
    """All that is wrong with a definition is said at once."""

    problems: list[dict[str, str]] = field(default_factory=list)

    def wrong(self, field: str, code: str, message: str) -> None:
        self.problems.append({"field": field, "code": code, "message": message})

    def nested(self, call: Any, *args: Any, where: str = "") -> Any:
        """What a reader of a part gives; None: it found something wrong."""
        try:
            return call(*args)
        except Invalid as exc:
            for problem in exc.problems:
                field = where + problem["field"]
                self.problems.append({**problem, "field": field})
            return None


class Draft(NamedTuple):
    """What else of a definition a check may look at. places: all that it takes from and puts to."""

    job: str
    intent: Intent
    places: Sequence[Location]


ReadsValue = Callable[[FormField, Any, str, Problems], Any]


def no_sentence(value: Any, chosen: Chosen) -> str:
    return ""


def no_danger(value: Any, chosen: Chosen) -> bool:
    return False


def nothing_else(value: Any, draft: Draft, reading: Problems) -> None:
    pass


@dataclass(frozen=True)
class OptionSpec:
    """One option.

    field: as forms and command lines ask for it.   default: by the intent.   is_of_leg: each leg
    has its own.   used_in: jobs, one-off transfers, one-off removals.   shown_for: the intents for
    which a form asks for it; none: for all.   read: a given value as it is kept (JSON); what is
    wrong with it is told.   check: what it must agree with.   sentence: what it does, for people;
    empty: nothing worth saying.   is_danger: whether that should be read twice.
    is_always_told: also where it is the default.
    """

    field: FormField
    default: Callable[[Intent], Any]
    is_of_leg: bool = False
    used_in: tuple[str, ...] = (JOB, CARRY)
    shown_for: tuple[Intent, ...] = ()
    read: ReadsValue | None = None
    check: Callable[[Any, Draft, Problems], None] = nothing_else
    sentence: Callable[[Any, Chosen], str] = no_sentence
    is_danger: Callable[[Any, Chosen], bool] = no_danger
    is_always_told: bool = False

    @property
    def name(self) -> str:
        return self.field.name

    def value_of(
        self, given: Mapping[str, Any], intent: Intent, where: str, reading: Problems
    ) -> Any:
        """The value in a mapping, or the default."""
        value = given.get(self.name)
        if value in NOT_GIVEN:
            return self.default(intent)
        read = self.read or READS[self.field.type]
        found = read(self.field, value, where + self.name, reading)
        if found is None:
            return self.default(intent)
        return found

    def told(self, value: Any, intent: Intent) -> JsonObject:
        """As a definition tells it: nothing, where it is as it would be anyway."""
        if self.is_always_told or value != self.default(intent):
            return {self.name: value}
        return {}

    def described(self) -> JsonObject:
        """As forms and command lines are made from it."""
        return {
            **self.field.described(),
            "is_of_leg": self.is_of_leg,
            "used_in": list(self.used_in),
            "shown_for": [intent.value for intent in self.shown_for],
        }


def always(value: Any) -> Callable[[Intent], Any]:
    """A default whatever the intent."""
    return lambda intent: value


def as_written(field: FormField, value: Any, where: str, reading: Problems) -> Any:
    """Kept as given; whoever uses it reads it."""
    return value or None


def _text(field: FormField, value: Any, where: str, reading: Problems) -> str | None:
    """Without spaces around it. None: it is no text, and the place where it stands is told to
    whoever gave it.
    """
    if isinstance(value, str):
        return value.strip()
    reading.wrong(where, "job.malformed", f"{where} must be text, not {value!r}.")
    return None


def _list(field: FormField, value: Any, where: str, reading: Problems) -> list[str] | None:
    """As given, in a list of its own. None: nothing is given, or it is no list of texts, which is
    told.
    """
    if is_list_of_texts(value):
        return list(value)
    if value:
        message = f"{where} must be a list of texts."
        reading.wrong(where, "job.malformed", message)
    return None


def is_list_of_texts(value: Any) -> bool:
    return isinstance(value, list) and all(isinstance(item, str) for item in value)


def _choice(field: FormField, value: Any, where: str, reading: Problems) -> str | None:
    """One of the field's choices, as it is spelled there. None: nothing is given, or it is another,
    which is told with all that may be chosen.
    """
    text = _text(field, value, where, reading)
    if not text:
        return None
    known = [choice.value for choice in field.choices]
    if text in known:
        return text
    choices = ", ".join(known)
    message = f"{where} can't be {text!r}. Choose one of: {choices}."
    reading.wrong(where, "job.unknown-choice", message)
    return None


def _choices(field: FormField, value: Any, where: str, reading: Problems) -> list[str] | None:
    wanted = _list(field, value, where, reading)
    if wanted is None:
        return None
    known = [choice.value for choice in field.choices]
    choices = ", ".join(known)
    for name in wanted:
        if name not in known:
            message = f"{where} can't have {name!r}. Choose from: {choices}."
            reading.wrong(where, "job.unknown-choice", message)
    return [name for name in known if name in wanted]


def _is_whole(value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool)


def _number(field: FormField, value: Any, where: str, reading: Problems) -> int | None:
    least = field.least
    most = field.most
    if _is_whole(value) and least <= value <= most:
        return int(value)
    bounds = f"from {least} to {most}"
    message = f"{where} must be a whole number {bounds}, not {value!r}."
    reading.wrong(where, "job.malformed", message)
    return None


def read_numbers(
    field: FormField, value: Any, where: str, reading: Problems
) -> dict[str, int] | None:
    names = [choice.value for choice in field.choices]
    known = ", ".join(names)
    if not isinstance(value, Mapping):
        if value:
            message = f"{where} has numbers for: {known}."
            reading.wrong(where, "job.malformed", message)
        return None
    given = {}
    for key, number in value.items():
        name = str(key).replace("-", "_")
        given[name] = number
        place = f"{where}.{name}"
        if name not in names:
            message = f"There is no limit {name!r}. There are: {known}."
            reading.wrong(place, "job.unknown-key", message)
        elif not _is_whole(number) or number < 0:
            message = f"The limit {name} must be a whole number, not {number!r}."
            reading.wrong(place, "job.malformed", message)
    return given


def _size(field: FormField, value: Any, where: str, reading: Problems) -> str | None:
    """Kept as it was written."""
    try:
        if value and read_size(str(value)):
            return str(value).strip()
        return None
    except ValueError as exc:
        reading.wrong(where, "job.malformed", f"{where} {value!r}: {exc}")
        return None


READS: dict[FieldType, ReadsValue] = {
    FieldType.TEXT: _text,
    FieldType.LIST: _list,
    FieldType.CHOICE: _choice,
    FieldType.CHOICES: _choices,
    FieldType.NUMBER: _number,
    FieldType.NUMBERS: read_numbers,
    FieldType.SIZE: _size,
    FieldType.FLAG: as_written,
    FieldType.AGE: as_written,
    FieldType.DATE: as_written,
}
