"""Which files a leg takes, and what becomes of them on the way."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pinecart.core.form_fields import Choice, FieldType, FormField
from pinecart.core.option_spec import (
    JOB,
    Chosen,
    OptionSpec,
    Problems,
    always,
    as_written,
)
from pinecart.core.options.registry import EVERYWHERE, add, listed
from pinecart.core.renaming import read_renaming


def _rule(
    name: str, field_type: FieldType, title: str, help: str, words: str, example: str = ""
) -> OptionSpec:
    """A rule of selection, kept as it was written (core.selection reads it)."""

    def sentence(value: Any, chosen: Chosen) -> str:
        if value and words:
            return f"{words} {value}."
        return ""

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

add(
    OptionSpec(
        FormField(
            "switched_off",
            FieldType.FLAG,
            "Switched off",
            "Nothing of this leg is done; what it remembers stays.",
            is_common=False,
        ),
        default=always(False),
        is_of_leg=True,
        used_in=(JOB,),
        sentence=lambda value, chosen: (
            "This leg is switched off: it does nothing." if value else ""
        ),
    )
)

YOUNGER_WORDS = {
    "": "",
    "leg": "Takes only what is younger than the youngest file there.",
    "folder": "Takes only what is younger than the youngest file in its folder there.",
}
_OVERTAKES = (
    " What failed once, or came late with an older time, is then left out, and counted as such."
)
add(
    OptionSpec(
        FormField(
            "younger_than_there",
            FieldType.CHOICE,
            "Only what is younger",
            "Only files younger than the youngest that lies there already.",
            default="whatever their time",
            choices=(
                Choice("leg", "Than the youngest of all there", is_danger=True),
                Choice("folder", "Than the youngest in its folder there", is_danger=True),
            ),
            is_common=False,
        ),
        default=always(""),
        is_of_leg=True,
        sentence=lambda value, chosen: YOUNGER_WORDS[value] + (_OVERTAKES if value else ""),
        is_danger=lambda value, chosen: bool(value),
    )
)
add(
    OptionSpec(
        FormField(
            "open_files",
            FieldType.CHOICE,
            "Files that are being written",
            "What becomes of a file that changes while it is read.",
            default="try",
            choices=(
                Choice("try", "Tried three times, then listed"),
                Choice("leave", "Listed at once"),
            ),
            is_common=False,
        ),
        default=always("try"),
        is_of_leg=True,
        sentence=lambda value, chosen: (
            "A file that changes while it is read is listed at once." if value == "leave" else ""
        ),
    )
)


def _read_snapshot(field: FormField, value: Any, where: str, reading: Problems) -> str | None:
    text = str(value).strip().lstrip("/")
    leads_away = "pine:" in text or ".." in text.split("/")
    if leads_away or not text:
        message = f"{where} {value!r} is no folder of the source's store: .snapshots/daily/posts/"
        reading.wrong(where, "job.malformed", message)
        return None
    if not text.endswith("/"):
        text += "/"
    return text


add(
    OptionSpec(
        FormField(
            "snapshot",
            FieldType.TEXT,
            "Read from a snapshot",
            "A folder of the same store that holds the source as it was at one moment: its files "
            "are read there, and are called as at the source.",
            default="the source itself",
            example=".snapshots/daily/posts/",
            is_common=False,
        ),
        default=always(""),
        is_of_leg=True,
        used_in=(JOB,),
        read=_read_snapshot,
        sentence=lambda value, chosen: (
            f"Reads its files from the snapshot at {value}." if value else ""
        ),
    )
)

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
    pattern = str(value.get("pattern") or "")
    to = str(value.get("to") or "")
    of_leg = where.removesuffix(field.name)
    renaming = reading.nested(read_renaming, pattern, to, where=of_leg)
    return renaming and dict(renaming._asdict())


def _rename_sentence(value: Mapping[str, str] | None, chosen: Chosen) -> str:
    """Without a pattern every name is made anew from the template alone."""
    if not value:
        return ""
    pattern = value["pattern"]
    to = value["to"]
    if pattern:
        return f"Renames on the way: {pattern} becomes {to}."
    return f"Renames on the way: {to}."


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
