"""What holds for all legs of a job: differences, setting aside, keeping, routes, rates, guards."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from pinecart.core.decide import Comparison, Intent, OnDifference
from pinecart.core.form_fields import Choice, FieldType, FormField
from pinecart.core.guards import Limits
from pinecart.core.option_spec import (
    JOB,
    Chosen,
    Draft,
    OptionSpec,
    Problems,
    always,
    is_list_of_texts,
    read_numbers,
)
from pinecart.core.options.registry import (
    EVERYWHERE,
    KEPT_DAYS,
    REMOVING,
    REPLACING,
    TOUCHING,
    add,
    choices_of,
)
from pinecart.core.places import ASIDE, lies_in
from pinecart.core.selection import read_size
from pinecart.core.totals import size_text
from pinecart.core.value_lines import lines_of, read_values

# --- named values


def _read_values(field: FormField, value: Any, where: str, reading: Problems) -> list[str] | None:
    """Lines of name=value, in the order of their names. Each that can't be read is told by itself;
    the others are kept.
    """
    if not is_list_of_texts(value):
        message = f"{where} must be a list of texts, each as name=value."
        reading.wrong(where, "job.malformed", message)
        return None
    found, wrong = read_values(value)
    for message in wrong:
        reading.wrong(where, "job.malformed", f"{where}: {message}")
    return lines_of(found)


add(
    OptionSpec(
        FormField(
            "values",
            FieldType.LIST,
            "Named values",
            "What {name} in from and to stands for: name=value. The service's settings may have "
            "more.",
            example="site=north-fell",
            is_common=False,
        ),
        default=always([]),
        used_in=(JOB,),
        read=_read_values,
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
    if is_asked:
        return DIFFERENCE_WORDS[OnDifference(value)]
    return ""


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
    if intent in (Intent.TOP_UP, Intent.RENEW):
        return 0
    return KEPT_DAYS


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
    """Each once and in order, so that two definitions that name the same jobs are the same
    definition.
    """
    if is_list_of_texts(value):
        names = set(value)
        return sorted(names)
    message = f"{where} must be a list of jobs."
    reading.wrong(where, "job.malformed", message)
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
    """Capital letters, digits and underscores: which of them a store has is its own affair, and
    asked when the job is checked.
    """
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
    """Empty where all limits are the usual ones: a sentence tells only what is special to this
    job.
    """
    if not limits:
        return ""
    told = []
    for name, number in limits.items():
        words = name.replace("_", " ")
        told.append(f"{words} {number}")
    own = ", ".join(told)
    return f"Waits for a yes above limits of its own: {own}."


def _read_guards(
    field: FormField, value: Any, where: str, reading: Problems
) -> dict[str, int] | None:
    """Those that differ from the usual ones, by name. A limit that is given as it is anyway is none
    of the job's own.
    """
    given = read_numbers(field, value, where, reading)
    if given is None:
        return {}
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


def _check_versions(value: Any, draft: Draft, reading: Problems) -> None:
    if value > 1 and draft.intent is Intent.TOP_UP:
        message = (
            "Older versions are carried where what exists there is replaced: choose another intent "
            "than to add what is missing."
        )
        reading.wrong("versions", "job.versions", message)


add(
    OptionSpec(
        FormField(
            "versions",
            FieldType.NUMBER,
            "Versions of each file",
            "How many of a file's last versions are carried, oldest first, where both sides keep "
            "versions.",
            default="1: the present one",
            least=1,
            most=1000,
            is_common=False,
        ),
        default=always(1),
        used_in=(JOB,),
        check=_check_versions,
        shown_for=(Intent.RENEW, Intent.MIRROR, Intent.HAND_OVER),
        sentence=lambda value, chosen: (
            f"Carries the last {value} versions of each file, oldest first." if value > 1 else ""
        ),
    )
)
