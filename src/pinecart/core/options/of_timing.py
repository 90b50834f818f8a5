"""When a job that starts by itself may start, and what becomes of a start that can't be."""

from __future__ import annotations

from typing import Any

from pinecart.core.form_fields import Choice, FieldType, FormField
from pinecart.core.hours import parse_hours
from pinecart.core.option_spec import JOB, Chosen, OptionSpec, Problems, always
from pinecart.core.options.registry import add
from pinecart.core.periods import MOST_DAYS
from pinecart.core.selection import read_span

OVERLAP_WORDS = {
    "skip": "",
    "wait": "A start that comes while a run is under way waits for its end.",
}
CATCH_UP_WORDS = {
    "one": "",
    "skip": "A start that was missed while the service was off is left out.",
    "each": "After an outage each missed start is made up for, one after another.",
}


def _read_hours(field: FormField, value: Any, where: str, reading: Problems) -> str | None:
    """Kept as written, once it has been seen that it can be read. None: it can't be, and what is
    wrong was told there.
    """
    text = " ".join(str(value).split())
    found = reading.nested(parse_hours, text, where=where.removesuffix(field.name))
    if found:
        return text
    return None


def _read_spread(field: FormField, value: Any, where: str, reading: Problems) -> str | None:
    """A span such as `10 min`, kept as written, once it has been seen that it can be read. None: it
    can't, which is told.
    """
    text = " ".join(str(value).split())
    try:
        read_span(text)
    except ValueError as exc:
        reading.wrong(where, "schedule.malformed", f"{where} {text!r}: {exc}")
        return None
    return text


def _hours_sentence(value: str, chosen: Chosen) -> str:
    """Empty where it may work at any time. Hours without a zone are those of UTC, and the sentence
    says so.
    """
    if not value:
        return ""
    hours, _, zone = value.partition(" ")
    where = f" ({zone})" if zone else " (UTC)"
    return f"Works only at {hours}{where}: outside it pauses, and goes on by itself."


add(
    OptionSpec(
        FormField(
            "hours",
            FieldType.TEXT,
            "Allowed hours",
            "Outside them a run pauses, and goes on by itself.",
            default="at any time",
            example="22:00-06:00 Europe/London",
            is_common=False,
        ),
        default=always(""),
        used_in=(JOB,),
        read=_read_hours,
        sentence=_hours_sentence,
    )
)
PRIORITY_WORDS = {
    "first": "Its runs go before others that wait.",
    "usual": "",
    "last": "Its runs go after others that wait.",
}
add(
    OptionSpec(
        FormField(
            "priority",
            FieldType.CHOICE,
            "Where runs wait",
            "Which of those that wait goes next.",
            default="usual",
            choices=(
                Choice("first", "Before others"),
                Choice("usual", "In turn"),
                Choice("last", "After others"),
            ),
            is_common=False,
        ),
        default=always("usual"),
        used_in=(JOB,),
        sentence=lambda value, chosen: PRIORITY_WORDS[value],
    )
)
add(
    OptionSpec(
        FormField(
            "overlap",
            FieldType.CHOICE,
            "When a run is still under way",
            "What becomes of a start by itself then.",
            default="skip",
            choices=(
                Choice("skip", "It is left out, and recorded"),
                Choice("wait", "It waits for the end"),
            ),
            is_common=False,
        ),
        default=always("skip"),
        used_in=(JOB,),
        sentence=lambda value, chosen: OVERLAP_WORDS[value],
    )
)
add(
    OptionSpec(
        FormField(
            "catch_up",
            FieldType.CHOICE,
            "After an outage",
            "What becomes of the starts that were missed.",
            default="one",
            choices=(
                Choice("one", "One run for all"),
                Choice("skip", "None: the next one as planned"),
                Choice("each", "One for each"),
            ),
            is_common=False,
        ),
        default=always("one"),
        used_in=(JOB,),
        sentence=lambda value, chosen: CATCH_UP_WORDS[value],
    )
)
add(
    OptionSpec(
        FormField(
            "spread",
            FieldType.AGE,
            "Spread starts over",
            "Starts by itself up to so much later, so that many jobs don't start at once.",
            default="no time",
            example="10 minutes",
            is_common=False,
        ),
        default=always(""),
        used_in=(JOB,),
        read=_read_spread,
        sentence=lambda value, chosen: (
            f"Starts by itself up to {value} later than it is due." if value else ""
        ),
    )
)
add(
    OptionSpec(
        FormField(
            "keep_records",
            FieldType.NUMBER,
            "Records are kept for",
            "Days that what was done to each file is kept; its totals stay. 0: without end.",
            default="as the service's settings say",
            least=0,
            most=MOST_DAYS,
            is_common=False,
        ),
        default=always(None),
        used_in=(JOB,),
        sentence=lambda value, chosen: (
            "" if value is None else f"What was done to each file is kept for {value} days."
        ),
    )
)
