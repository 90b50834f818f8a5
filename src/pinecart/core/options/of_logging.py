"""Where what a run tells is written down as well."""

from __future__ import annotations

from typing import Any

from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.option_spec import JOB, OptionSpec, Problems, always
from pinecart.core.options.registry import add
from pinecart.core.places import ASIDE, lies_in, parse_location


def _read_file(field: FormField, value: Any, where: str, reading: Problems) -> str | None:
    text = str(value).strip()
    place = reading.nested(parse_location, text)
    if place is None:
        return None
    if not place.path or place.path.endswith(b"/") or lies_in(place.path, ASIDE):
        message = f"{where}: {text} is no file. Write it as pine://STORE/FOLDER/NAME."
        reading.wrong(where, "log.no-file", message)
        return None
    return text


add(
    OptionSpec(
        FormField(
            "log_file",
            FieldType.TEXT,
            "Log appended to",
            "A file of a folder store that each line of its runs' logs is appended to, as JSON.",
            default="only its own log",
            example="pine://logs/pinecart/dawn.jsonl",
            is_common=False,
        ),
        default=always(""),
        used_in=(JOB,),
        read=_read_file,
        sentence=lambda value, chosen: (
            f"Each line of its log is appended to {value} as well." if value else ""
        ),
    )
)
