"""The options of a job and of its legs. A new one is an OptionSpec here, and its use in the engine;
the API, job files, the command line, the console's form, the sentences and the definition's digest
follow from it.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping
from typing import Any

from pinecart.core.decide import Comparison, Intent, OnDifference
from pinecart.core.form_fields import Choice, FieldType, FormField
from pinecart.core.guards import Limits
from pinecart.core.option_spec import (
    CARRY,
    JOB,
    REMOVE,
    Chosen,
    Draft,
    OptionSpec,
    Problems,
    always,
    as_written,
    read_numbers,
)
from pinecart.core.places import ASIDE, lies_in
from pinecart.core.registry import Registry
from pinecart.core.renaming import read_renaming
from pinecart.core.selection import read_size
from pinecart.core.totals import size_text

OPTIONS: Registry[OptionSpec] = Registry("option of a job")
EVERYWHERE = (JOB, CARRY, REMOVE)
KEPT_DAYS = 14  # what is removed is set aside for so long, unless the job says otherwise
REMOVING = (Intent.MIRROR, Intent.HAND_OVER, Intent.REMOVE)
REPLACING = (OnDifference.REPLACE_CHANGED, OnDifference.REPLACE_ALL)
TOUCHING = (Intent.RENEW, Intent.MIRROR, Intent.HAND_OVER)  # what exists there


def of_use(use: str, *, is_of_leg: bool) -> list[OptionSpec]:
    """The options of a job, a one-off transfer or a one-off removal; of a leg, or of the whole."""
    return [o for o in OPTIONS.values() if o.is_of_leg == is_of_leg and use in o.used_in]


def add(option: OptionSpec) -> OptionSpec:
    return OPTIONS.add(option.name, option)


def choices_of(words: Mapping[Any, str], dangers: Collection[Any] = ()) -> tuple[Choice, ...]:
    return tuple(Choice(str(v), title, v in dangers) for v, title in words.items())


# --- what shall be true afterwards

INTENT_WORDS = {
    Intent.TOP_UP: "Adds what is missing there. Nothing that exists there is touched.",
    Intent.RENEW: "Adds what is new and replaces what changed. Nothing is removed.",
    Intent.MIRROR: (
        "Makes an exact copy: adds, replaces, and removes there what the source no longer has."
    ),
    Intent.HAND_OVER: (
        "Moves: adds and replaces, and removes each file at the source once its copy is proven."
    ),
}
INTENT_TITLES = {
    Intent.TOP_UP: "Add what is missing. Nothing that exists there is touched.",
    Intent.RENEW: "Add new, replace changed. Nothing is removed.",
    Intent.MIRROR: "Make an exact copy. Removes there what is gone here.",
    Intent.HAND_OVER: "Move. Removes each file here once its copy is proven.",
}


def _intent_sentence(value: str, chosen: Chosen) -> str:
    return INTENT_WORDS[Intent(value)]


INTENT = add(
    OptionSpec(
        FormField(
            "intent",
            FieldType.CHOICE,
            "What shall be true afterwards",
            "top-up: add what is missing; renew: also replace what changed; mirror: an exact copy, "
            "removes what is gone; hand-over: move, removes at the source after proof.",
            default="renew",
            choices=choices_of(INTENT_TITLES, REMOVING),
        ),
        default=always(Intent.RENEW.value),
        sentence=_intent_sentence,
        is_danger=lambda value, chosen: value in REMOVING,
        is_always_told=True,
    )
)

# --- which files a leg takes


def listed(words: str, values: Iterable[str]) -> str:
    return f"{words}: {', '.join(values)}." if values else ""


def _rule(
    name: str, field_type: FieldType, title: str, help: str, words: str, example: str = ""
) -> OptionSpec:
    """A rule of selection, kept as it was written (core.selection reads it)."""

    def sentence(value: Any, chosen: Chosen) -> str:
        return f"{words} {value}." if value and words else ""

    return add(
        OptionSpec(
            FormField(name, field_type, title, help, example=example, is_common=False),
            default=always(None),
            is_of_leg=True,
            used_in=EVERYWHERE,
            read=as_written,
            sentence=sentence,
        )
    )


add(
    OptionSpec(
        FormField(
            "take",
            FieldType.LIST,
            "Take only",
            "Name patterns: only what matches one is taken.",
            default="everything",
            example="*.flac",
        ),
        default=always([]),
        is_of_leg=True,
        used_in=EVERYWHERE,
        sentence=lambda value, chosen: listed("Takes only", value),
        is_always_told=True,
    )
)
add(
    OptionSpec(
        FormField(
            "leave_out",
            FieldType.LIST,
            "Leave out",
            "Name patterns, such as *.tmp or drafts/**. What is left out is never touched.",
            default="nothing",
            example="*.tmp",
        ),
        default=always([]),
        is_of_leg=True,
        used_in=EVERYWHERE,
        sentence=lambda value, chosen: listed("Leaves out", value),
        is_always_told=True,
    )
)
_rule(
    "larger_than",
    FieldType.SIZE,
    "Larger than",
    "Only files larger than this.",
    "Takes only files larger than",
    "10 MiB",
)
_rule(
    "smaller_than",
    FieldType.SIZE,
    "Smaller than",
    "Only files smaller than this.",
    "Takes only files smaller than",
    "2 GiB",
)
_rule(
    "changed_within",
    FieldType.AGE,
    "Changed within",
    "Only files changed within so long.",
    "Takes only files changed within the last",
    "32 days",
)
_rule(
    "unchanged_for",
    FieldType.AGE,
    "Unchanged for",
    "Only files not changed for so long.",
    "Takes only files not changed for",
    "2 hours",
)
_rule(
    "since",
    FieldType.DATE,
    "Since",
    "Only files changed on or after this day.",
    "Takes only files changed on or after",
    "2026-03-02",
)
_rule(
    "until",
    FieldType.DATE,
    "Until",
    "Only files changed on or before this day.",
    "Takes only files changed on or before",
    "2026-03-31",
)
_rule(
    "ignore_case",
    FieldType.FLAG,
    "Ignore case",
    "Patterns match small and capital letters alike.",
    "",
)

# --- what becomes of them on the way

_FOLDER_SENTENCES = {
    "empty-too": "Empty folders are made as well.",
    "only": "Makes folders only, no files.",
}


def _read_rename(
    field: FormField, value: Any, where: str, reading: Problems
) -> dict[str, str] | None:
    if not isinstance(value, Mapping):
        if value:
            reading.wrong(where, "job.malformed", f"{where} has a pattern and a to.")
        return None
    parts = str(value.get("pattern") or ""), str(value.get("to") or "")
    renaming = reading.nested(read_renaming, *parts, where=where.removesuffix(field.name))
    return renaming and dict(renaming._asdict())


def _rename_sentence(value: Mapping[str, str] | None, chosen: Chosen) -> str:
    if not value:
        return ""
    how = f"{value['pattern']} becomes {value['to']}" if value["pattern"] else value["to"]
    return f"Renames on the way: {how}."


add(
    OptionSpec(
        FormField(
            "folders",
            FieldType.CHOICE,
            "Folders",
            "Which folders are made: those with files, empty ones too, or folders only.",
            default="with-files",
            choices=(
                Choice("with-files", "Those with files"),
                Choice("empty-too", "Empty ones too"),
                Choice("only", "Folders only, no files"),
            ),
            is_common=False,
        ),
        default=always("with-files"),
        is_of_leg=True,
        sentence=lambda value, chosen: _FOLDER_SENTENCES.get(value, ""),
    )
)
add(
    OptionSpec(
        FormField(
            "rename",
            FieldType.RENAMING,
            "New names",
            "A template of {folder} {name} {ending} {year} {month} {day} {counter}; with a "
            "pattern (a regular expression), what replaces it.",
            example="{year}/{name}{ending}",
            is_common=False,
        ),
        default=always(None),
        is_of_leg=True,
        read=_read_rename,
        sentence=_rename_sentence,
    )
)

# --- what happens where both sides have a file

DIFFERENCE_WORDS = {
    OnDifference.KEEP: "A file that exists there and differs is kept as it is.",
    OnDifference.REPLACE_CHANGED: (
        "A file that somebody else changed there is left untouched and listed as a problem."
    ),
    OnDifference.REPLACE_ALL: (
        "A file that differs there is replaced, even where somebody else changed it."
    ),
    OnDifference.KEEP_BOTH: (
        "A file that exists there and differs gets a dated name, and the new one is put beside it."
    ),
    OnDifference.REFUSE: (
        "A file that exists there and differs is listed as a problem and not replaced."
    ),
}
DIFFERENCE_TITLES = {
    OnDifference.REPLACE_CHANGED: (
        "Replace what changed here; leave and list what somebody changed there"
    ),
    OnDifference.KEEP: "Keep the one there",
    OnDifference.KEEP_BOTH: "Keep both: the one there gets a dated name",
    OnDifference.REPLACE_ALL: "Replace it always, even where somebody changed it there",
    OnDifference.REFUSE: "List it as a problem",
}
COMPARISON_WORDS = {
    Comparison.SINCE_LAST_RUN: "A file is copied only if it is new or changed since the last run.",
    Comparison.SIZE_AND_TIME: (
        "A file is copied only if it is not there, or its size or time differs there."
    ),
    Comparison.CHECKSUM: (
        "A file is copied only if it is not there, or its content differs there: contents are "
        "read for it."
    ),
    Comparison.SIZE: (
        "A file is copied only if it is not there, or its size differs there. Equal sizes count "
        "as equal."
    ),
    Comparison.ALWAYS: "Every file is sent again in every run.",
}
COMPARISON_TITLES = {
    Comparison.SINCE_LAST_RUN: "It is new or changed since the last run",
    Comparison.SIZE_AND_TIME: "Its size or time differs there",
    Comparison.CHECKSUM: "Its content differs there (contents are read for it)",
    Comparison.SIZE: "Its size differs there (equal sizes count as equal)",
    Comparison.ALWAYS: "Always: everything is sent again",
}


def _difference_sentence(value: str, chosen: Chosen) -> str:
    is_asked = chosen["intent"] != Intent.TOP_UP
    return DIFFERENCE_WORDS[OnDifference(value)] if is_asked else ""


add(
    OptionSpec(
        FormField(
            "on_difference",
            FieldType.CHOICE,
            "When a name exists there and differs",
            "keep, replace-changed, replace-all, keep-both or refuse.",
            default="replace-changed",
            choices=choices_of(DIFFERENCE_TITLES, [OnDifference.REPLACE_ALL]),
        ),
        default=always(OnDifference.REPLACE_CHANGED.value),
        shown_for=TOUCHING,
        sentence=_difference_sentence,
        is_danger=lambda value, chosen: value == OnDifference.REPLACE_ALL,
        is_always_told=True,
    )
)
add(
    OptionSpec(
        FormField(
            "compare",
            FieldType.CHOICE,
            "A file is carried when",
            "How changed is decided: since-last-run, size-and-time, checksum, size, always.",
            default="since-last-run",
            choices=choices_of(COMPARISON_TITLES),
        ),
        default=always(Comparison.SINCE_LAST_RUN.value),
        sentence=lambda value, chosen: COMPARISON_WORDS[Comparison(value)],
        is_always_told=True,
    )
)

# --- what is kept of what is removed or replaced


def _days_by_default(intent: Intent) -> int:
    return 0 if intent in (Intent.TOP_UP, Intent.RENEW) else KEPT_DAYS


def _aside_sentence(days: int, chosen: Chosen) -> str:
    """What becomes of what is removed or replaced."""
    folder = str(chosen["aside_in"]).rstrip("/")
    where = f" in {folder}" if folder else ""
    kept = f"set aside{where} for {days} days, and can be brought back" if days else "gone for good"
    if chosen["intent"] == Intent.REMOVE:
        return f"What is removed is {kept}."
    if chosen["intent"] in REMOVING:
        return f"What is removed or replaced is {kept}."
    if chosen["intent"] == Intent.TOP_UP or chosen["on_difference"] not in REPLACING:
        return ""  # nothing that exists is touched
    return f"What is replaced is {kept}."


def _read_aside_in(field: FormField, value: Any, where: str, reading: Problems) -> str | None:
    """A folder, from the store's or the bucket's root on; it ends in a `/`."""
    if not isinstance(value, str):
        reading.wrong(where, "job.malformed", f"{where} must be text, not {value!r}.")
        return None
    given = value.strip().strip("/")
    folder = given + "/"
    if not given:
        return None
    if {"", ".", ".."} & set(given.split("/")) or "\0" in given or ASIDE.decode() in folder:
        message = (
            f"{where} {given!r} is no folder: write its path from the store's or the bucket's "
            "root on, such as kept/removed."
        )
        reading.wrong(where, "job.malformed", message)
    return folder


def _lies_outside(folder: str, draft: Draft, reading: Problems) -> None:
    """What is set aside is none of what the job works on."""
    path = folder.encode("utf-8", "surrogateescape")
    for place in draft.places if folder else ():
        below_bucket = place.path.partition(b"/")[2]
        if any(lies_in(p, path) or (p and lies_in(path, p)) for p in (place.path, below_bucket)):
            message = (
                f"{folder.rstrip('/')} and {place} lie in one another: what is set aside must "
                "lie outside of what the job works on."
            )
            reading.wrong("aside_in", "job.aside-inside", message)


add(
    OptionSpec(
        FormField(
            "set_aside",
            FieldType.NUMBER,
            "What is removed or replaced is set aside for",
            "Days that what is removed or replaced is kept; 0: gone for good, at once.",
            default="14 where something is removed, else 0",
            least=0,
            most=3650,
        ),
        default=_days_by_default,
        used_in=EVERYWHERE,
        shown_for=(*TOUCHING, Intent.REMOVE),
        sentence=_aside_sentence,
        is_danger=lambda days, chosen: not days,
    )
)
add(
    OptionSpec(
        FormField(
            "aside_in",
            FieldType.TEXT,
            "Set aside in the folder",
            "The folder to set aside in, from the store's or the bucket's root on.",
            default=".pinecart-aside",
            example="kept/removed",
            is_common=False,
        ),
        default=always(""),
        used_in=EVERYWHERE,
        shown_for=(*TOUCHING, Intent.REMOVE),
        read=_read_aside_in,
        check=_lies_outside,
    )
)


# --- what a move waits for


def _can_wait(names: list[str], draft: Draft, reading: Problems) -> None:
    if names and draft.intent is not Intent.HAND_OVER:
        message = (
            "Only a job that clears its source (hand-over) waits for others; this one is "
            f"{draft.intent.value!r}."
        )
        reading.wrong("waits_for", "job.nothing-to-wait-for", message)
    if draft.job in names:
        reading.wrong("waits_for", "job.nothing-to-wait-for", "A job can't wait for itself.")


def _read_names(field: FormField, value: Any, where: str, reading: Problems) -> list[str] | None:
    if isinstance(value, list) and all(isinstance(v, str) for v in value):
        return sorted(set(value))
    reading.wrong(where, "job.malformed", f"{where} must be a list of jobs.")
    return None


def _waits_sentence(names: list[str], chosen: Chosen) -> str:
    if not names:
        return ""
    return f"Clears a file at the source only once {' and '.join(names)} took it as well."


add(
    OptionSpec(
        FormField(
            "waits_for",
            FieldType.LIST,
            "Waits for",
            "Other jobs that take from the same place: a file is cleared only once they took it "
            "too.",
            default="no other job",
        ),
        default=always([]),
        used_in=(JOB,),
        shown_for=(Intent.HAND_OVER,),
        read=_read_names,
        check=_can_wait,
        sentence=_waits_sentence,
    )
)

# --- what goes with a file, and how it goes


def _is_storage_class(field: FormField, value: Any, where: str, reading: Problems) -> str | None:
    text = value.strip() if isinstance(value, str) else ""
    if re.fullmatch(r"[A-Z0-9_]{1,40}", text):
        return text
    message = f"{value!r} is no storage class: write it as the store does, such as STANDARD."
    reading.wrong(where, "job.malformed", message)
    return None


add(
    OptionSpec(
        FormField(
            "keep",
            FieldType.CHOICES,
            "Keep as well",
            "On files and folders. Type, own metadata and time are always kept. A bucket keeps "
            "the rest as metadata.",
            choices=(
                Choice("permissions", "Permissions"),
                Choice("attributes", "Extended attributes"),
                Choice("tags", "Tags (between buckets)"),
            ),
            is_common=False,
        ),
        default=always([]),
        sentence=lambda value, chosen: f"Keeps {' and '.join(value)}." if value else "",
        is_always_told=True,
    )
)
add(
    OptionSpec(
        FormField(
            "storage_class",
            FieldType.TEXT,
            "Storage class",
            "Of what is written to a bucket.",
            default="the bucket's own",
            example="STANDARD",
            is_common=False,
        ),
        default=always(""),
        read=_is_storage_class,
        sentence=lambda value, chosen: f"Writes with the storage class {value}." if value else "",
        is_always_told=True,
    )
)
add(
    OptionSpec(
        FormField(
            "route",
            FieldType.CHOICE,
            "Inside one storage system",
            "shortest: it copies by itself; through-us: never.",
            default="shortest",
            choices=(
                Choice("shortest", "The system copies by itself"),
                Choice("through-us", "Every byte goes through Pine Cart"),
            ),
            is_common=False,
        ),
        default=always("shortest"),
        sentence=lambda value, chosen: (
            "Every byte goes through Pine Cart, also inside one storage system."
            if value == "through-us"
            else ""
        ),
    )
)
add(
    OptionSpec(
        FormField(
            "rate",
            FieldType.SIZE,
            "Bytes a second, at most",
            "Of the whole run.",
            default="no limit",
            example="10 MiB",
            is_common=False,
        ),
        default=always(None),
        sentence=lambda value, chosen: (
            f"Moves {size_text(read_size(value))} a second at most." if value else ""
        ),
    )
)

# --- when it asks first

GUARD_TITLES = {
    "removals": "Removals",
    "removals_percent": "Removals, % of what is known",
    "replacements_percent": "Replacements, % of what is known",
    "lost_percent": "Gone there, % of what was put there",
}


def _guard_sentence(limits: Mapping[str, int], chosen: Chosen) -> str:
    if not limits:
        return ""
    told = [f"{name.replace('_', ' ')} {number}" for name, number in limits.items()]
    return f"Waits for a yes above limits of its own: {', '.join(told)}."


def _read_guards(
    field: FormField, value: Any, where: str, reading: Problems
) -> dict[str, int] | None:
    given = read_numbers(field, value, where, reading) or {}
    usual = Limits._field_defaults
    return {name: number for name, number in given.items() if number != usual.get(name)}


add(
    OptionSpec(
        FormField(
            "guards",
            FieldType.NUMBERS,
            "Asks first above",
            "More than this waits for a yes.",
            choices=tuple(
                Choice(name, f"{title} (usually {Limits._field_defaults[name]})")
                for name, title in GUARD_TITLES.items()
            ),
            is_common=False,
        ),
        default=always({}),
        read=_read_guards,
        sentence=_guard_sentence,
        is_always_told=True,
    )
)
