"""When a job is audited by itself, and how closely."""

from __future__ import annotations

from typing import Any

from pinecart.core.audit import Depth
from pinecart.core.errors import Invalid
from pinecart.core.form_fields import Choice, FieldType, FormField
from pinecart.core.option_spec import JOB, Chosen, OptionSpec, Problems, always
from pinecart.core.options.registry import add
from pinecart.core.schedule import parse_schedule
from pinecart.core.schedule_words import cron_of

DEPTH_TITLES = {
    Depth.NAMES: "Names and sizes",
    Depth.METADATA: "And what goes with each file",
    Depth.CONTENT: "And content, by checksum",
}


def _read_at(field: FormField, value: Any, where: str, reading: Problems) -> str | None:
    """When to audit: a cron line, or words that mean one, kept as they were written. None: neither
    can be read, which is told.
    """
    text = " ".join(str(value).split())
    try:
        parse_schedule(cron_of(text) or text, "UTC")
    except Invalid as exc:
        reading.wrong(where, "schedule.malformed", f"{where} {text!r}: {exc.message}")
        return None
    return text


def _sentence(value: str, chosen: Chosen) -> str:
    """value: when."""
    if not value:
        return ""
    depth = chosen["audit_depth"]
    sample = chosen["audit_sample"]
    title = DEPTH_TITLES[Depth(depth)]
    how = title[0].lower() + title[1:]
    if sample < 100:
        how += f", of a sample of {sample} %"
    return f"Audited {value}: {how}."


add(
    OptionSpec(
        FormField(
            "audit_at",
            FieldType.TEXT,
            "Audited",
            "When both sides are compared by themselves, on the clock of the job's schedule.",
            default="when somebody starts it",
            example="Sundays 03:00",
            is_common=False,
        ),
        default=always(""),
        used_in=(JOB,),
        read=_read_at,
        sentence=_sentence,
    )
)
add(
    OptionSpec(
        FormField(
            "audit_depth",
            FieldType.CHOICE,
            "How closely",
            "Of audits that start by themselves.",
            default="names",
            choices=tuple(Choice(depth.value, title) for depth, title in DEPTH_TITLES.items()),
            is_common=False,
        ),
        default=always(Depth.NAMES.value),
        used_in=(JOB,),
    )
)
add(
    OptionSpec(
        FormField(
            "audit_sample",
            FieldType.NUMBER,
            "Of so many in a hundred",
            "A random sample: of the others only names and sizes are compared.",
            default="100: of all",
            least=1,
            most=100,
            is_common=False,
        ),
        default=always(100),
        used_in=(JOB,),
    )
)
