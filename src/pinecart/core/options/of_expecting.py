"""What is expected of a job's runs: who is to be told hears of it when it doesn't come."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from pinecart.core.expectations import read_range, read_time
from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.option_spec import JOB, Chosen, OptionSpec, Problems, always
from pinecart.core.options.registry import add
from pinecart.core.selection import read_span


def _expectation(field: FormField, reads: Callable[[str], Any], words: str) -> None:
    """Registers an option of jobs.   reads: raises ValueError for what it can't read.   words:
    its sentence, with the value at {}.
    """

    def read(field: FormField, value: Any, where: str, reading: Problems) -> str | None:
        """Kept as it was written, without doubled spaces, once it has been seen that it can be
        read. None: it can't, which is told.
        """
        text = " ".join(str(value).split())
        try:
            reads(text)
        except ValueError as exc:
            message = f"{where} {text!r}: {exc}"
            reading.wrong(where, "job.expectation", message)
            return None
        return text

    def sentence(value: str, chosen: Chosen) -> str:
        if value:
            return words.format(value)
        return ""

    default = always("")
    add(OptionSpec(field, default=default, used_in=(JOB,), read=read, sentence=sentence))


_expectation(
    FormField(
        "expect_new",
        FieldType.TEXT,
        "Something new at least every",
        "If nothing new was carried for so long, whoever is to be told hears of it.",
        default="whenever",
        example="32 days",
        is_common=False,
    ),
    read_span,
    "Something new is expected at least once in {}.",
)
_expectation(
    FormField(
        "expect_by",
        FieldType.TEXT,
        "Done by",
        "A time of the day, on the clock of its schedule, by which it has run well when it was "
        "due.",
        default="at any time",
        example="06:00",
        is_common=False,
    ),
    read_time,
    "It is expected to be done by {}.",
)
_expectation(
    FormField(
        "expect_files",
        FieldType.TEXT,
        "Files in a run",
        "From so many to so many are expected to be carried by a run.",
        default="any number",
        example="300-500",
        is_common=False,
    ),
    read_range,
    "{} files are expected in a run.",
)
